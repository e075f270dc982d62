// Package vitals computes the measures of a page load that visitors feel, and rates
// them by the published thresholds. For now that is the layout shift score.
package vitals

import (
	"slices"
	"time"
)

// Shift is one unexpected movement of page content.
type Shift struct {
	At    time.Duration `json:"at" doc:"Since the navigation began, in nanoseconds."`
	Score float64       `json:"score" doc:"Impact fraction times distance fraction (W3C Layout Instability)."`
	Moved []string      `json:"moved,omitempty" doc:"The elements that moved."`
	Paths []Path        `json:"paths,omitempty" doc:"From where to where elements moved, the largest first."`
}

// Path is from where to where an element moved, in CSS pixels of the page (W3C Layout Instability, attribution).
type Path struct {
	From Box `json:"from"`
	To   Box `json:"to"`
}

// Box is a rectangle in CSS pixels.
type Box struct {
	X      int `json:"x"`
	Y      int `json:"y"`
	Width  int `json:"width"`
	Height int `json:"height"`
}

// A session window closes after a gap without shifts, and never grows beyond its
// longest length (web.dev, "Cumulative Layout Shift", session windows).
const (
	sessionGap    = time.Second
	sessionLength = 5 * time.Second
)

// CumulativeLayoutShift is the largest sum of shift scores in any session window; it
// has no unit. It returns that window's shifts too, in time order.
func CumulativeLayoutShift(shifts []Shift) (float64, []Shift) {
	sorted := slices.Clone(shifts)
	slices.SortStableFunc(sorted, func(a, b Shift) int { return int(a.At - b.At) })
	var best, sum float64
	var worst []Shift
	start := 0
	for i, s := range sorted {
		if i > 0 && (s.At-sorted[i-1].At >= sessionGap || s.At-sorted[start].At >= sessionLength) {
			start, sum = i, 0
		}
		sum += s.Score
		if sum > best {
			best, worst = sum, sorted[start:i+1]
		}
	}
	return best, worst
}

// Rating says how a measure is to be judged.
type Rating string

// The published ratings.
const (
	Good Rating = "good"
	Fair Rating = "needs improvement"
	Poor Rating = "poor"
)

// RateLayoutShift rates a cumulative layout shift: good up to 0.1, poor above 0.25
// (web.dev, from memory).
func RateLayoutShift(score float64) Rating {
	switch {
	case score <= 0.1:
		return Good
	case score <= 0.25:
		return Fair
	}
	return Poor
}

// blockingFrom is from which duration on a task keeps a page from answering, in milliseconds.
const blockingFrom = 50

// TotalBlockingTime is for how long tasks kept a page from answering after it was first painted: of each
// the part beyond 50 ms (web.dev, “Total Blocking Time”, from memory). Tasks are start and duration, all in
// milliseconds; of one that is under way at the first paint only what comes after it counts.
func TotalBlockingTime(tasks [][2]float64, firstPaint float64) float64 {
	sum := 0.0
	for _, t := range tasks {
		start, end := t[0], t[0]+t[1]
		if start < firstPaint {
			start = firstPaint
		}
		sum += max(0, end-start-blockingFrom)
	}
	return sum
}
