package stats

import (
	"math"
	"slices"
)

// Median is the middle of some values, NaN of none.
func Median(values []float64) float64 {
	n := len(values)
	if n == 0 {
		return math.NaN()
	}
	sorted := slices.Clone(values)
	slices.Sort(sorted)
	if n%2 == 1 {
		return sorted[n/2]
	}
	return (sorted[n/2-1] + sorted[n/2]) / 2
}

// Shift is by how much the second of two samples lies above the first, in their unit.
type Shift struct {
	Estimate  float64 // of Hodges and Lehmann: the median of all differences
	Low, High float64 // of the interval; infinite when the samples are too small for its confidence
}

// HodgesLehmann estimates a shift (Hodges and Lehmann, “Estimates of location based on rank tests”,
// 1963) with the interval that the test of Mann and Whitney gives (Moses; Hollander and Wolfe,
// Nonparametric Statistical Methods, 4.3). confidence is at least that of the interval.
func HodgesLehmann(a, b []float64, confidence float64) Shift {
	n, m := len(a), len(b)
	if n == 0 || m == 0 {
		return Shift{math.NaN(), math.Inf(-1), math.Inf(1)}
	}
	differences := make([]float64, 0, n*m)
	for _, x := range a {
		for _, y := range b {
			differences = append(differences, y-x)
		}
	}
	slices.Sort(differences)
	s := Shift{Estimate: Median(differences), Low: math.Inf(-1), High: math.Inf(1)}
	if k := cut(n, m, 1-confidence); k > 0 {
		s.Low, s.High = differences[k-1], differences[len(differences)-k]
	}
	return s
}

// cut is how many of the smallest and of the largest differences lie outside an interval that misses
// with probability alpha at most.
func cut(n, m int, alpha float64) int {
	if min(n, m) <= exactUpTo && max(n, m) <= 60 {
		below, k := 0.0, 0
		for _, w := range counts(n, m) {
			if below += w; below > alpha/2 {
				break
			}
			k++
		}
		return k
	}
	mean, sd := float64(n*m)/2, math.Sqrt(float64(n*m*(n+m+1))/12)
	return max(0, int(math.Floor(mean-NormalQuantile(1-alpha/2)*sd)))
}
