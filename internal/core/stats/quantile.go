package stats

import (
	"math"
	"slices"
)

// Quantile is the value below which a part q of some values lies, interpolated between its neighbours (Hyndman and Fan's
// type 7, as most libraries have it); NaN of none.
func Quantile(values []float64, q float64) float64 {
	if len(values) == 0 {
		return math.NaN()
	}
	sorted := slices.Clone(values)
	slices.Sort(sorted)
	at := q * float64(len(sorted)-1)
	i := int(math.Floor(at))
	if i+1 >= len(sorted) {
		return sorted[len(sorted)-1]
	}
	return sorted[i] + (at-float64(i))*(sorted[i+1]-sorted[i])
}

// QuantileInterval is the interval between two of the values in which the true quantile lies with at least some
// confidence, whatever the distribution (by the binomial distribution of how many values lie below it; Hahn and Meeker,
// Statistical Intervals, 5.2). Of too few values for that it reaches from the least to the greatest.
func QuantileInterval(values []float64, q, confidence float64) (low, high float64) {
	n := len(values)
	if n == 0 {
		return math.NaN(), math.NaN()
	}
	sorted := slices.Clone(values)
	slices.Sort(sorted)
	l, u := QuantileRanks(n, q, confidence)
	return sorted[max(l, 1)-1], sorted[min(u, n)-1]
}

// QuantileRanks are the ranks, from 1, of the values between which a quantile of n values lies; 0 below and n+1 above
// stand for nothing that was seen.
func QuantileRanks(n int, q, confidence float64) (low, high int) {
	tail := (1 - confidence) / 2
	if n > 2000 { // the normal distribution is as good then
		mean, sd := float64(n)*q, math.Sqrt(float64(n)*q*(1-q))
		z := NormalQuantile(1 - tail)
		return max(0, int(math.Floor(mean-z*sd))), min(n+1, int(math.Ceil(mean+z*sd))+1)
	}
	below, low, high := 0.0, 0, n+1
	for k := 0; k <= n; k++ {
		below += binomial(n, k, q)
		// P(value of rank r > quantile) is P(fewer than r lie below it).
		if below <= tail {
			low = k + 1
		}
		if below >= 1-tail && high == n+1 {
			high = k + 1
		}
	}
	return low, high
}

func binomial(n, k int, p float64) float64 {
	choose, _ := math.Lgamma(float64(n + 1))
	a, _ := math.Lgamma(float64(k + 1))
	b, _ := math.Lgamma(float64(n - k + 1))
	return math.Exp(choose - a - b + float64(k)*math.Log(p) + float64(n-k)*math.Log1p(-p))
}

// MedianInterval is where the median of what some values were drawn from lies, with 95 % confidence from six values on.
func MedianInterval(values []float64) (low, high float64) { return QuantileInterval(values, 0.5, 0.95) }
