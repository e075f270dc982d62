package queueing

import (
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// fleet is what a site has done and how long that takes. In the middle of each line stands what was measured (BenchmarkRun: 50 looks and
// 9 journeys on two processors, 28 November 2026: a check 25.2 s, a harmless change 32.5 s, one that breaks 37.7 s, a mark 45.7 s); how it
// spreads, that a promotion takes as long as two checks and a search some minutes, and how often each comes, is supposed.
var fleet = []Kind{
	{"check of production", 1, seconds(20, 25, 33)},
	{"change tried", 0.2, seconds(26, 33, 38, 50)},
	{"promotion", 0.1, seconds(40, 50, 66)},
	{"mark", 0.05, seconds(37, 46, 60)},
	{"search for a culprit", 0.005, seconds(240, 600, 1800)},
}

func seconds(list ...int) (out []time.Duration) {
	for _, s := range list {
		out = append(out, time.Duration(s)*time.Second)
	}
	return out
}

// TestWorkersForTenThousandSites is the table of docs/scale.md: what 10,000 sites make of 50 workers, and how it changes with either.
// Six times as much as in a mean hour comes in the busiest, since teams work at the same time of the day.
func TestWorkersForTenThousandSites(t *testing.T) {
	play := func(sites, workers int) Waits {
		return Simulate(Fleet{Sites: sites, Environments: 2, Workers: workers, Kinds: fleet, Busy: 6, Days: 3, Seed: 11})
	}
	if os.Getenv("TIDEMARKER_SCALE") != "" {
		t.Log("| sites | workers | runs a day | busy | in the busiest hour | waits, median | 95 % | at most |")
		for _, f := range [][2]int{{200, 1}, {200, 2}, {1000, 4}, {1000, 8}, {10_000, 20}, {10_000, 30}, {10_000, 40}, {10_000, 50}, {20_000, 50}} {
			w := play(f[0], f[1])
			t.Logf("| %d | %d | %d | %.0f %% | %.0f %% | %s | %s | %s |", f[0], f[1], w.Runs/3, 100*w.Utilisation, 100*w.BusiestHour, w.Median.Round(time.Second), w.P95.Round(time.Second), w.Most.Round(time.Second))
		}
	}
	fifty := play(10_000, 50)
	assert.Less(t, fifty.Utilisation, 0.25, "most of the day they have little to do")
	twenty := play(10_000, 20)
	assert.Greater(t, twenty.BusiestHour, 0.95, "with twenty the busiest hour is too much")
	assert.Greater(t, twenty.P95, 20*fifty.P95)
}
