package stats

import (
	"cmp"
	"math"
	"slices"
)

// Ranked is what the test of Mann and Whitney says of two samples.
type Ranked struct {
	U     float64 // how many pairs have the value of the first sample above that of the second; ties count half
	P     float64 // two-sided
	Exact bool    // P is exact; otherwise it is the normal approximation, corrected for ties and continuity
}

// exactUpTo is how large the smaller sample may be for the exact distribution to be used. Beyond it
// the approximation is close (scipy.stats.mannwhitneyu draws the line at 8; exactly is no worse).
const exactUpTo = 20

// MannWhitney tests whether one of two samples tends to have larger values (Mann and Whitney, “On a
// test of whether one of two random variables is stochastically larger than the other”, 1947). Of
// an empty sample P is 1.
func MannWhitney(a, b []float64) Ranked {
	n, m := len(a), len(b)
	if n == 0 || m == 0 {
		return Ranked{P: 1, Exact: true}
	}
	type value struct {
		x     float64
		first bool
	}
	all := make([]value, 0, n+m)
	for _, x := range a {
		all = append(all, value{x, true})
	}
	for _, x := range b {
		all = append(all, value{x, false})
	}
	slices.SortFunc(all, func(p, q value) int { return cmp.Compare(p.x, q.x) })
	sum, ties := 0.0, 0.0
	for i := 0; i < len(all); {
		j := i
		for j < len(all) && all[j].x == all[i].x {
			j++
		}
		rank := float64(i+j+1) / 2
		for _, v := range all[i:j] {
			if v.first {
				sum += rank
			}
		}
		if t := float64(j - i); t > 1 {
			ties += t*t*t - t
		}
		i = j
	}
	r := Ranked{U: sum - float64(n*(n+1))/2}
	if ties == 0 && min(n, m) <= exactUpTo && max(n, m) <= 60 {
		r.P, r.Exact = exactP(n, m, r.U), true
		return r
	}
	N := float64(n + m)
	mean := float64(n*m) / 2
	sd := math.Sqrt(float64(n*m) / 12 * (N + 1 - ties/(N*(N-1))))
	if sd == 0 {
		r.P = 1
		return r
	}
	z := (math.Abs(r.U-mean) - 0.5) / sd
	r.P = min(1, 2*(1-NormalCDF(max(0, z))))
	return r
}

// counts is in how many ways two samples of n and m values without ties come to each U, from 0 to
// n·m, as parts of all ways.
func counts(n, m int) []float64 {
	// The number of partitions of u into at most n parts, each at most m (Mann and Whitney's
	// recurrence), by adding one value of the first sample after the other.
	ways := make([]float64, n*m+1)
	ways[0] = 1
	for i := 1; i <= n; i++ {
		for u := n * m; u >= m+i; u-- { // times (1 - q^(m+i))
			ways[u] -= ways[u-m-i]
		}
		for u := i; u <= n*m; u++ { // over (1 - q^i)
			ways[u] += ways[u-i]
		}
	}
	all := 0.0
	for _, w := range ways {
		all += w
	}
	for u := range ways {
		ways[u] /= all
	}
	return ways
}

func exactP(n, m int, u float64) float64 {
	low := min(u, float64(n*m)-u)
	p := 0.0
	for i, w := range counts(n, m) {
		if float64(i) <= low {
			p += w
		}
	}
	return min(1, 2*p)
}
