// Package schedule says when something that is done again and again is due.
//
// A [Schedule] recurs by a rule of RFC 5545 on the clock of its zone (package calendar). What was missed, since
// nobody was there or it was quiet, is due once, however often it was missed.
package schedule

import (
	"fmt"
	"time"

	"tidemarker/internal/core/calendar"
)

// What is done.
type What string

// What can be scheduled.
const (
	Check What = "check" // production is checked as it is
	Drift What = "drift" // all environments are read, to see what was changed outside
	Tidy  What = "tidy"  // what a change deleted once is deleted again
)

// Schedule is what somebody wants done again and again.
type Schedule struct {
	What   What   `json:"what" enum:"check,drift,tidy" doc:"check: production is checked as it is; drift: the settings of all environments are read; tidy: what a change deleted once is deleted again."`
	Begins string `json:"begins" doc:"Local date and time of the first, as 2026-11-27T04:00."`
	Zone   string `json:"zone" doc:"Name of a time zone of the IANA database."`
	Rule   string `json:"rule" doc:"Recurrence rule of RFC 5545, as FREQ=DAILY."`
	Quiet  Quiet  `json:"quiet" doc:"Hours of the day in which it does not begin; it comes after them."`
	Tidy   *Again `json:"tidy,omitempty" doc:"Of a tidy: what is deleted, and how much at most."`
}

// Quiet are hours of the day in which nothing begins by itself, in the schedule's zone: from a time of day to another, which
// may be of the next day. The zero value is never quiet.
type Quiet struct {
	From string `json:"from" doc:"Time of day, 15:04; empty for none."`
	To   string `json:"to" doc:"Time of day, 15:04."`
}

// Line is a schedule that was read.
type Line struct {
	Schedule
	calendar.Line
	zone *time.Location
}

// Read reads a schedule; zone finds a time zone by its name. The error says what is wrong and how it is written.
func Read(s Schedule, zone func(string) (*time.Location, error)) (Line, error) {
	l := Line{Schedule: s}
	if s.What != Check && s.What != Drift && s.What != Tidy {
		return l, fmt.Errorf("“%s” cannot be scheduled. Write check, drift or tidy", s.What)
	}
	if (s.What == Tidy) != (s.Tidy != nil) || s.Tidy != nil && (s.Tidy.Change < 1 || s.Tidy.Most < 1) {
		return l, fmt.Errorf("a tidy needs the change that carried it out first, and how many records may be deleted at once; nothing else has these")
	}
	if s.Rule == "" {
		return l, fmt.Errorf("a schedule recurs. Write its rule as FREQ=DAILY")
	}
	if (s.Quiet.From == "") != (s.Quiet.To == "") || s.Quiet.From != "" && s.Quiet.From == s.Quiet.To {
		return l, fmt.Errorf("quiet hours are from one time of day to another, as 22:00 to 06:00")
	}
	for _, clock := range []string{s.Quiet.From, s.Quiet.To} {
		if _, err := time.Parse("15:04", clock); clock != "" && err != nil {
			return l, fmt.Errorf("“%s” is no time of day. Write it as 22:00", clock)
		}
	}
	ends := ""
	if first, err := time.Parse(calendar.Clock, s.Begins); err == nil {
		ends = first.Add(time.Minute).Format(calendar.Clock)
	}
	var err error
	if l.Line, err = calendar.Read(calendar.Entry{Kind: calendar.Window, Title: string(s.What), Begins: s.Begins, Ends: ends, Zone: s.Zone, Rule: s.Rule}, zone); err != nil {
		return l, err
	}
	l.zone, err = zone(s.Zone)
	return l, err
}

// ends is when the quiet hours end in which a moment is; ok is false when it is in none.
func (l Line) ends(t time.Time) (at time.Time, ok bool) {
	q := l.Quiet
	if q.From == "" {
		return t, false
	}
	here := t.In(l.zone)
	on := func(day int, clock string) time.Time {
		c, _ := time.Parse("15:04", clock)
		return time.Date(here.Year(), here.Month(), here.Day()+day, c.Hour(), c.Minute(), 0, 0, l.zone)
	}
	for day := -1; day <= 0; day++ {
		from, to := on(day, q.From), on(day, q.To)
		if q.To < q.From {
			to = on(day+1, q.To)
		}
		if !t.Before(from) && t.Before(to) {
			return to, true
		}
	}
	return t, false
}

// mostMissed is how far back is looked for what was missed.
const mostMissed = 400 * 24 * time.Hour

// Due tells whether it is due at a moment, and which of its times that is: the latest since the last that was taken care of.
// In quiet hours nothing is due.
func (l Line) Due(last, now time.Time) (at time.Time, is bool) {
	if _, quiet := l.ends(now); quiet {
		return at, false
	}
	from := last
	if now.Sub(from) > mostMissed {
		from = now.Add(-mostMissed)
	}
	for {
		all := l.Between(from, now.Add(time.Nanosecond))
		for _, o := range all {
			if o.Begins.After(last) && !o.Begins.After(now) {
				at, is = o.Begins, true
			}
		}
		if len(all) == 0 || !all[len(all)-1].Begins.After(from) {
			return at, is
		}
		from = all[len(all)-1].Begins.Add(time.Minute)
	}
}

// Next is when it is due next after a moment; ok is false when it is not within 400 days.
func (l Line) Next(last, now time.Time) (at time.Time, ok bool) {
	if _, due := l.Due(last, now); due {
		return now, true
	}
	if end, quiet := l.ends(now); quiet {
		if _, due := l.Due(last, end); due {
			return end, true
		}
	}
	for _, o := range l.Between(now, now.Add(mostMissed)) {
		if !o.Begins.After(now) {
			continue
		}
		if end, quiet := l.ends(o.Begins); quiet {
			return end, true
		}
		return o.Begins, true
	}
	return at, false
}
