package calendar_test

import (
	_ "embed"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tidemarker/internal/core/calendar"
)

//go:embed testdata/recurrences.json
var recurrences []byte

// line is a line of an entry that can be read.
func line(t require.TestingT, e calendar.Entry) calendar.Line {
	l, err := calendar.Read(e, time.LoadLocation)
	require.NoError(t, err)
	return l
}

func moment(t require.TestingT, rfc3339 string) time.Time {
	at, err := time.Parse(time.RFC3339, rfc3339)
	require.NoError(t, err)
	return at
}

// The times are python-dateutil's (testdata/recurrences.py), most of the rules those of the examples of
// RFC 5545, 3.8.5.3. Among them are nights in which clocks are changed, by an hour and by half of one.
func TestRulesAreFollowedAsTheReferenceLibraryDoes(t *testing.T) {
	var file struct {
		Cases []struct {
			Zone, Begins, Rule string
			Times              []time.Time
		}
	}
	require.NoError(t, json.Unmarshal(recurrences, &file))
	require.NotEmpty(t, file.Cases)
	for _, c := range file.Cases {
		t.Run(c.Zone+" "+c.Rule, func(t *testing.T) {
			begins, err := time.Parse(calendar.Clock, c.Begins)
			require.NoError(t, err)
			l := line(t, calendar.Entry{Kind: calendar.Freeze, Title: "x", Begins: c.Begins, Ends: begins.Add(2 * time.Hour).Format(calendar.Clock), Zone: c.Zone, Rule: c.Rule})
			var got []time.Time
			for _, o := range l.Between(c.Times[0], c.Times[len(c.Times)-1].Add(time.Second)) {
				got = append(got, o.Begins.UTC())
			}
			assert.Equal(t, c.Times, got)
		})
	}
}

// RFC 5545, 3.3.5: a local time that occurs twice is the first of them, 20071104T013000 of New York being
// 01:30 EDT; one that does not occur is read with the offset from before, 20070311T023000 being 03:30 EDT.
func TestClocksThatAreChangedAreReadAsTheStandardSays(t *testing.T) {
	for local, utc := range map[string]string{"2007-11-04T01:30": "2007-11-04T05:30:00Z", "2007-03-11T02:30": "2007-03-11T07:30:00Z"} {
		l := line(t, calendar.Entry{Kind: calendar.Window, Title: "x", Begins: local, Ends: "2008-01-01T00:00", Zone: "America/New_York"})
		o := l.Between(moment(t, "2007-01-01T00:00:00Z"), moment(t, "2009-01-01T00:00:00Z"))
		require.Len(t, o, 1)
		assert.Equal(t, utc, o[0].Begins.UTC().Format(time.RFC3339))
	}
}

func TestANightlyWindowEndsAtItsTimeAlsoWhenClocksAreChanged(t *testing.T) {
	l := line(t, calendar.Entry{Kind: calendar.Window, Title: "Night", Begins: "2027-03-26T22:00", Ends: "2027-03-27T05:30", Zone: "Europe/Vienna", Rule: "FREQ=DAILY"})
	for _, o := range l.Between(moment(t, "2027-03-26T00:00:00Z"), moment(t, "2027-11-02T00:00:00Z")) {
		assert.Equal(t, "22:00–05:30", o.Begins.Format("15:04")+"–"+o.Ends.Format("15:04"))
	}
}

func TestAnEntryThatCannotBeFollowedIsRefusedWithWhatToWrite(t *testing.T) {
	good := calendar.Entry{Kind: calendar.Freeze, Title: "Sale", Begins: "2026-11-27T18:00", Ends: "2026-11-30T08:00", Zone: "Europe/Vienna"}
	line(t, good)
	for says, spoil := range map[string]func(*calendar.Entry){
		"Write freeze or window":             func(e *calendar.Entry) { e.Kind = "break" },
		"title of one line":                  func(e *calendar.Entry) { e.Title = "two\nlines" },
		"“27.11.2026” is no date":            func(e *calendar.Entry) { e.Begins = "27.11.2026" },
		"before it begins":                   func(e *calendar.Entry) { e.Ends = e.Begins },
		"a year at most":                     func(e *calendar.Entry) { e.Ends = "2028-11-30T08:00" },
		"“CET+1” is no time zone":            func(e *calendar.Entry) { e.Zone = "CET+1" },
		"“” is no time zone":                 func(e *calendar.Entry) { e.Zone = "" },
		"Write it as FREQ=WEEKLY;BYDAY=SA":   func(e *calendar.Entry) { e.Rule = "every Saturday" },
		"recurs daily at most":               func(e *calendar.Entry) { e.Rule = "FREQ=HOURLY" },
		"its beginning says at what time":    func(e *calendar.Entry) { e.Rule = "FREQ=DAILY;BYHOUR=3,4" },
		"RFC 5545 has no such part":          func(e *calendar.Entry) { e.Rule = "FREQ=YEARLY;BYEASTER=0" },
		"exclude each other":                 func(e *calendar.Entry) { e.Rule = "FREQ=DAILY;COUNT=3;UNTIL=20270101T000000Z" },
		"is none of those that it names":     func(e *calendar.Entry) { e.Rule = "FREQ=WEEKLY;BYDAY=SA" }, // it begins on a Friday
		"“tomorrow” is no date and time":     func(e *calendar.Entry) { e.Except = []string{"tomorrow"} },
		"is none of those that it names: in": func(e *calendar.Entry) { e.Rule = "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30" },
	} {
		e := good
		spoil(&e)
		_, err := calendar.Read(e, time.LoadLocation)
		if says == "is none of those that it names: in" {
			says = "is none of those that it names"
		}
		assert.ErrorContains(t, err, says)
	}
}

// A wall's clock as UNTIL counts in the entry's zone, a moment as it is.
func TestUntilIsTheEndInEitherWriting(t *testing.T) {
	for _, until := range []string{"20261130T080000", "20261130T130000Z"} {
		l := line(t, calendar.Entry{Kind: calendar.Freeze, Title: "x", Begins: "2026-11-27T08:00", Ends: "2026-11-27T09:00", Zone: "America/New_York", Rule: "FREQ=DAILY;UNTIL=" + until})
		assert.Len(t, l.Between(moment(t, "2026-11-01T00:00:00Z"), moment(t, "2027-11-01T00:00:00Z")), 4, until)
	}
}

// someLines draws a calendar of a few entries.
func someLines(t *rapid.T) []calendar.Line {
	var out []calendar.Line
	for range rapid.IntRange(1, 4).Draw(t, "entries") {
		begins := time.Date(2026, 10, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(rapid.IntRange(0, 60*24).Draw(t, "begins")) * time.Hour)
		e := calendar.Entry{UID: rapid.StringMatching(`[a-z]{8}`).Draw(t, "uid"), Kind: rapid.SampledFrom([]calendar.Kind{calendar.Freeze, calendar.Window}).Draw(t, "kind"),
			Title: rapid.StringMatching(`[A-Za-zäöü,;\\ ]{0,80}x`).Draw(t, "title"), Begins: begins.Format(calendar.Clock), Except: []string{},
			Ends: begins.Add(time.Duration(rapid.IntRange(1, 100).Draw(t, "hours")) * time.Hour).Format(calendar.Clock),
			Zone: rapid.SampledFrom([]string{"UTC", "Europe/Vienna", "America/New_York", "Australia/Lord_Howe"}).Draw(t, "zone"),
			Rule: rapid.SampledFrom([]string{"", "FREQ=DAILY;INTERVAL=9", "FREQ=WEEKLY", "FREQ=MONTHLY;COUNT=3", "FREQ=WEEKLY;UNTIL=20270301T000000Z"}).Draw(t, "rule")}
		if e.Rule != "" && rapid.Bool().Draw(t, "except") {
			e.Except = append(e.Except, e.Begins)
		}
		l, err := calendar.Read(e, time.LoadLocation)
		if err != nil { // a monthly rule of the 31st, or one that has ended before it begins
			continue
		}
		out = append(out, l)
	}
	return out
}

// What a calendar says now and next is the same as going through its occurrences one by one.
func TestTheNextMomentToPromoteIsTheFirstThatIsOpen(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		lines := someLines(t)
		now := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(rapid.IntRange(0, 24*60*60).Draw(t, "minutes")) * time.Minute)
		all := calendar.Occurrences(lines, now, now.AddDate(0, 0, 30))
		windows := false
		for _, l := range lines {
			windows = windows || l.Kind == calendar.Window
		}
		open := func(at time.Time) bool {
			in := !windows
			for _, o := range all {
				if at.Before(o.Begins) || !at.Before(o.Ends) {
					continue
				}
				if o.Entry.Kind == calendar.Freeze {
					return false
				}
				in = true
			}
			return in
		}
		require.Equal(t, open(now), calendar.At(lines, now).Open())
		require.Equal(t, open(now), calendar.Why(lines, now) == "")
		next, ok := calendar.Opens(lines, now)
		for at := now; at.Before(now.AddDate(0, 0, 30)) && (!ok || at.Before(next)); at = at.Add(30 * time.Minute) {
			require.False(t, open(at), "%s is before what was said to be the first open moment, %s", at, next)
		}
		if ok && next.Before(now.AddDate(0, 0, 30)) {
			require.True(t, open(next))
		}
	})
}

func TestWhyNothingMayGoOutIsSaidWithWhenItMay(t *testing.T) {
	sale := line(t, calendar.Entry{Kind: calendar.Freeze, Title: "Sale week", Begins: "2026-11-27T18:00", Ends: "2026-11-30T08:00", Zone: "Europe/Vienna"})
	nights := line(t, calendar.Entry{Kind: calendar.Window, Title: "Nights", Begins: "2026-11-02T22:00", Ends: "2026-11-03T05:30", Zone: "Europe/Vienna", Rule: "FREQ=WEEKLY;BYDAY=MO,TU"})
	both := []calendar.Line{sale, nights}
	assert.Equal(t, "Frozen until Mon 30 Nov 2026, 08:00 CET: “Sale week”. Nothing is promoted; rolling back is possible. The next time to promote starts Mon 30 Nov 2026, 22:00 CET.",
		calendar.Why(both, moment(t, "2026-11-28T01:00:00Z")))
	assert.Equal(t, "Promotions go out in windows, and none is open. The next time to promote starts Mon 30 Nov 2026, 22:00 CET.", calendar.Why(both, moment(t, "2026-11-30T12:00:00Z")))
	assert.Empty(t, calendar.Why(both, moment(t, "2026-11-30T21:00:00Z")))
	assert.Empty(t, calendar.Why([]calendar.Line{sale}, moment(t, "2026-11-30T07:00:00Z")), "a freeze ends at its end")
	assert.NotEmpty(t, calendar.Why([]calendar.Line{sale}, moment(t, "2026-11-27T17:00:00Z")), "and begins at its beginning")
	assert.Empty(t, calendar.Why(nil, moment(t, "2026-11-28T01:00:00Z")))
	over := line(t, calendar.Entry{Kind: calendar.Window, Title: "Once", Begins: "2026-11-02T22:00", Ends: "2026-11-03T05:30", Zone: "UTC"})
	assert.Contains(t, calendar.Why([]calendar.Line{over}, moment(t, "2026-12-02T22:00:00Z")), "There is no time to promote")
}

func TestAnHourThatClocksLeaveOutIsNoOccurrence(t *testing.T) {
	l := line(t, calendar.Entry{Kind: calendar.Window, Title: "x", Begins: "2027-03-27T02:00", Ends: "2027-03-27T03:00", Zone: "Europe/Vienna", Rule: "FREQ=DAILY;COUNT=3"})
	assert.Len(t, l.Between(moment(t, "2027-03-01T00:00:00Z"), moment(t, "2027-04-01T00:00:00Z")), 2)
	assert.Nil(t, calendar.At([]calendar.Line{l}, moment(t, "2027-03-28T01:00:00Z")).Window)
}
