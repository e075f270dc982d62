package stats_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"

	"tidemarker/internal/core/stats"
)

// The ranks between which the median lies with 95 %, as tables of the sign test have them (Conover, Practical
// Nonparametric Statistics, table A3; from memory), and the 75th percentile by R's qbinom (from memory: of 20 values
// qbinom(0.025) is 11, qbinom(0.975) is 18).
func TestRanksOfAQuantile(t *testing.T) {
	for n, want := range map[int][2]int{5: {0, 6}, 6: {1, 6}, 8: {1, 8}, 9: {2, 8}, 15: {4, 12}, 20: {6, 15}, 25: {8, 18}} {
		low, high := stats.QuantileRanks(n, 0.5, 0.95)
		assert.Equal(t, want, [2]int{low, high}, "of %d", n)
	}
	low, high := stats.QuantileRanks(20, 0.75, 0.95)
	assert.Equal(t, [2]int{11, 19}, [2]int{low, high})
	exactLow, exactHigh := stats.QuantileRanks(2000, 0.75, 0.95)
	low, high = stats.QuantileRanks(2001, 0.75, 0.95)
	assert.InDelta(t, exactLow, low, 2)
	assert.InDelta(t, exactHigh, high, 2)
}

// The interval covers the true value as often as it says, of a distribution that is not normal.
func TestQuantileIntervalCovers(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	truth := math.Exp(0.6744897501960817 * 0.5) // 75th percentile of a log-normal with sigma 0.5
	inside := 0
	for range 1000 {
		values := make([]float64, 60)
		for i := range values {
			values[i] = math.Exp(0.5 * r.NormFloat64())
		}
		if low, high := stats.QuantileInterval(values, 0.75, 0.95); low <= truth && truth <= high {
			inside++
		}
	}
	assert.GreaterOrEqual(t, inside, 940)
	low, high := stats.QuantileInterval([]float64{3, 1, 2}, 0.5, 0.95)
	assert.Equal(t, [2]float64{1, 3}, [2]float64{low, high}, "of too few it is all that was seen")
	assert.Equal(t, 2.5, stats.Quantile([]float64{1, 2, 3, 4}, 0.5))
	assert.Equal(t, 4.0, stats.Quantile([]float64{4}, 0.75))
	assert.True(t, math.IsNaN(stats.Quantile(nil, 0.5)))
}
