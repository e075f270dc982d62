package field

import (
	"maps"
	"math"
	"slices"

	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/stats"
)

// Histogram is how many page views had which values of a metric: of each step how many. A step is 2 % wide, so that a
// quantile read off it is at most 1 % from the true one; histograms of days and classes add up.
type Histogram map[int]int

// ratio is how much greater the end of a step is than its beginning.
const ratio = 1.02

// least is what counts as nothing: a millisecond, or a thousandth of a score.
func least(m measure.Metric) float64 {
	if m == measure.LayoutShift {
		return 0.001
	}
	return 1
}

// Step is the step of a value.
func Step(m measure.Metric, value float64) int {
	if value < least(m) {
		return 0
	}
	return 1 + int(math.Floor(math.Log(value/least(m))/math.Log(ratio)))
}

// middle is the value in the middle of a step.
func middle(m measure.Metric, step int) float64 {
	if step <= 0 {
		return 0
	}
	return least(m) * math.Pow(ratio, float64(step)-0.5)
}

// Add adds another histogram.
func (h Histogram) Add(o Histogram) {
	for step, n := range o {
		h[step] += n
	}
}

// Count is how many page views there are.
func (h Histogram) Count() int {
	n := 0
	for _, c := range h {
		n += c
	}
	return n
}

// ranked is the value of a rank, from 1; ranks beyond the ends are the ends.
func (h Histogram) ranked(m measure.Metric, rank int) float64 {
	below, last := 0, 0
	for _, step := range slices.Sorted(maps.Keys(h)) {
		last = step
		if below += h[step]; below >= rank {
			break
		}
	}
	return middle(m, last)
}

// Level is where most visitors are: the 75th percentile, at which the vitals are judged, with the interval in which that of
// all such visitors lies with 95 % confidence.
type Level struct {
	Visits   int            `json:"visits"`
	P75      float64        `json:"p75" doc:"In milliseconds, or the score itself."`
	Low      float64        `json:"low"`
	High     float64        `json:"high"`
	Good     int            `json:"good" doc:"Page views that were good, by the published threshold."`
	Middling int            `json:"middling"`
	Poor     int            `json:"poor"`
	Rating   measure.Rating `json:"rating" enum:",good,needs improvement,poor"`
}

const percentile, confidence = 0.75, 0.95

// Level is what a histogram says of a metric; nil of nothing.
func (h Histogram) Level(m measure.Metric) *Level {
	n := h.Count()
	if n == 0 {
		return nil
	}
	d := measure.Of(m)
	low, high := stats.QuantileRanks(n, percentile, confidence)
	l := &Level{Visits: n, P75: h.ranked(m, int(math.Ceil(percentile*float64(n)))), Low: h.ranked(m, max(1, low)), High: h.ranked(m, min(n, high))}
	for step, c := range h {
		switch d.Rate(middle(m, step)) {
		case measure.Good:
			l.Good += c
		case measure.Middling:
			l.Middling += c
		case measure.Poor:
			l.Poor += c
		}
	}
	l.Rating = d.Rate(l.P75)
	return l
}

// Lists are the steps in order and how many page views each has.
func (h Histogram) Lists() (steps []int16, counts []int32) {
	steps, counts = []int16{}, []int32{}
	for _, step := range slices.Sorted(maps.Keys(h)) {
		steps, counts = append(steps, int16(step)), append(counts, int32(h[step]))
	}
	return steps, counts
}
