package run_test

import (
	"io"
	"net/http"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/notice"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/schedule"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/standin/origin"
	"tidemarker/internal/store"
)

// tidying is a bench on whose production a tidy of spam was carried out once, with a schedule of it.
type tidying struct {
	*bench
	change   store.Change
	schedule int64
	site     *troubled
}

func newTidying(t *testing.T) *tidying {
	b := &tidying{bench: newBench(t, tiny())}
	b.site = b.trouble(1)
	b.mark(0)
	b.mark(1)
	c, fp := b.begin(settings.Values{"tidy.spam": true, "tidy.keep": 4})
	for i, kind := range []release.RunKind{release.TryRun, release.PromoteRun} {
		require.NoError(t, b.store.RecordBackup(t.Context(), b.envs[i].ID, "vault", "ada"))
		b.move(c, []release.Event{release.Try, release.Tidy}[i])
		r := b.carryOut(store.Run{EnvironmentID: b.envs[i].ID, ChangeID: &c.ID, Kind: kind, Target: fp})
		require.Equal(t, evidence.VerdictClear, r.Verdict, r.Summary)
		c = b.bench.change(c.ID)
	}
	b.change = c
	require.Equal(t, release.Marked, c.State)
	again := schedule.Schedule{What: schedule.Tidy, Begins: "2026-11-01T04:00", Zone: "UTC", Rule: "FREQ=WEEKLY", Tidy: &schedule.Again{Change: c.ID, Most: 40}}
	var err error
	b.schedule, err = b.store.NewSchedule(t.Context(), store.Schedule{SiteID: b.bench.site.ID, Schedule: store.JSON[schedule.Schedule]{V: again}, MadeBy: "vera"}, time.Now().Add(-time.Hour))
	require.NoError(t, err)
	return b
}

// begun is a run of the tidy, as the schedule begins it.
func (b *tidying) begun() int64 {
	b.Helper()
	id, err := b.store.NewRun(b.Context(), store.Run{SiteID: b.bench.site.ID, EnvironmentID: b.envs[1].ID, Kind: release.TidyRun, RequestedBy: "vera’s schedule",
		Tidy: store.JSON[*schedule.Work]{V: &schedule.Work{Schedule: b.schedule, At: time.Now(), Keys: []string{"tidy.spam"}, Most: 40}}})
	require.NoError(b, err)
	return id
}

// would is how much spam the tidy would delete.
func (b *tidying) would() int {
	b.Helper()
	env, _, err := b.runner.Acts.Read(b.Context(), b.envs[1].ID)
	require.NoError(b, err)
	d, _ := env.Catalogue.V.Find("tidy.spam")
	require.NotNil(b, d.Records)
	return *d.Records
}

// told is what people are told of tidies, the oldest first.
func (b *tidying) told() (texts []string) {
	b.Helper()
	rows, err := b.store.Pool.Query(b.Context(), `SELECT text FROM notices WHERE topic = $1 ORDER BY id`, notice.Tidied)
	require.NoError(b, err)
	defer rows.Close()
	for rows.Next() {
		var s string
		require.NoError(b, rows.Scan(&s))
		texts = append(texts, s)
	}
	return texts
}

func TestATidyThatRecursDeletesWhatHasGatheredAndLooks(t *testing.T) {
	b := newTidying(t)
	before := b.env(1).Fingerprint
	b.production.Gather(origin.Spam, 20)
	id := b.begun()
	require.NoError(t, b.runner.Run(t.Context(), id))
	r := b.run(id)
	assert.Equal(t, evidence.VerdictClear, r.Verdict, r.Summary)
	assert.Contains(t, r.Summary, ": 20 records before, 0 after. ")
	assert.Zero(t, b.would())
	assert.Equal(t, before, b.env(1).Fingerprint, "what is in force is what it was")
	assert.Equal(t, release.Marked, b.bench.change(b.change.ID).State)
	placed, err := b.store.Placed(t.Context(), b.envs[1].ID)
	require.NoError(t, err)
	way, ok := release.Back(release.Record(placed), b.change.ID)
	assert.True(t, ok, "production has the change by the record, too")
	assert.Equal(t, b.change.Base, way.To)
	acts, err := b.store.RunActs(t.Context(), id)
	require.NoError(t, err)
	require.Len(t, acts, 2)
	assert.Equal(t, []string{before, before}, []string{acts[0].Predecessor, acts[1].Fingerprint})
	require.Len(t, b.told(), 1)
	assert.Contains(t, b.told()[0], "20 records before, 0 after")

	past, err := b.store.Carried(t.Context(), b.schedule, time.Time{})
	require.NoError(t, err)
	require.Len(t, past, 1)
	assert.Equal(t, 20, past[0].Records)
}

func TestATidyThatWouldDeleteTooMuchDeletesNothingAndIsPaused(t *testing.T) {
	b := newTidying(t)
	b.production.Gather(origin.Spam, 41)
	id := b.begun()
	require.NoError(t, b.runner.Run(t.Context(), id))
	r := b.run(id)
	assert.Equal(t, release.Failed, r.State)
	assert.Equal(t, evidence.VerdictNotChecked, r.Verdict)
	assert.Contains(t, r.Problem, "41 records would be deleted, and at most 40 may be")
	assert.Equal(t, 41, b.would(), "nothing was deleted")
	acts, err := b.store.RunActs(t.Context(), id)
	require.NoError(t, err)
	assert.Empty(t, acts)
	s, err := b.store.Schedule(t.Context(), b.schedule)
	require.NoError(t, err)
	assert.True(t, s.Paused)
	assert.Contains(t, s.Said, "at most 40 may be")
	require.Len(t, b.told(), 1)
	assert.Contains(t, b.told()[0], "is paused")
	past, err := b.store.Carried(t.Context(), b.schedule, time.Time{})
	require.NoError(t, err)
	assert.Empty(t, past, "what was not carried out is not usual")
}

func TestATidyWithoutARecentBackupDeletesNothing(t *testing.T) {
	b := newTidying(t)
	b.production.Gather(origin.Spam, 20)
	_, err := b.store.Pool.Exec(t.Context(), `UPDATE backups SET at = at - interval '2 days'`)
	require.NoError(t, err)
	id := b.begun()
	require.NoError(t, b.runner.Run(t.Context(), id))
	assert.Contains(t, b.run(id).Problem, "no backup of production")
	assert.Equal(t, 20, b.would())
}

// The site is lost with the first of the two acts, or with the second: what was switched off is switched on again when it answers, and what was
// deleted is not deleted once more.
func TestATidyThatIsCutOffIsFinishedOnce(t *testing.T) {
	for name, lostWith := range map[string]int32{"switching off": 1, "deleting": 2} {
		t.Run(name, func(t *testing.T) {
			b := newTidying(t)
			before := b.env(1).Fingerprint
			b.production.Gather(origin.Spam, 20)
			var puts atomic.Int32
			b.site.answer(func(w http.ResponseWriter, applied func() *http.Response) {
				if puts.Add(1) == lostWith {
					b.site.leave(true)
					appliesAndHangsUp(w, applied)
				}
				relays(w, applied)
			})
			id := b.begun()
			require.NoError(t, b.runner.Run(t.Context(), id))
			require.Equal(t, release.Unsettled, b.run(id).State)
			if lostWith == 2 {
				b.production.Gather(origin.Spam, 3) // comes meanwhile, and is for the next time
			}
			b.back(b.site)
			r := b.run(id)
			assert.Equal(t, evidence.VerdictClear, r.Verdict, "%s %s", r.Summary, r.Problem)
			assert.Equal(t, before, b.env(1).Fingerprint)
			assert.Equal(t, map[int32]int{1: 0, 2: 3}[lostWith], b.would())
			acts, err := b.store.RunActs(t.Context(), id)
			require.NoError(t, err)
			assert.Len(t, acts, 2, "each is done once")
		})
	}
}

// Somebody stops it in the moment in which it deletes: that is not left half done, and is said.
func TestATidyThatIsStoppedWhileItDeletesSaysThatItDid(t *testing.T) {
	b := newTidying(t)
	before := b.env(1).Fingerprint
	b.production.Gather(origin.Spam, 20)
	id := b.begun()
	var puts atomic.Int32
	b.site.answer(func(w http.ResponseWriter, applied func() *http.Response) {
		if puts.Add(1) == 1 {
			assert.NoError(t, b.runner.Stop(t.Context(), id))
			assert.Eventually(t, func() bool { asked, err := b.store.StopAsked(t.Context(), id); return err == nil && asked }, patience, 10*time.Millisecond)
		}
		relays(w, applied)
	})
	require.NoError(t, b.runner.Run(t.Context(), id))
	b.site.answer(nil)
	r := b.run(id)
	assert.Equal(t, release.Stopped, r.State)
	if b.would() == 0 {
		assert.Contains(t, r.Summary, "The records were deleted.")
	} else {
		assert.Contains(t, r.Summary, "nothing was deleted")
	}
	assert.Equal(t, before, b.env(1).Fingerprint, "what was switched off is on again")
	s, err := b.store.Schedule(t.Context(), b.schedule)
	require.NoError(t, err)
	assert.True(t, s.Paused)
}

// relays hands an answer on as it is.
func relays(w http.ResponseWriter, applied func() *http.Response) {
	res := applied()
	defer res.Body.Close()
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("ETag", res.Header.Get("ETag"))
	w.WriteHeader(res.StatusCode)
	_, _ = io.Copy(w, res.Body)
}
