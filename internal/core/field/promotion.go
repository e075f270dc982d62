package field

import (
	"fmt"
	"math"

	"tidemarker/internal/core/measure"
)

// Result is what a comparison of before and after came to.
type Result string

// The results.
const (
	Better       Result = "better"
	Worse        Result = "worse"
	NoDifference Result = "no difference shown"
	TooFew       Result = "not enough data"
)

// Enough is how many page views each side needs for anything to be said (common practice).
const Enough = 200

// Week is how many days make a whole week: only whole weeks are compared, since people come otherwise on Sundays.
const Week = 7

// Effect is what changed for visitors from before a moment to after it.
type Effect struct {
	Metric measure.Metric `json:"metric" enum:"largest-contentful-paint,interaction-delay,layout-shift,first-contentful-paint,first-byte"`
	Title  string         `json:"title"`
	Unit   string         `json:"unit" enum:"ms,1"`
	Class  string         `json:"class,omitempty" doc:"Absent: all pages."`
	Device string         `json:"device" enum:"desktop,phone"`
	Before *Level         `json:"before,omitempty"`
	After  *Level         `json:"after,omitempty"`
	Shift  float64        `json:"shift" doc:"Of the 75th percentile, after minus before."`
	Low    float64        `json:"low" doc:"Of its 95 % interval."`
	High   float64        `json:"high"`
	Result Result         `json:"result" enum:"better,worse,no difference shown,not enough data"`
	Why    string         `json:"why"`
}

// Compare says what became of a metric. The interval of the difference comes of those of both sides, by the recovery of
// their variances (MOVER; Zou and Donner, Statistics in Medicine 2008): the sides are different visitors.
func Compare(m measure.Metric, before, after Histogram) Effect {
	d := measure.Of(m)
	e := Effect{Metric: m, Title: d.Title, Unit: d.Unit, Before: before.Level(m), After: after.Level(m)}
	if e.Before == nil || e.After == nil || min(e.Before.Visits, e.After.Visits) < Enough {
		e.Result = TooFew
		e.Why = fmt.Sprintf("%d page views before, %d after; %d of each are needed.", visits(e.Before), visits(e.After), Enough)
		return e
	}
	b, a := e.Before, e.After
	e.Shift = a.P75 - b.P75
	e.Low = e.Shift - math.Hypot(a.P75-a.Low, b.High-b.P75)
	e.High = e.Shift + math.Hypot(a.High-a.P75, b.P75-b.Low)
	matters := d.Smallest(b.P75)
	switch {
	case e.High < 0 && -e.Shift >= matters:
		e.Result = Better
	case e.Low > 0 && e.Shift >= matters:
		e.Result = Worse
	default:
		e.Result = NoDifference
	}
	e.Why = fmt.Sprintf("%s before (%d page views), %s after (%d): %s (%s to %s).", measure.Shown(d.Unit, b.P75), b.Visits, measure.Shown(d.Unit, a.P75), a.Visits,
		measure.Signed(d.Unit, e.Shift), measure.Signed(d.Unit, e.Low), measure.Signed(d.Unit, e.High))
	return e
}

func visits(l *Level) int {
	if l == nil {
		return 0
	}
	return l.Visits
}

// Span is how many whole days before and after a moment are compared: as many whole weeks as there are on both sides, four
// at most; without a whole week as many days as there are.
func Span(daysBefore, daysAfter int) int {
	n := min(daysBefore, daysAfter, 4*Week)
	if n >= Week {
		n -= n % Week
	}
	return n
}
