package scheduled_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/calendar"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/notice"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/schedule"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/scheduled"
	"tidemarker/internal/store"
)

// weekly is a tidy of what a change deletes, on Mondays.
func weekly(change int64) schedule.Schedule {
	return schedule.Schedule{What: schedule.Tidy, Begins: "2026-11-02T04:00", Zone: "UTC", Rule: "FREQ=WEEKLY", Tidy: &schedule.Again{Change: change, Most: 500}}
}

// tidied is a bench with a change that deleted spam on production.
func tidied(t *testing.T) (*bench, store.Change) {
	b := newBench(t)
	c, _ := b.grounds.Promoted("No spam", settings.Values{"tidy.spam": true})
	require.NoError(t, b.Runner.Acts.ReadAll(t.Context()))
	return b, c
}

// tidies are the runs that tidied so far, or are to, the oldest first.
func (b *bench) tidies() (out []store.Run) {
	b.Helper()
	runs, err := b.Store.Runs(b.Context(), b.site, 100)
	require.NoError(b, err)
	for i := range runs {
		if r := runs[len(runs)-1-i]; r.Kind == release.TidyRun {
			out = append(out, r)
		}
	}
	return out
}

func (b *bench) backup(at time.Time) {
	b.Helper()
	require.NoError(b, b.Store.RecordBackup(b.Context(), b.envs.Production.ID, "vault", "ada"))
	_, err := b.Store.Pool.Exec(b.Context(), `UPDATE backups SET at = $1`, at)
	require.NoError(b, err)
}

func (b *bench) schedule(id int64) store.Schedule {
	b.Helper()
	s, err := b.Store.Schedule(b.Context(), id)
	require.NoError(b, err)
	return s
}

func (b *bench) told() (n int) {
	b.Helper()
	require.NoError(b, b.Store.Pool.QueryRow(b.Context(), `SELECT count(*) FROM notices WHERE topic = $1`, notice.Tidied).Scan(&n))
	return n
}

func TestAScheduledTidyWaitsForABackupAndSaysSoOnce(t *testing.T) {
	b, c := tidied(t)
	id, err := b.Add(t.Context(), b.site, weekly(c.ID), vera)
	require.NoError(t, err)
	b.now = time.Date(2026, 11, 2, 4, 0, 0, 0, time.UTC)
	b.goOn()
	b.goOn()
	assert.Empty(t, b.tidies())
	assert.Contains(t, b.schedule(id).Said, "It waits for a backup of production")
	assert.Equal(t, 1, b.told())

	b.backup(time.Now().Add(-25 * time.Hour))
	b.goOn()
	assert.Empty(t, b.tidies(), "a backup counts for a day")
	b.backup(time.Now())
	b.goOn()
	require.Len(t, b.tidies(), 1)
	r := b.tidies()[0]
	assert.Equal(t, []string{"tidy.spam"}, r.Tidy.V.Keys)
	assert.Equal(t, 500, r.Tidy.V.Most)
	assert.Equal(t, b.envs.Production.ID, r.EnvironmentID)
	assert.Empty(t, b.schedule(id).Said)
}

func TestAScheduledTidyWaitsOutAFreeze(t *testing.T) {
	b, c := tidied(t)
	b.backup(time.Now())
	id, err := b.Add(t.Context(), b.site, weekly(c.ID), vera)
	require.NoError(t, err)
	_, err = b.grounds.Desk.AddEntry(t.Context(), &b.site, calendar.Entry{Kind: calendar.Freeze, Title: "The sale", Begins: "2026-11-01T00:00", Ends: "2026-11-03T00:00", Zone: "UTC"}, "vera")
	require.NoError(t, err)
	b.now = time.Date(2026, 11, 2, 4, 0, 0, 0, time.UTC)
	b.goOn()
	assert.Empty(t, b.tidies())
	assert.Contains(t, b.schedule(id).Said, "The sale")
	b.now = time.Date(2026, 11, 3, 0, 1, 0, 0, time.UTC)
	b.goOn()
	assert.Len(t, b.tidies(), 1)
}

func TestATidyWhoseChangeIsNotInForceAnyMoreIsPaused(t *testing.T) {
	b, c := tidied(t)
	b.backup(time.Now())
	id, err := b.Add(t.Context(), b.site, weekly(c.ID), vera)
	require.NoError(t, err)
	ok, err := b.Store.MoveChange(t.Context(), c.ID, c.State, release.RolledBack, "Rolled back.")
	require.NoError(t, err)
	require.True(t, ok)
	b.now = time.Date(2026, 11, 2, 4, 0, 0, 0, time.UTC)
	b.goOn()
	assert.Empty(t, b.tidies())
	s := b.schedule(id)
	assert.True(t, s.Paused)
	assert.Contains(t, s.Said, "“No spam” is rolled back")
	assert.Equal(t, 1, b.told())
	err = b.Edit(t.Context(), id, s.Version, s.Schedule.V, false, vera)
	assert.ErrorContains(t, err, "is rolled back", "it is not taken up again like this")
}

func TestWhatDeletesDataAgainAndAgainIsAnApproversDecision(t *testing.T) {
	b, c := tidied(t)
	_, err := b.Add(t.Context(), b.site, weekly(c.ID), marin)
	require.ErrorAs(t, err, new(*changes.Conflict))
	id, err := b.Add(t.Context(), b.site, weekly(c.ID), vera)
	require.NoError(t, err)
	more := weekly(c.ID)
	more.Tidy.Most = 100_000
	require.ErrorAs(t, b.Edit(t.Context(), id, 1, more, true, marin), new(*changes.Conflict), "nor may anybody else let it delete more")
	require.NoError(t, b.Edit(t.Context(), id, 1, weekly(c.ID), true, marin), "everybody who works here may pause it")
	require.ErrorAs(t, b.Edit(t.Context(), id, 2, weekly(c.ID), false, marin), new(*changes.Conflict))
	require.NoError(t, b.Edit(t.Context(), id, 2, weekly(c.ID), false, vera))
	require.ErrorAs(t, b.Edit(t.Context(), id, 3, each, false, vera), new(*scheduled.NotRight), "it does not become something else")

	harmless, _ := b.grounds.Promoted("Compact", settings.Values{"markup.compact": true})
	_, err = b.Add(t.Context(), b.site, weekly(harmless.ID), vera)
	assert.ErrorContains(t, err, "“Compact” deletes nothing")
	_, err = b.Add(t.Context(), b.site, weekly(9999), vera)
	assert.ErrorContains(t, err, "no change 9999")
}

// Most of a year of a weekly tidy in which backups come or do not, freezes begin and end, and some weeks nobody is there: it is never begun
// in a freeze or without a backup, never twice for the same time, and at last whenever it may.
func TestAScheduledTidyKeepsItsRulesForMonths(t *testing.T) {
	b, c := tidied(t)
	id, err := b.Add(t.Context(), b.site, weekly(c.ID), vera)
	require.NoError(t, err)
	freeze, thawed := int64(0), time.Time{}
	backed := false
	day := 0
	rapid.Check(t, func(r *rapid.T) {
		day += rapid.IntRange(1, 5).Draw(r, "days")
		b.now = time.Date(2026, 11, 2+day, 5, 0, 0, 0, time.UTC)
		switch rapid.IntRange(0, 5).Draw(r, "what happens") {
		case 0:
			if thawed.Before(b.now) {
				thawed = b.now.AddDate(0, 0, 10)
				freeze, err = b.grounds.Desk.AddEntry(t.Context(), &b.site, calendar.Entry{Kind: calendar.Freeze, Title: "Freeze", Begins: b.now.Format(calendar.Clock), Ends: thawed.Format(calendar.Clock), Zone: "UTC"}, "vera")
				require.NoError(r, err)
			}
		case 1, 2:
			if b.now.Before(thawed) {
				_, err := b.Store.RemoveCalendarEntry(t.Context(), freeze, 1)
				require.NoError(r, err)
				thawed = time.Time{}
			}
		case 3:
			b.backup(time.Now().Add(-48 * time.Hour))
			backed = false
		default:
			b.backup(time.Now())
			backed = true
		}
		before := b.schedule(id)
		line, err := schedule.Read(before.Schedule.V, time.LoadLocation)
		require.NoError(r, err)
		due, is := line.Due(before.LastDue, b.now)
		had := len(b.tidies())
		b.goOn()
		b.goOn()
		now := b.tidies()
		if !is || b.now.Before(thawed) || !backed {
			require.Len(r, now, had, "due %v, frozen %v, backed %v", is, b.now.Before(thawed), backed)
			return
		}
		require.Len(r, now, had+1)
		require.Equal(r, due.Unix(), b.schedule(id).LastDue.Unix())
		b.grounds.End(t.Context(), now[had].ID, evidence.VerdictClear)
	})
}
