package measure_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/measure"
)

// simulated measures pages until it is enough or the limit, as a run does: log-normal times around
// 1.2 s with the spread that the stand-ins have, the second side shifted by a part.
func simulated(r *rand.Rand, looks []int, pages []string, spread, shift float64) (list []measure.Comparison, rounds int) {
	var loads []measure.Load
	at := 0
	for _, look := range looks {
		for ; at < look; at++ {
			for _, page := range pages {
				for _, side := range []measure.Side{measure.Before, measure.After} {
					x := 1200 * math.Exp(spread*r.NormFloat64())
					if side == measure.After {
						x *= 1 + shift
					}
					loads = append(loads, measure.Load{Side: side, Round: at + 1, Page: page, Case: measure.Case{Device: "phone", Persona: "visitor", Visit: measure.First}, Effort: 10,
						Values: map[measure.Metric]float64{measure.Largest: x, measure.FirstPaint: x * 0.6, measure.FirstByte: 90 * math.Exp(spread*r.NormFloat64())}})
				}
			}
		}
		if list = measure.Compare(loads); measure.Enough(list) {
			break
		}
	}
	return list, at
}

// TestNothingIsFoundWhereThereIsNothing: of 400 comparisons of equal sides with optional stopping at
// most 5 % call anything better or worse.
func TestNothingIsFoundWhereThereIsNothing(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 1))
	falsely, runs := 0, 0
	for range 400 {
		list, rounds := simulated(r, measure.Looks, []string{"/"}, 0.08, 0)
		if v := measure.Judge(list); v == measure.Faster || v == measure.Slower || v == measure.Mixed {
			falsely++
		}
		runs += rounds
	}
	t.Logf("of 400 equal pairs %d were called better or worse, after %.1f rounds on average", falsely, float64(runs)/400)
	assert.LessOrEqual(t, falsely, 20)
}

// TestATenthIsFound: a true shift of 10 % at the stand-ins' noise is found in 90 % within the limit.
func TestATenthIsFound(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 2))
	found, runs := 0, 0
	for range 200 {
		list, rounds := simulated(r, measure.Looks[:4], []string{"/"}, 0.06, -0.1)
		if measure.Judge(list) == measure.Faster {
			found++
		}
		runs += rounds
	}
	t.Logf("of 200 shifts of a tenth %d were found, after %.1f rounds on average", found, float64(runs)/200)
	assert.GreaterOrEqual(t, found, 180)
}

// TestWhatIsSaid: better and worse in one sentence, with the interval, the pages, and the thresholds.
func TestWhatIsSaid(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	var loads []measure.Load
	for round := 1; round <= 8; round++ {
		for _, page := range []string{"/", "/kits"} {
			for _, side := range []measure.Side{measure.Before, measure.After} {
				v := map[measure.Metric]float64{measure.Largest: 4200 + 20*r.Float64(), measure.LayoutShift: 0.01}
				if side == measure.After {
					v = map[measure.Metric]float64{measure.Largest: 2300 + 20*r.Float64(), measure.LayoutShift: 0.38}
				}
				loads = append(loads, measure.Load{Side: side, Round: round, Page: page, Case: measure.Case{Device: "phone", Persona: "visitor", Visit: measure.First}, Values: v, Effort: 10})
			}
		}
	}
	list := measure.Compare(loads)
	assert.True(t, measure.Enough(list))
	assert.Equal(t, measure.Mixed, measure.Judge(list))
	assert.Equal(t, "Phone: largest paint −1.9 s (−1.9 s to −1.9 s), 2 of 2 pages, now good; layout shift rose from 0.01 to 0.38: poor.", measure.Summarise(list))
	assert.Equal(t, measure.NotMeasured, measure.Judge(nil))
	assert.Equal(t, "Nothing was measured.", measure.Summarise(nil))
}

// TestWhatDoesNotCount: loads that were not served as planned, and rounds in which the machine was busy,
// for both sides alike; and nothing is said before the first look.
func TestWhatDoesNotCount(t *testing.T) {
	var loads []measure.Load
	for round := 1; round <= 6; round++ {
		for _, side := range []measure.Side{measure.Before, measure.After} {
			l := measure.Load{Side: side, Round: round, Page: "/", Case: measure.Case{Device: "phone", Persona: "visitor", Visit: measure.First}, Values: map[measure.Metric]float64{measure.Largest: 1000}, Effort: 10}
			if side == measure.After {
				l.Values[measure.Largest] = 500
			}
			if round == 2 && side == measure.Before {
				l.Effort = 40
			}
			if round == 3 && side == measure.After {
				l.Dropped = "It was not served from the cache."
			}
			loads = append(loads, l)
		}
	}
	assert.Equal(t, []int{2}, measure.Busy(loads))
	list := measure.Compare(loads)
	require.NotEmpty(t, list)
	assert.Equal(t, 4, list[0].Runs)
	few := measure.Compare(loads[:8])
	assert.Equal(t, measure.Undecided, few[0].Result)
	assert.False(t, measure.Enough(few))
}

// Thresholds as web.dev publishes them (from memory).
func TestThresholds(t *testing.T) {
	for m, want := range map[measure.Metric][2]float64{measure.Largest: {2500, 4000}, measure.FirstPaint: {1800, 3000}, measure.FirstByte: {800, 1800}, measure.LayoutShift: {0.1, 0.25}, measure.Blocking: {200, 600}} {
		d := measure.Of(m)
		assert.Equal(t, measure.Good, d.Rate(want[0]), m)
		assert.Equal(t, measure.Middling, d.Rate(want[1]), m)
		assert.Equal(t, measure.Poor, d.Rate(want[1]*1.01), m)
	}
	assert.Equal(t, measure.NoRating, measure.Of(measure.Transferred).Rate(1e9))
}

// TestWhatWasExpectedIsAnswered: met only when the whole interval is beyond what was asked for, not met when none of it
// is, and on each device.
func TestWhatWasExpectedIsAnswered(t *testing.T) {
	c := func(device string, low, high float64, r measure.Result) measure.Comparison {
		return measure.Comparison{Metric: measure.Largest, Unit: "ms", Case: measure.Case{Device: device, Persona: "visitor", Visit: measure.First}, Shift: (low + high) / 2, Low: low, High: high, Result: r}
	}
	e := measure.Expectation{Metric: measure.Largest, Amount: 300}
	for want, list := range map[measure.Answer][]measure.Comparison{
		measure.Met:      {c("phone", -500, -310, measure.Better)},
		measure.NotMet:   {c("phone", -250, -100, measure.Better)},
		measure.NotShown: {c("phone", -500, -100, measure.Better)},
	} {
		got, why := e.Answered(list)
		assert.Equal(t, want, got)
		assert.Contains(t, why, "phone: −")
	}
	got, _ := e.Answered([]measure.Comparison{c("phone", -500, -310, measure.Better), c("desktop", 10, 90, measure.Worse)})
	assert.Equal(t, measure.NotMet, got, "on each device")
	e.Device = "phone"
	got, _ = e.Answered([]measure.Comparison{c("phone", -500, -310, measure.Better), c("desktop", 10, 90, measure.Worse)})
	assert.Equal(t, measure.Met, got)
	got, why := measure.Expectation{Metric: measure.Blocking}.Answered(nil)
	assert.Equal(t, measure.NotShown, got)
	assert.Equal(t, "It was not measured there.", why)
	assert.Equal(t, "largest paint gets better by 300 ms at least on a phone", e.Text())
}
