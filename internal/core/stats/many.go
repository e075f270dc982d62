package stats

import (
	"cmp"
	"slices"
)

// Holm corrects probabilities for their number, so that the chance of any false one among them stays
// what it is for one (Holm, “A simple sequentially rejective multiple test procedure”, 1979).
func Holm(ps []float64) []float64 {
	order := make([]int, len(ps))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(i, j int) int { return cmp.Compare(ps[i], ps[j]) })
	out := make([]float64, len(ps))
	worst := 0.0
	for rank, i := range order {
		worst = max(worst, min(1, float64(len(ps)-rank)*ps[i]))
		out[i] = worst
	}
	return out
}
