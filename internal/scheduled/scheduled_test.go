package scheduled_test

import (
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/schedule"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/scheduled"
	"tidemarker/internal/standin"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
	"tidemarker/internal/testsite"
)

func TestMain(m *testing.M) { testdb.Main(m) }

type bench struct {
	*testing.T
	*scheduled.Desk
	site       int64
	production *standin.Instance
	envs       store.ByRole
	now        time.Time
	grounds    *testsite.Site
}

func newBench(t *testing.T) *bench {
	t.Parallel()
	s := testsite.New(t)
	b := &bench{T: t, site: s.ID, production: s.Production, envs: s.Environments(), grounds: s, now: time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)}
	b.Desk = &scheduled.Desk{Store: s.Desk.Store, Runner: s.Desk.Runner, Clock: func() time.Time { return b.now }}
	return b
}

// marked says that production was seen to work as it is.
func (b *bench) marked() {
	b.Helper()
	b.grounds.Marked(b.envs.Production)
}

// checks are the scheduled checks so far, the oldest first.
func (b *bench) checks() (out []store.Run) {
	b.Helper()
	runs, err := b.Store.Runs(b.Context(), b.site, 100)
	require.NoError(b, err)
	for i := range runs {
		if r := runs[len(runs)-1-i]; r.Kind == release.CheckRun {
			out = append(out, r)
		}
	}
	return out
}

// goOn lets several processes look at once.
func (b *bench) goOn() {
	b.Helper()
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() { assert.NoError(b, b.GoOn(b.Context())) })
	}
	all.Wait()
}

var marin, vera = changes.By{Who: "marin"}, changes.By{Who: "vera", Decides: true}

var each = schedule.Schedule{What: schedule.Check, Begins: "2026-11-01T04:00", Zone: "UTC", Rule: "FREQ=DAILY"}

func TestAMonthOfScheduledChecksOfWhichSomeAreMissed(t *testing.T) {
	b := newBench(t)
	b.marked()
	_, err := b.Add(t.Context(), b.site, each, marin)
	require.NoError(t, err)
	for day := range 30 {
		if day >= 10 && day < 17 {
			continue // nobody is there
		}
		for _, hour := range []int{3, 4, 5, 20} {
			b.now = time.Date(2026, 11, 1+day, hour, 0, 0, 0, time.UTC)
			b.goOn()
			for _, r := range b.checks() {
				if r.State == release.Queued {
					require.NoError(t, b.Runner.Stop(t.Context(), r.ID))
				}
			}
		}
	}
	// 23 days on which somebody was there; what was missed came once, before 04:00 of the day on which they were back.
	assert.Equal(t, 24, len(b.checks()))
	assert.Equal(t, "marin’s schedule", b.checks()[0].RequestedBy)
}

func TestAScheduledCheckWaitsForWhatIsUnderWayAndIsBegunOnce(t *testing.T) {
	b := newBench(t)
	b.marked()
	id, err := b.Add(t.Context(), b.site, each, marin)
	require.NoError(t, err)
	other, err := b.Runner.Start(t.Context(), store.Run{SiteID: b.site, EnvironmentID: b.envs.Production.ID, Kind: release.IsolationRun, RequestedBy: "vera"})
	require.NoError(t, err)
	for _, hour := range []int{4, 5, 28} {
		b.now = time.Date(2026, 11, 1, hour, 0, 0, 0, time.UTC)
		b.goOn()
	}
	assert.Empty(t, b.checks())
	s, err := b.Store.Schedule(t.Context(), id)
	require.NoError(t, err)
	assert.Contains(t, s.Said, "is under way on production")
	require.NoError(t, b.Runner.Stop(t.Context(), other.ID))
	b.goOn()
	require.Len(t, b.checks(), 1)
	s, err = b.Store.Schedule(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, b.checks()[0].ID, *s.LastRun)
	assert.Empty(t, s.Said)
}

func TestWithoutAMarkNothingIsCheckedAndThatIsSaid(t *testing.T) {
	b := newBench(t)
	id, err := b.Add(t.Context(), b.site, each, marin)
	require.NoError(t, err)
	b.now = time.Date(2026, 11, 1, 4, 0, 0, 0, time.UTC)
	b.goOn()
	assert.Empty(t, b.checks())
	s, err := b.Store.Schedule(t.Context(), id)
	require.NoError(t, err)
	assert.Contains(t, s.Said, "has no mark to compare with")
}

func TestAScheduledReadingFindsWhatWasChangedOutside(t *testing.T) {
	b := newBench(t)
	drift := each
	drift.What = schedule.Drift
	id, err := b.Add(t.Context(), b.site, drift, marin)
	require.NoError(t, err)
	now, etag := b.production.Layer.Settings()
	_, ok := b.production.Layer.Replace(now.With(settings.Values{"markup.compact": true}), etag)
	require.True(t, ok)
	b.now = time.Date(2026, 11, 1, 4, 0, 0, 0, time.UTC)
	b.goOn()
	drifts, err := b.Store.OpenDrifts(t.Context(), b.site)
	require.NoError(t, err)
	assert.Len(t, drifts, 1)
	require.NoError(t, b.production.Close())
	b.now = b.now.AddDate(0, 0, 1)
	b.goOn()
	s, err := b.Store.Schedule(t.Context(), id)
	require.NoError(t, err)
	assert.Contains(t, s.Said, "production could not be read")
}

func TestAScheduleIsPausedEditedAndEnded(t *testing.T) {
	b := newBench(t)
	b.marked()
	id, err := b.Add(t.Context(), b.site, each, marin)
	require.NoError(t, err)
	require.NoError(t, b.Edit(t.Context(), id, 1, each, true, vera))
	require.ErrorIs(t, b.Edit(t.Context(), id, 1, each, false, marin), scheduled.ErrEdited)
	b.now = time.Date(2026, 11, 3, 12, 0, 0, 0, time.UTC)
	b.goOn()
	assert.Empty(t, b.checks())
	require.NoError(t, b.Edit(t.Context(), id, 2, each, false, vera))
	b.goOn()
	assert.Empty(t, b.checks(), "what was due while it was paused is not caught up")
	require.NoError(t, b.Remove(t.Context(), id, "vera"))
	require.ErrorIs(t, b.Remove(t.Context(), id, "vera"), store.ErrNotFound)
	wrong := each
	wrong.Rule = "FREQ=SECONDLY"
	_, err = b.Add(t.Context(), b.site, wrong, marin)
	require.ErrorAs(t, err, new(*scheduled.NotRight))
}
