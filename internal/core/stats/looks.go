package stats

import (
	"fmt"
	"math"
)

// Spending says how much of the error may have been spent when a part t of the runs, from 0 to 1, is in.
type Spending func(alpha, t float64) float64

// PocockSpending spends the error evenly, so that an early look can decide (Lan and DeMets, “Discrete
// sequential boundaries for clinical trials”, 1983, α*₂).
func PocockSpending(alpha, t float64) float64 { return alpha * math.Log(1+(math.E-1)*min(1, t)) }

// OBrienFlemingSpending spends nearly all of it at the end (the same paper, α*₁).
func OBrienFlemingSpending(alpha, t float64) float64 {
	if t <= 0 {
		return 0
	}
	return 2 * (1 - NormalCDF(NormalQuantile(1-alpha/2)/math.Sqrt(min(1, t))))
}

// Bounds are the critical values of z at each look, two-sided, such that looking at every one of
// them, and stopping at the first that is passed, errs with probability alpha. information is the part
// of the runs that are in at each look, rising, the last 1. It integrates over the paths that have not
// stopped (Armitage, McPherson and Rowe 1969; Jennison and Turnbull, Group Sequential Methods, ch. 19).
func Bounds(alpha float64, spend Spending, information []float64) ([]float64, error) {
	for i, t := range information {
		if t <= 0 || t > 1 || i > 0 && t <= information[i-1] {
			return nil, fmt.Errorf("the looks come at rising parts of the runs, above 0 and up to 1, not at %v", information)
		}
	}
	bounds := make([]float64, 0, len(information))
	var path walk
	spent := 0.0
	for i, t := range information {
		before := 0.0
		if i > 0 {
			before = information[i-1]
		}
		now := spend(alpha, t) - spent
		spent += now
		low, high := 0.0, 40.0
		for range 60 {
			z := (low + high) / 2
			if path.passes(before, t, z) > now {
				low = z
			} else {
				high = z
			}
		}
		bounds = append(bounds, high)
		path = path.on(before, t, high)
	}
	return bounds, nil
}

// walk is the density of the score, √t·z, of paths that have not stopped, on a grid; empty before the
// first look.
type walk struct {
	at, weight, density []float64
}

// grid is how many points the density is kept at.
const grid = 801

// passes is the probability that a path which has not stopped by before is outside ±z at t.
func (w walk) passes(before, t, z float64) float64 {
	edge := z * math.Sqrt(t)
	if len(w.at) == 0 {
		return 2 * (1 - NormalCDF(z))
	}
	sd := math.Sqrt(t - before)
	p := 0.0
	for i, x := range w.at {
		p += w.weight[i] * w.density[i] * (NormalCDF((-edge-x)/sd) + 1 - NormalCDF((edge-x)/sd))
	}
	return p
}

// on is the walk after a look at t at which paths outside ±z stopped.
func (w walk) on(before, t, z float64) walk {
	edge := min(z, 9) * math.Sqrt(t)
	out := walk{make([]float64, grid), make([]float64, grid), make([]float64, grid)}
	step := 2 * edge / (grid - 1)
	for i := range out.at {
		x := -edge + float64(i)*step
		out.at[i] = x
		switch { // Simpson's rule
		case i == 0 || i == grid-1:
			out.weight[i] = step / 3
		case i%2 == 1:
			out.weight[i] = 4 * step / 3
		default:
			out.weight[i] = 2 * step / 3
		}
		if len(w.at) == 0 {
			out.density[i] = density(x/math.Sqrt(t)) / math.Sqrt(t)
			continue
		}
		sd := math.Sqrt(t - before)
		for j, y := range w.at {
			out.density[i] += w.weight[j] * w.density[j] * density((x-y)/sd) / sd
		}
	}
	return out
}

// Spent is the error that looking with these bounds makes: with which probability one of them is
// passed when there is no difference.
func Spent(bounds, information []float64) float64 {
	var path walk
	spent, before := 0.0, 0.0
	for i, t := range information {
		spent += path.passes(before, t, bounds[i])
		path = path.on(before, t, bounds[i])
		before = t
	}
	return spent
}
