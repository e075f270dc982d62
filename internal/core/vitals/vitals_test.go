package vitals

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func at(ms int, score float64) Shift {
	return Shift{At: time.Duration(ms) * time.Millisecond, Score: score}
}

// The published definition of session windows: a gap of 1 s ends a window, no window
// is longer than 5 s, and the largest window's sum counts (web.dev, "Evolving the CLS
// metric", from memory).
func TestLayoutShiftIsTheLargestSessionWindow(t *testing.T) {
	for name, tc := range map[string]struct {
		shifts []Shift
		want   float64
	}{
		"none":                            {nil, 0},
		"one":                             {[]Shift{at(100, 0.3)}, 0.3},
		"close ones add up":               {[]Shift{at(0, 0.1), at(900, 0.1), at(1800, 0.1)}, 0.3},
		"a gap of a second parts":         {[]Shift{at(0, 0.1), at(1000, 0.2)}, 0.2},
		"a window ends after 5 s":         {[]Shift{at(0, 0.1), at(900, 0.1), at(1800, 0.1), at(2700, 0.1), at(3600, 0.1), at(4500, 0.1), at(5400, 0.1)}, 0.6},
		"the larger window, not the last": {[]Shift{at(0, 0.4), at(3000, 0.1)}, 0.4},
		"order of report does not matter": {[]Shift{at(1800, 0.1), at(0, 0.1), at(900, 0.1)}, 0.3},
	} {
		t.Run(name, func(t *testing.T) {
			got, _ := CumulativeLayoutShift(tc.shifts)
			assert.InDelta(t, tc.want, got, 1e-9)
		})
	}
}

// W3C Layout Instability, worked example: an element of half the viewport that moves by
// a quarter of it has the impact fraction 0.75 and the distance fraction 0.25.
func TestOneMovedHalfScoresAsInTheWorkedExample(t *testing.T) {
	got, worst := CumulativeLayoutShift([]Shift{{At: time.Second, Score: 0.75 * 0.25, Moved: []string{"img"}}})
	assert.InDelta(t, 0.1875, got, 1e-9)
	assert.Equal(t, []string{"img"}, worst[0].Moved)
	assert.Equal(t, Fair, RateLayoutShift(got))
	assert.Equal(t, Good, RateLayoutShift(0.1))
	assert.Equal(t, Poor, RateLayoutShift(0.26))
}

// The worked example of the definition (web.dev, “Total Blocking Time”, from memory): five tasks of 250, 90, 35, 30 and
// 155 ms block for 200, 40, 0, 0 and 105 ms, 345 ms in all.
func TestBlockingTimeIsThatOfTheWorkedExample(t *testing.T) {
	tasks := [][2]float64{{100, 250}, {400, 90}, {500, 35}, {600, 30}, {700, 155}}
	assert.InDelta(t, 345, TotalBlockingTime(tasks, 50), 1e-9)
	assert.InDelta(t, 100, TotalBlockingTime([][2]float64{{0, 250}}, 100), 1e-9, "only what comes after the first paint")
	assert.Zero(t, TotalBlockingTime(nil, 0))
}
