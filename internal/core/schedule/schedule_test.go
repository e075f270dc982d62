package schedule_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tidemarker/internal/core/schedule"
)

func read(t require.TestingT, s schedule.Schedule) schedule.Line {
	l, err := schedule.Read(s, time.LoadLocation)
	require.NoError(t, err)
	return l
}

func at(t require.TestingT, rfc3339 string) time.Time {
	m, err := time.Parse(time.RFC3339, rfc3339)
	require.NoError(t, err)
	return m
}

// run lets time go by in steps and tells when it was done, as a process does that looks every so often.
func run(l schedule.Line, from, to time.Time, step time.Duration, away func(time.Time) bool) (done []time.Time) {
	last := from
	for now := from; now.Before(to); now = now.Add(step) {
		if away(now) {
			continue
		}
		if due, is := l.Due(last, now); is {
			last = due
			done = append(done, now)
		}
	}
	return done
}

func never(time.Time) bool { return false }

// A month with the night in which clocks go forward, in Vienna on 28 March 2027: each morning at 04:00 of the wall's clock, also when
// 02:30 is left out; in the month of 31 October 2027 02:30 comes twice and is due once.
func TestAMonthOfScheduledChecksComesAtItsTimeOfDay(t *testing.T) {
	for begins, clock := range map[string]string{"2027-03-01T04:00": "04:00", "2027-10-01T02:30": "02:30"} {
		l := read(t, schedule.Schedule{What: schedule.Check, Begins: begins, Zone: "Europe/Vienna", Rule: "FREQ=DAILY"})
		vienna, err := time.LoadLocation("Europe/Vienna")
		require.NoError(t, err)
		first, err := time.ParseInLocation("2006-01-02T15:04", begins, vienna)
		require.NoError(t, err)
		done := run(l, first.Add(-time.Hour), first.AddDate(0, 0, 31).Add(-2*time.Hour), time.Minute, never)
		require.Len(t, done, 31)
		for i, d := range done {
			assert.Equal(t, clock, d.In(vienna).Format("15:04"), "day %d", i+1)
		}
	}
}

func TestWhatWasMissedIsCaughtUpOnce(t *testing.T) {
	l := read(t, schedule.Schedule{What: schedule.Drift, Begins: "2026-11-01T04:00", Zone: "UTC", Rule: "FREQ=DAILY"})
	from, back := at(t, "2026-11-01T00:00:00Z"), at(t, "2026-11-20T15:00:00Z")
	done := run(l, from, at(t, "2026-11-22T00:00:00Z"), time.Minute, func(now time.Time) bool {
		return now.After(at(t, "2026-11-03T12:00:00Z")) && now.Before(back)
	})
	assert.Equal(t, []time.Time{at(t, "2026-11-01T04:00:00Z"), at(t, "2026-11-02T04:00:00Z"), at(t, "2026-11-03T04:00:00Z"), back, at(t, "2026-11-21T04:00:00Z")}, done)
}

func TestInQuietHoursNothingBeginsAndItComesAfterThem(t *testing.T) {
	l := read(t, schedule.Schedule{What: schedule.Check, Begins: "2026-11-01T23:00", Zone: "Europe/Vienna", Rule: "FREQ=DAILY", Quiet: schedule.Quiet{From: "22:00", To: "06:00"}})
	done := run(l, at(t, "2026-11-01T12:00:00Z"), at(t, "2026-11-04T12:00:00Z"), time.Minute, never)
	assert.Equal(t, []time.Time{at(t, "2026-11-02T05:00:00Z"), at(t, "2026-11-03T05:00:00Z"), at(t, "2026-11-04T05:00:00Z")}, done)
	next, ok := l.Next(at(t, "2026-11-01T12:00:00Z"), at(t, "2026-11-01T22:30:00Z"))
	assert.True(t, ok)
	assert.True(t, next.Equal(at(t, "2026-11-02T05:00:00Z")))
}

// Whenever somebody looks, next is said to come when it then does.
func TestNextIsWhenItIsDue(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		l := read(t, schedule.Schedule{What: schedule.Check, Begins: rapid.SampledFrom([]string{"2026-10-01T02:30", "2026-10-03T22:10", "2026-09-30T05:59"}).Draw(t, "begins"),
			Zone: rapid.SampledFrom([]string{"UTC", "Europe/Vienna", "America/New_York"}).Draw(t, "zone"), Rule: rapid.SampledFrom([]string{"FREQ=DAILY", "FREQ=DAILY;INTERVAL=3", "FREQ=WEEKLY"}).Draw(t, "rule"),
			Quiet: rapid.SampledFrom([]schedule.Quiet{{}, {From: "22:00", To: "06:00"}, {From: "01:00", To: "03:00"}}).Draw(t, "quiet")})
		now := time.Date(2026, 10, 20, 0, 0, 0, 0, time.UTC).Add(time.Duration(rapid.IntRange(0, 20*24*60).Draw(t, "minutes")) * time.Minute)
		last := now.Add(-time.Duration(rapid.IntRange(0, 100).Draw(t, "hours")) * time.Hour)
		next, ok := l.Next(last, now)
		require.True(t, ok)
		_, due := l.Due(last, next)
		require.True(t, due, "it was said to come at %s", next)
		for m := now; m.Before(next); m = m.Add(10 * time.Minute) {
			_, due := l.Due(last, m)
			require.False(t, due, "it is due at %s, before %s", m, next)
		}
	})
}

func TestAScheduleThatCannotBeFollowedIsRefused(t *testing.T) {
	good := schedule.Schedule{What: schedule.Check, Begins: "2026-11-01T04:00", Zone: "UTC", Rule: "FREQ=DAILY"}
	for says, spoil := range map[string]func(*schedule.Schedule){
		"Write check, drift or tidy":  func(s *schedule.Schedule) { s.What = "everything" },
		"a tidy needs the change":     func(s *schedule.Schedule) { s.What = schedule.Tidy },
		"nothing else has these":      func(s *schedule.Schedule) { s.Tidy = &schedule.Again{Change: 1, Most: 5} },
		"how many records may be":     func(s *schedule.Schedule) { s.What, s.Tidy = schedule.Tidy, &schedule.Again{Change: 1} },
		"a schedule recurs":           func(s *schedule.Schedule) { s.Rule = "" },
		"as 22:00 to 06:00":           func(s *schedule.Schedule) { s.Quiet.From = "22:00" },
		"“10 pm” is no time of day":   func(s *schedule.Schedule) { s.Quiet = schedule.Quiet{From: "10 pm", To: "06:00"} },
		"“soon” is no date and time":  func(s *schedule.Schedule) { s.Begins = "soon" },
		"“Vienna” is no time zone":    func(s *schedule.Schedule) { s.Zone = "Vienna" },
		"an entry recurs daily at mo": func(s *schedule.Schedule) { s.Rule = "FREQ=MINUTELY" },
	} {
		s := good
		spoil(&s)
		_, err := schedule.Read(s, time.LoadLocation)
		assert.ErrorContains(t, err, says)
	}
}
