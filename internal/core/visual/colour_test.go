package visual

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
)

// The primaries in Oklab as CSS Color Module Level 4 gives them (from memory), with the lightness
// before Ottosson's correction of its toe; and the HyAB distance of Abasi, Tehran and Fairchild
// (2020): the difference in lightness plus the straight distance in the plane of a and b.
func TestColoursAreThoseOfThePaper(t *testing.T) {
	raw := func(l float64) float64 { // Ottosson's toe, undone
		const k1, k2 = 0.206, 0.03
		return (l*l + k1*l) / ((1 + k1) / (1 + k2) * (l + k2))
	}
	for name, c := range map[string]struct {
		r, g, b uint8
		lab     [3]float64
	}{
		"red":   {255, 0, 0, [3]float64{0.62796, 0.22486, 0.12585}},
		"lime":  {0, 255, 0, [3]float64{0.86644, -0.23389, 0.17950}},
		"blue":  {0, 0, 255, [3]float64{0.45201, -0.03246, -0.31153}},
		"white": {255, 255, 255, [3]float64{1, 0, 0}},
		"black": {0, 0, 0, [3]float64{0, 0, 0}},
	} {
		l, a, b := oklab(c.r, c.g, c.b)
		assert.InDelta(t, c.lab[0], raw(l), 2e-4, name)
		assert.InDelta(t, c.lab[1], a, 2e-4, name)
		assert.InDelta(t, c.lab[2], b, 2e-4, name)
	}
	l1, a1, b1 := oklab(200, 30, 90)
	l2, a2, b2 := oklab(20, 130, 60)
	assert.InDelta(t, math.Abs(l1-l2)+math.Sqrt((a1-a2)*(a1-a2)+(b1-b2)*(b1-b2)), Distance(200, 30, 90, 20, 130, 60), 1e-12)
}
