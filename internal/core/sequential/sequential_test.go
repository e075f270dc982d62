package sequential_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"

	"tidemarker/internal/core/sequential"
)

// Wald's own example of the binomial test (Sequential Analysis, 1947, §5.3; from memory):
// p0 = 0.1, p1 = 0.3, α = 0.02, β = 0.03. The lines are -2.58 + 0.186 n and 2.88 + 0.186 n, so that
// at 0 of 14 the lower rate is chosen, and at 4 of 4 the upper one (checked by hand with
// his equations).
func TestWaldsExample(t *testing.T) {
	test := sequential.Test{Lower: 0.1, Upper: 0.3, Alpha: 0.02, Beta: 0.03}
	lower, upper, slope := test.Lines()
	assert.InDelta(t, -2.58, lower, 0.005)
	assert.InDelta(t, 2.88, upper, 0.005)
	assert.InDelta(t, 0.186, slope, 0.0005)
	assert.Equal(t, sequential.Undecided, test.Decide(0, 13))
	assert.Equal(t, sequential.Lower, test.Decide(0, 14))
	assert.Equal(t, sequential.Undecided, test.Decide(3, 0))
	assert.Equal(t, sequential.Upper, test.Decide(4, 0))
}

// Both ways of saying when the test ends are the same.
func TestTheLinesAndTheRatioAgree(t *testing.T) {
	test := sequential.Test{Lower: 0.2, Upper: 0.6, Alpha: 0.05, Beta: 0.1}
	lower, upper, slope := test.Lines()
	for n := range 40 {
		for k := range n + 1 {
			want := sequential.Undecided
			if float64(k) <= lower+slope*float64(n) {
				want = sequential.Lower
			} else if float64(k) >= upper+slope*float64(n) {
				want = sequential.Upper
			}
			assert.Equal(t, want, test.Decide(k, n-k), "%d of %d", k, n)
		}
	}
}

// What the error rates promise is held: α and β bound how often the wrong rate is chosen
// (Wald's inequalities 3:28 and 3:29, with their sum α/(1-β) and β/(1-α)).
func TestTheErrorRatesAreHeld(t *testing.T) {
	test := sequential.Test{Lower: 0.5, Upper: 0.98, Alpha: 0.05, Beta: 0.05}
	rnd := rand.New(rand.NewPCG(1, 2))
	wrong := func(rate float64, not sequential.Decision) float64 {
		n := 0
		for range 20000 {
			yes, no := 0, 0
			for test.Decide(yes, no) == sequential.Undecided {
				if rnd.Float64() < rate {
					yes++
				} else {
					no++
				}
			}
			if test.Decide(yes, no) == not {
				n++
			}
		}
		return float64(n) / 20000
	}
	slack := 3 * math.Sqrt(0.05*0.95/20000)
	assert.LessOrEqual(t, wrong(0.5, sequential.Upper), 0.05/0.95+slack)
	assert.LessOrEqual(t, wrong(0.98, sequential.Lower), 0.05/0.95+slack)
}
