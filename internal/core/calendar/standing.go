package calendar

import (
	"fmt"
	"slices"
	"time"
)

// Standing is what a calendar says of promotions at one moment.
type Standing struct {
	Freeze  *Occurrence // the one in force that ends last
	Window  *Occurrence // the open one that closes last
	Windows bool        // promotions go out in windows only
}

// Open tells whether a promotion may begin.
func (s Standing) Open() bool { return s.Freeze == nil && (!s.Windows || s.Window != nil) }

// At says how a calendar stands at a moment. Where there are windows, promotions wait for one,
// also when the last is over: that they may go out at any time again is for a person to say.
func At(lines []Line, t time.Time) Standing {
	s := Standing{}
	for _, l := range lines {
		s.Windows = s.Windows || l.Kind == Window
		for _, o := range l.Between(t, t.Add(time.Nanosecond)) {
			held := &s.Window
			if l.Kind == Freeze {
				held = &s.Freeze
			}
			if *held == nil || o.Ends.After((*held).Ends) {
				*held = &o
			}
		}
	}
	return s
}

// farthest is how far ahead is looked for the next moment.
const farthest = 400 * 24 * time.Hour

// Opens is when a promotion may begin next: t itself when it may now. ok is false when that is
// not within the next 400 days.
func Opens(lines []Line, t time.Time) (at time.Time, ok bool) {
	candidates := []time.Time{t}
	for _, l := range lines {
		for _, o := range l.Between(t, t.Add(farthest)) {
			next := o.Begins
			if l.Kind == Freeze {
				next = o.Ends
			}
			if next.After(t) {
				candidates = append(candidates, next)
			}
		}
	}
	slices.SortFunc(candidates, time.Time.Compare)
	for _, c := range candidates {
		if At(lines, c).Open() {
			return c, true
		}
	}
	return time.Time{}, false
}

// Why says why nothing may be promoted at a moment, and when something may; "" when it may.
func Why(lines []Line, t time.Time) string {
	s := At(lines, t)
	if s.Open() {
		return ""
	}
	next := "There is no time to promote in the next 400 days."
	if at, ok := Opens(lines, t); ok {
		next = "The next time to promote starts " + said(at) + "."
	}
	if s.Freeze != nil {
		return fmt.Sprintf("Frozen until %s: “%s”. Nothing is promoted; rolling back is possible. %s", said(s.Freeze.Ends), s.Freeze.Entry.Title, next)
	}
	return "Promotions go out in windows, and none is open. " + next
}

// said is a moment in the zone of the entry that it comes of.
func said(t time.Time) string { return t.Format("Mon 2 Jan 2006, 15:04 MST") }

// Occurrences are those of all lines between two moments, in order; a thousand at most.
func Occurrences(lines []Line, from, to time.Time) (out []Occurrence) {
	for _, l := range lines {
		out = append(out, l.Between(from, to)...)
	}
	slices.SortStableFunc(out, func(a, b Occurrence) int { return a.Begins.Compare(b.Begins) })
	return out[:min(len(out), mostAtOnce)]
}
