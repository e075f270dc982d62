package calendar_test

import (
	"strings"
	"testing"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tidemarker/internal/core/calendar"
)

var sale = calendar.Entry{UID: "sale@tidemarker", Kind: calendar.Freeze, Title: "Sale week; nothing out, please", Begins: "2026-11-27T18:00", Ends: "2026-11-30T08:00", Zone: "Europe/Vienna", Except: []string{}}

var nights = calendar.Entry{UID: "nights@tidemarker", Kind: calendar.Window, Title: "Nights", Begins: "2026-11-02T22:00", Ends: "2026-11-03T05:30", Zone: "America/New_York", Rule: "FREQ=WEEKLY;BYDAY=MO;UNTIL=20270401T000000Z", Except: []string{"2026-12-21T22:00"}}

// The file is read by golang-ical, a library of its own that has nothing in common with the one it is written by.
func TestAnotherLibraryReadsTheSameEvents(t *testing.T) {
	raw, err := calendar.Write("Fernhollow", []calendar.Line{line(t, sale), line(t, nights)}, moment(t, "2026-11-28T01:00:00Z"))
	require.NoError(t, err)
	cal, err := ics.ParseCalendar(strings.NewReader(string(raw)))
	require.NoError(t, err)
	require.Len(t, cal.Events(), 2)
	for i, want := range []calendar.Entry{sale, nights} {
		e := cal.Events()[i]
		begins, err := e.GetStartAt()
		require.NoError(t, err)
		o := line(t, want).Between(begins, begins.Add(time.Second))[0]
		assert.True(t, o.Begins.Equal(begins))
		assert.Equal(t, want.UID, e.Id())
		assert.Equal(t, strings.ToUpper(string(want.Kind)), e.GetProperty(ics.ComponentPropertyCategories).Value)
		assert.Equal(t, "Europe/Vienna America/New_York", cal.Timezones()[0].GetProperty("TZID").Value+" "+cal.Timezones()[1].GetProperty("TZID").Value)
	}
	assert.Equal(t, sale.Title, cal.Events()[0].GetProperty(ics.ComponentPropertySummary).Value)
	ends, err := cal.Events()[0].GetEndAt()
	require.NoError(t, err)
	assert.Equal(t, moment(t, "2026-11-30T07:00:00Z"), ends.UTC())
	assert.Equal(t, []string{"PT7H30M", "FREQ=WEEKLY;UNTIL=20270401T000000Z;BYDAY=MO"},
		[]string{cal.Events()[1].GetProperty("DURATION").Value, cal.Events()[1].GetProperty(ics.ComponentPropertyRrule).Value})
	for l := range strings.Lines(string(raw)) {
		assert.LessOrEqual(t, len(strings.TrimRight(l, "\r\n")), 75, "RFC 5545, 3.1")
		assert.True(t, strings.HasSuffix(l, "\r\n"))
	}
}

func TestAFirstDayOnWhichClocksJumpOverTheBeginningMovesNoOther(t *testing.T) {
	// On Lord Howe Island clocks go from 2:00 to 2:30 on 4 October 2026 (IANA time zone database).
	e := calendar.Entry{UID: "u", Kind: calendar.Window, Title: "Nights", Begins: "2026-10-04T02:00", Ends: "2026-10-04T03:00", Zone: "Australia/Lord_Howe", Rule: "FREQ=DAILY;INTERVAL=9", Except: []string{}}
	raw, err := calendar.Write("x", []calendar.Line{line(t, e)}, time.Date(2026, 11, 28, 0, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	again, err := calendar.ReadFile(raw, calendar.Window, "UTC", time.LoadLocation)
	require.NoError(t, err)
	require.Len(t, again, 1)
	from, to := time.Date(2026, 9, 1, 0, 0, 0, 0, time.UTC), time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC)
	want, got := line(t, e).Between(from, to), line(t, again[0]).Between(from, to)
	require.Greater(t, len(want), 3)
	assert.Equal(t, want, got)
	assert.Equal(t, "02:00", got[1].Begins.Format("15:04"))
}

func TestWhatIsWrittenIsReadAgain(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		lines := someLines(t)
		if len(lines) == 0 {
			return
		}
		var entries []calendar.Entry
		for i := range lines {
			lines[i].UID += string(rune('a' + i))
			entries = append(entries, lines[i].Entry)
		}
		raw, err := calendar.Write("x", lines, time.Date(2026, 11, 28, 0, 0, 0, 0, time.UTC))
		require.NoError(t, err)
		again, err := calendar.ReadFile(raw, calendar.Freeze, "UTC", time.LoadLocation)
		require.NoError(t, err, "%s", raw)
		require.Len(t, again, len(entries))
		from, to := time.Date(2026, 9, 1, 0, 0, 0, 0, time.UTC), time.Date(2027, 12, 1, 0, 0, 0, 0, time.UTC)
		for i, e := range again {
			want, got := lines[i].Between(from, to), line(t, e).Between(from, to)
			require.Len(t, got, len(want))
			require.Equal(t, []any{entries[i].UID, entries[i].Kind, entries[i].Title, entries[i].Zone}, []any{e.UID, e.Kind, e.Title, e.Zone})
			for k := range want {
				require.True(t, want[k].Begins.Equal(got[k].Begins) && want[k].Ends.Equal(got[k].Ends), "%s", raw)
			}
		}
	})
}

const foreign = `BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//Somebody//Else//EN
BEGIN:VEVENT
UID:one
DTSTAMP:20261101T000000Z
SUMMARY:Christmas\, closed
DTSTART;VALUE=DATE:20261224
DTEND;VALUE=DATE:20261227
RRULE:FREQ=YEARLY
END:VEVENT
BEGIN:VEVENT
UID:two
DTSTAMP:20261101T000000Z
SUMMARY:Maintenance
CATEGORIES:Window
DTSTART;TZID=Europe/Vienna:20261102T220000
DURATION:PT7H30M
RRULE:FREQ=WEEKLY;BYDAY=MO
EXDATE;TZID=Europe/Vienna:20261109T220000,20261116T220000
END:VEVENT
BEGIN:VEVENT
UID:two
RECURRENCE-ID;TZID=Europe/Vienna:20261123T220000
DTSTAMP:20261101T000000Z
SUMMARY:Maintenance\, a day later
CATEGORIES:WINDOW
DTSTART:20261124T210000Z
DTEND:20261125T043000Z
END:VEVENT
BEGIN:VEVENT
UID:two
RECURRENCE-ID:20261130T210000Z
DTSTAMP:20261101T000000Z
STATUS:CANCELLED
DTSTART;TZID=Europe/Vienna:20261130T220000
DURATION:PT1H
END:VEVENT
END:VCALENDAR
`

func TestAForeignCalendarIsRead(t *testing.T) {
	entries, err := calendar.ReadFile([]byte(strings.ReplaceAll(foreign, "\n", "\r\n")), calendar.Freeze, "Europe/Vienna", time.LoadLocation)
	require.NoError(t, err)
	assert.Equal(t, []calendar.Entry{
		{UID: "one", Kind: calendar.Freeze, Title: "Christmas, closed", Begins: "2026-12-24T00:00", Ends: "2026-12-27T00:00", Zone: "Europe/Vienna", Rule: "FREQ=YEARLY", Except: []string{}},
		{UID: "two", Kind: calendar.Window, Title: "Maintenance", Begins: "2026-11-02T22:00", Ends: "2026-11-03T05:30", Zone: "Europe/Vienna", Rule: "FREQ=WEEKLY;BYDAY=MO",
			Except: []string{"2026-11-09T22:00", "2026-11-16T22:00", "2026-11-23T22:00", "2026-11-30T22:00"}},
		{UID: "two/2026-11-23T22:00", Kind: calendar.Window, Title: "Maintenance, a day later", Begins: "2026-11-24T21:00", Ends: "2026-11-25T04:30", Zone: "UTC", Except: []string{}},
	}, entries)
}

func TestACalendarThatCannotBeReadSaysWhichEventAndWhy(t *testing.T) {
	for says, file := range map[string]string{
		"no iCalendar file":                          "<html>",
		"the file has no event":                      "BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:x\nEND:VCALENDAR\n",
		"event “Maintenance”: its time zone “W. Eu":  strings.ReplaceAll(foreign, "TZID=Europe/Vienna", "TZID=W. Europe Standard Time"),
		"event “Maintenance”: “FREQ=SOMETIMES":       strings.Replace(foreign, "FREQ=WEEKLY", "FREQ=SOMETIMES", 1),
		"it has dates of its own (RDATE)":            strings.Replace(foreign, "RRULE:FREQ=YEARLY", "RDATE;VALUE=DATE:20270101", 1),
		"event “Christmas, closed”: “2026” is no da": strings.Replace(foreign, "20261224", "2026", 1),
	} {
		_, err := calendar.ReadFile([]byte(strings.ReplaceAll(file, "\n", "\r\n")), calendar.Freeze, "Europe/Vienna", time.LoadLocation)
		assert.ErrorContains(t, err, says)
	}
}

func TestAnEmptyCalendarCanBeSubscribedTo(t *testing.T) {
	raw, err := calendar.Write("Nothing planned", nil, moment(t, "2026-11-28T01:00:00Z"))
	require.NoError(t, err)
	cal, err := ics.ParseCalendar(strings.NewReader(string(raw)))
	require.NoError(t, err)
	assert.Empty(t, cal.Events())
}

func FuzzReadFile(f *testing.F) {
	f.Add([]byte(strings.ReplaceAll(foreign, "\n", "\r\n")))
	raw, err := calendar.Write("x", []calendar.Line{line(f, sale), line(f, nights)}, moment(f, "2026-11-28T01:00:00Z"))
	require.NoError(f, err)
	f.Add(raw)
	f.Fuzz(func(t *testing.T, raw []byte) {
		entries, err := calendar.ReadFile(raw, calendar.Freeze, "Europe/Vienna", time.LoadLocation)
		if err != nil {
			return
		}
		for _, e := range entries {
			l := line(t, e)
			l.Between(time.Unix(0, 0), time.Unix(4e9, 0))
		}
	})
}
