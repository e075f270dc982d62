package calendar

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/teambition/rrule-go"
)

// Kind is what an entry means to promotions.
type Kind string

// The kinds.
const (
	Freeze Kind = "freeze" // nothing is promoted; rollbacks always may
	Window Kind = "window" // promotions begin in windows only, where there are any
)

// Entry is one line of a calendar as somebody wrote it. Times are those of a clock on the
// wall in its zone.
type Entry struct {
	UID    string   `json:"uid,omitempty" doc:"By which other calendars know it."`
	Kind   Kind     `json:"kind" enum:"freeze,window"`
	Title  string   `json:"title" doc:"What it is, at most 200 characters."`
	Begins string   `json:"begins" doc:"Local date and time, as 2026-11-27T18:00."`
	Ends   string   `json:"ends" doc:"The same of the end, which is not part of it."`
	Zone   string   `json:"zone" doc:"Name of a time zone of the IANA database."`
	Rule   string   `json:"rule,omitempty" doc:"Recurrence rule of RFC 5545, as FREQ=WEEKLY;BYDAY=SA; empty for once."`
	Except []string `json:"except,omitempty" doc:"Beginnings that are left out, as the beginning is written."`
}

// Clock is how a time of an entry is written.
const Clock = "2006-01-02T15:04"

const (
	longestTitle = 200
	longestRule  = 500
	mostExcept   = 500
	// longest is how long one occurrence may be.
	longest = 366 * 24 * time.Hour
	// mostAtOnce is how many occurrences are given at once.
	mostAtOnce = 1000
)

// Line is an entry that was read: its rule can be followed.
type Line struct {
	Entry
	zone   *time.Location
	first  time.Time // as if the wall's clock were UTC
	length time.Duration
	rule   *rrule.RRule // of the same clock; nil for once
	except map[time.Time]bool
}

// Occurrence is one time that an entry holds, without its end.
type Occurrence struct {
	Entry  Entry     `json:"entry"`
	Begins time.Time `json:"begins"`
	Ends   time.Time `json:"ends"`
}

// Read makes a line of an entry. zone finds a time zone by its name, as [time.LoadLocation]
// does. The error says what is wrong and how it is written.
func Read(e Entry, zone func(string) (*time.Location, error)) (Line, error) {
	l := Line{Entry: e, except: map[time.Time]bool{}}
	e.Title = strings.TrimSpace(e.Title)
	switch {
	case e.Kind != Freeze && e.Kind != Window:
		return l, fmt.Errorf("“%s” is no kind of entry. Write freeze or window", e.Kind)
	case e.Title == "" || utf8.RuneCountInString(e.Title) > longestTitle || strings.ContainsFunc(e.Title, unprintable):
		return l, fmt.Errorf("an entry has a title of one line, at most %d characters", longestTitle)
	case len(e.Except) > mostExcept:
		return l, fmt.Errorf("an entry leaves out at most %d beginnings", mostExcept)
	}
	var err error
	if l.zone, err = zone(e.Zone); err != nil || e.Zone == "" || e.Zone == "Local" {
		return l, fmt.Errorf("“%s” is no time zone. Write it as Europe/Vienna, or UTC", e.Zone)
	}
	ends := time.Time{}
	if l.first, err = wall(e.Begins); err != nil {
		return l, err
	}
	if ends, err = wall(e.Ends); err != nil {
		return l, err
	}
	if l.length = ends.Sub(l.first); l.length <= 0 {
		return l, fmt.Errorf("it ends at %s, before it begins", e.Ends)
	}
	if l.length > longest {
		return l, errors.New("one entry lasts for a year at most. Make several of it, or let it recur")
	}
	for _, x := range e.Except {
		at, err := wall(x)
		if err != nil {
			return l, err
		}
		l.except[at] = true
	}
	return l, l.readRule()
}

func unprintable(r rune) bool { return r < ' ' || r == 0x7f }

func wall(s string) (time.Time, error) {
	t, err := time.Parse(Clock, s)
	if err != nil || t.Year() < 1970 || t.Year() > 2200 {
		return t, fmt.Errorf("“%s” is no date and time. Write it as 2026-11-27T18:00", s)
	}
	return t, nil
}

// readRule reads the recurrence rule. What names times of day is refused: the beginning says them.
func (l *Line) readRule() error {
	if l.Rule == "" {
		return nil
	}
	wrong := func(why string) error {
		return fmt.Errorf("“%s” is no recurrence rule that can be followed: %s. Write it as FREQ=WEEKLY;BYDAY=SA", l.Rule, why)
	}
	if len(l.Rule) > longestRule || strings.ContainsAny(l.Rule, "\r\n") {
		return wrong("it is too long")
	}
	opt, err := rrule.StrToROption(strings.ToUpper(l.Rule))
	switch {
	case err != nil:
		return wrong(strings.ToLower(err.Error()))
	case opt.Freq > rrule.DAILY || len(opt.Byhour)+len(opt.Byminute)+len(opt.Bysecond) > 0:
		return wrong("an entry recurs daily at most; its beginning says at what time")
	case len(opt.Byeaster) > 0 || strings.Contains(strings.ToUpper(l.Rule), "DTSTART"):
		return wrong("RFC 5545 has no such part")
	case opt.Count != 0 && !opt.Until.IsZero():
		return wrong("COUNT and UNTIL exclude each other")
	}
	if untilUTC(l.Rule) {
		opt.Until = onWall(opt.Until.In(l.zone))
	}
	opt.Dtstart = l.first
	if l.rule, err = rrule.NewRRule(*opt); err != nil {
		return wrong(strings.ToLower(err.Error()))
	}
	if next, there := l.rule.Iterator()(); !there || !next.Equal(l.first) {
		return wrong("the first beginning, " + l.Begins + ", is none of those that it names")
	}
	return nil
}

// untilUTC tells whether a rule's UNTIL is a moment rather than a time of the wall's clock.
func untilUTC(rule string) bool {
	for part := range strings.SplitSeq(strings.ToUpper(rule), ";") {
		if value, is := strings.CutPrefix(part, "UNTIL="); is {
			return strings.HasSuffix(value, "Z")
		}
	}
	return false
}

// Between lists the occurrences that have some time in common with from to to, in order; a
// thousand at most.
func (l Line) Between(from, to time.Time) (out []Occurrence) {
	for _, begins := range l.beginnings(onWall(from.In(l.zone)).Add(-l.length-slack), onWall(to.In(l.zone)).Add(slack)) {
		o := l.at(begins)
		if o.lasts() && o.Begins.Before(to) && o.Ends.After(from) && len(out) < mostAtOnce {
			out = append(out, o)
		}
	}
	return out
}

// lasts tells whether there is such a time: clocks can leave out a short one altogether.
func (o Occurrence) lasts() bool { return o.Ends.After(o.Begins) }

// slack is more than any clock is ever changed by.
const slack = 48 * time.Hour

// beginnings are those of the wall's clock between two of its times.
func (l Line) beginnings(from, to time.Time) []time.Time {
	all := []time.Time{l.first}
	if l.rule != nil {
		all = l.rule.Between(from, to, true)
	}
	return slices.DeleteFunc(all, func(t time.Time) bool { return l.except[t] || t.Before(from) || t.After(to) })
}

// at is the occurrence that begins at a time of the wall's clock. It ends when the clock has
// gone on by its length: a window from 22:00 to 05:30 ends at 05:30 also in the nights in
// which clocks are changed.
func (l Line) at(begins time.Time) Occurrence {
	return Occurrence{Entry: l.Entry, Begins: moment(begins, l.zone), Ends: moment(begins.Add(l.length), l.zone)}
}

// onWall is what the clock on the wall shows at a moment, as if it were UTC.
func onWall(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), 0, time.UTC)
}

// moment is when the clock on the wall of a zone shows a time: the first of two; and for a time
// that clocks leave out, what it would be by the offset before (RFC 5545, 3.3.5).
func moment(wall time.Time, zone *time.Location) time.Time {
	by := func(offset int) time.Time { return wall.Add(-time.Duration(offset) * time.Second).In(zone) }
	guess := time.Date(wall.Year(), wall.Month(), wall.Day(), wall.Hour(), wall.Minute(), wall.Second(), 0, zone)
	_, before := guess.Add(-24 * time.Hour).Zone()
	_, after := guess.Add(24 * time.Hour).Zone()
	if t := by(before); onWall(t).Equal(wall) || !onWall(by(after)).Equal(wall) {
		return t
	}
	return by(after)
}
