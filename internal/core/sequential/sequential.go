// Package sequential decides between two hypotheses about a rate from one observation
// after the other, as soon as what was seen is enough: Wald's sequential probability ratio
// test. A. Wald, "Sequential Tests of Statistical Hypotheses", Annals of Mathematical
// Statistics 16 (1945), 117–186, §5.3 (binomial distribution).
package sequential

import "math"

// Decision is what a test has come to.
type Decision int

// The decisions.
const (
	Undecided Decision = iota
	Lower              // the rate is the lower one
	Upper              // the rate is the upper one
)

// Test says whether something happens at the lower rate or at the upper one.
type Test struct {
	Lower, Upper float64 // the two rates, 0 < Lower < Upper < 1
	Alpha        float64 // how often the upper one may be chosen when the lower one is so
	Beta         float64 // how often the lower one may be chosen when the upper one is so
}

// Bounds are the logarithms of the likelihood ratio at which the test ends: at or below the
// first the lower rate is chosen, at or above the second the upper one (Wald's B and A,
// §3.3).
func (t Test) Bounds() (lower, upper float64) {
	return math.Log(t.Beta / (1 - t.Alpha)), math.Log((1 - t.Beta) / t.Alpha)
}

// Ratio is the logarithm of how much likelier the upper rate makes what was seen.
func (t Test) Ratio(happened, not int) float64 {
	return float64(happened)*math.Log(t.Upper/t.Lower) + float64(not)*math.Log((1-t.Upper)/(1-t.Lower))
}

// Decide says what follows from what was seen so far.
func (t Test) Decide(happened, not int) Decision {
	lower, upper := t.Bounds()
	switch r := t.Ratio(happened, not); {
	case r <= lower:
		return Lower
	case r >= upper:
		return Upper
	}
	return Undecided
}

// Lines are Wald's parallel lines: after n observations the test ends when at most
// lower + slope·n of them happened, or at least upper + slope·n (§5.3, eq. 5:8–5:11).
func (t Test) Lines() (lower, upper, slope float64) {
	up, down := math.Log(t.Upper/t.Lower), math.Log((1-t.Lower)/(1-t.Upper))
	b, a := t.Bounds()
	return b / (up + down), a / (up + down), down / (up + down)
}
