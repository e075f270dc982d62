package stats_test

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tidemarker/internal/core/stats"
)

// TestRanksAreThoseOfScipy holds 60 sample pairs, with and without ties, against what scipy.stats
// (1.10, Debian 12) says of them. Its answers are kept in testdata/ranks.json; where it is installed
// they are asked for again.
func TestRanksAreThoseOfScipy(t *testing.T) {
	kept, err := os.ReadFile("testdata/ranks.json")
	require.NoError(t, err)
	type pair struct {
		A, B        []float64
		Exact       bool
		U, P, Shift float64
	}
	var pairs []pair
	require.NoError(t, json.Unmarshal(kept, &pairs))
	require.Len(t, pairs, 60)
	if now, err := exec.Command("/usr/bin/python3", "testdata/ranks.py").Output(); err == nil {
		require.JSONEq(t, string(kept), string(now))
	} else {
		t.Log("python3-scipy is not installed: its answers are those that are kept")
	}
	exact := 0
	for i, x := range pairs {
		r := stats.MannWhitney(x.A, x.B)
		assert.Equal(t, x.Exact, r.Exact, "pair %d", i)
		assert.InDelta(t, x.U, r.U, 1e-9, "pair %d", i)
		assert.InDelta(t, x.P, r.P, 1e-9, "pair %d", i)
		assert.InDelta(t, x.Shift, stats.HodgesLehmann(x.A, x.B, 0.95).Estimate, 1e-9, "pair %d", i)
		if x.Exact {
			exact++
		}
	}
	t.Logf("%d of them exactly", exact)
	assert.Greater(t, exact, 20)
}

// The published two-sided critical values of U at 5 % (Mann and Whitney 1947, extended by Auble 1953;
// printed in many textbooks; from memory): a U of at most this is significant, one more is not.
func TestCriticalValuesAreThoseOfTheTable(t *testing.T) {
	for _, x := range []struct{ n, m, critical int }{{5, 5, 2}, {6, 6, 5}, {7, 7, 8}, {8, 8, 13}, {9, 9, 17}, {10, 10, 23}, {12, 12, 37}, {15, 15, 64}, {20, 20, 127}, {5, 8, 6}, {6, 10, 11}, {8, 12, 22}} {
		assert.LessOrEqual(t, pOf(x.n, x.m, x.critical), 0.05, "%+v", x)
		assert.Greater(t, pOf(x.n, x.m, x.critical+1), 0.05, "%+v", x)
	}
}

// pOf is the two-sided probability of a U, from samples that have it.
func pOf(n, m, u int) float64 {
	// The values of the first sample are put above as many of the second as make up u.
	a, b := make([]float64, n), make([]float64, m)
	for j := range b {
		b[j] = float64(j)
	}
	left := u
	for i := n - 1; i >= 0; i-- {
		above := min(left, m)
		left -= above
		a[i] = float64(above) - 0.5 + float64(i)/1000
	}
	return stats.MannWhitney(a, b).P
}

// The worked example of Hollander and Wolfe (Nonparametric Statistical Methods, 4.1 and 4.3, from
// memory; also the example of R's wilcox.test): permeability of the human chorioamnion at term and
// at 12 to 26 weeks. The estimate of the shift is 0.305, the interval of 92 % from -0.15 to 0.76 reaches as R prints it.
func TestTheShiftOfHollanderAndWolfe(t *testing.T) {
	term := []float64{0.80, 0.83, 1.89, 1.04, 1.45, 1.38, 1.91, 1.64, 0.73, 1.46}
	early := []float64{1.15, 0.88, 0.90, 0.74, 1.21}
	r := stats.MannWhitney(term, early)
	assert.InDelta(t, 35, r.U, 1e-9)
	assert.InDelta(t, 0.2544, r.P, 1e-4, "two-sided; one-sided it is 0.1272")
	s := stats.HodgesLehmann(early, term, 0.9)
	assert.InDelta(t, 0.305, s.Estimate, 1e-9)
	assert.Less(t, s.Low, 0.0)
	assert.Greater(t, s.High, 0.6)
}

// TestAnIntervalHoldsWhatItSays: it misses the true shift no more often than it says.
func TestAnIntervalHoldsWhatItSays(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for _, size := range []int{5, 9, 25} {
		missed := 0
		for range 2000 {
			a, b := make([]float64, size), make([]float64, size)
			for i := range a {
				a[i], b[i] = r.ExpFloat64(), r.ExpFloat64()+0.3
			}
			if s := stats.HodgesLehmann(a, b, 0.95); s.Low > 0.3 || s.High < 0.3 {
				missed++
			}
		}
		assert.LessOrEqual(t, missed, 130, "of 2000 with %d each: 5 %% and three standard errors", size)
	}
	assert.True(t, math.IsInf(stats.HodgesLehmann([]float64{1, 2}, []float64{3, 4}, 0.95).High, 1), "two each say nothing at 95 %")
}

// Holm's own procedure on a worked example (Holm 1979; the numbers are those of R's p.adjust manual
// style, computed by hand).
func TestHolm(t *testing.T) {
	assert.InDeltaSlice(t, []float64{0.03, 0.06, 0.06, 0.02}, stats.Holm([]float64{0.01, 0.04, 0.03, 0.005}), 1e-12)
	assert.Empty(t, stats.Holm(nil))
	rapid.Check(t, func(t *rapid.T) {
		ps := rapid.SliceOfN(rapid.Float64Range(0, 1), 1, 12).Draw(t, "ps")
		for i, p := range stats.Holm(ps) {
			require.GreaterOrEqual(t, p, ps[i])
			require.LessOrEqual(t, p, min(1, ps[i]*float64(len(ps)))+1e-12, "never beyond Bonferroni")
		}
	})
}

// The published constants of group-sequential tests with equal looks, two-sided at 5 % (Jennison and
// Turnbull, Group Sequential Methods, tables 2.1 and 2.3, from memory): Pocock's bound is the same at each
// look, O'Brien and Fleming's falls with the root of the look. The spending functions come near both
// (Lan and DeMets 1983); one look alone is the ordinary test.
func TestBoundsAreThePublishedOnes(t *testing.T) {
	equal := func(k int) []float64 {
		out := make([]float64, k)
		for i := range out {
			out[i] = float64(i+1) / float64(k)
		}
		return out
	}
	one, err := stats.Bounds(0.05, stats.PocockSpending, []float64{1})
	require.NoError(t, err)
	assert.InDelta(t, 1.960, one[0], 1e-3)
	// What spends exactly as Pocock's and O'Brien and Fleming's tests do has exactly their bounds: the
	// error that constants of the tables spend is 5 %.
	for k, c := range map[int]float64{2: 2.178, 3: 2.289, 4: 2.361, 5: 2.413} {
		bounds := make([]float64, k)
		for i := range bounds {
			bounds[i] = c
		}
		assert.InDelta(t, 0.05, stats.Spent(bounds, equal(k)), 2e-4, "Pocock, %d looks", k)
	}
	for k, c := range map[int]float64{2: 1.977, 3: 2.004, 4: 2.024, 5: 2.040} {
		bounds := make([]float64, k)
		for i := range bounds {
			bounds[i] = c * math.Sqrt(float64(k)/float64(i+1))
		}
		assert.InDelta(t, 0.05, stats.Spent(bounds, equal(k)), 2e-4, "O'Brien and Fleming, %d looks", k)
	}
	for _, spend := range []stats.Spending{stats.PocockSpending, stats.OBrienFlemingSpending} {
		bounds, err := stats.Bounds(0.05, spend, []float64{0.33, 0.53, 0.73, 1})
		require.NoError(t, err)
		assert.InDelta(t, 0.05, stats.Spent(bounds, []float64{0.33, 0.53, 0.73, 1}), 1e-4)
	}
	_, err = stats.Bounds(0.05, stats.PocockSpending, []float64{0.5, 0.4})
	assert.Error(t, err)
}
