package queueing

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// exponential are many times with a mean, as if each ended by chance.
func exponential(mean time.Duration) (out []time.Duration) {
	r := rand.New(rand.NewPCG(7, 7))
	for range 20_000 {
		out = append(out, time.Duration(r.ExpFloat64()*float64(mean)))
	}
	return out
}

// By hand, from Erlang's formula: with two workers and a load of one, C = (1²/2!·2/(2−1)) / (1 + 1 + 1) = 1/3; with one worker it is
// the load itself. The last is in common tables (10 agents, 8 erlangs: 0.409; from memory).
func TestErlangsFormula(t *testing.T) {
	assert.InDelta(t, 1.0/3, ErlangC(1, 2), 1e-12)
	assert.InDelta(t, 0.7, ErlangC(0.7, 1), 1e-12)
	assert.InDelta(t, 0.409, ErlangC(8, 10), 0.001)
	assert.InDelta(t, 1.0, ErlangC(3, 2), 0)
}

// Where waiting can be computed, what is played agrees: runs at random, exponential times, many environments. The mean wait is
// C·s/(workers−load), of s the mean time that a run takes (Kleinrock).
func TestWhatIsPlayedAgreesWithTheFormula(t *testing.T) {
	const takes = time.Minute
	for _, c := range []struct {
		workers int
		load    float64
	}{{1, 0.5}, {2, 1.5}, {10, 8}, {50, 45}} {
		daily := c.load * float64(24*time.Hour) / float64(takes)
		f := Fleet{Sites: 100_000, Environments: 1, Workers: c.workers, Days: 40, Seed: 3, Kinds: []Kind{{"check", daily / 100_000, exponential(takes)}}}
		got := Simulate(f)
		want := ErlangC(c.load, c.workers) * takes.Seconds() / (float64(c.workers) - c.load)
		assert.InEpsilon(t, want, got.Mean.Seconds(), 0.1, "%d workers", c.workers)
		assert.InEpsilon(t, c.load/float64(c.workers), got.Utilisation, 0.03, "%d workers", c.workers)
	}
}

func TestAnEnvironmentHasOneRunAtATime(t *testing.T) {
	// One site, so much wished for that it is always under way: more workers do not help it.
	one := Fleet{Sites: 1, Environments: 1, Workers: 10, Days: 2, Seed: 1, Kinds: []Kind{{"check", 2000, []time.Duration{time.Minute}}}}
	got := Simulate(one)
	assert.InDelta(t, 0.1, got.Utilisation, 0.04, "one of ten works, the whole time and after it")
	assert.Greater(t, got.ForEnvironment, 1000)
	// It keeps no other site waiting.
	many := one
	many.Sites, many.Kinds = 1000, []Kind{{"check", 2, []time.Duration{time.Minute}}}
	assert.Less(t, Simulate(many).Median, time.Second)
}

func TestTheBusiestHourIsBusier(t *testing.T) {
	f := Fleet{Sites: 1000, Environments: 2, Workers: 10, Days: 10, Seed: 5, Kinds: []Kind{{"check", 2, []time.Duration{time.Minute}}, {"nothing", 0, nil}}}
	even, busy := Simulate(f), Fleet{}
	busy = f
	busy.Busy = 6
	got := Simulate(busy)
	assert.InEpsilon(t, float64(even.Runs), float64(got.Runs), 0.03, "as much comes in all")
	assert.InEpsilon(t, even.Utilisation, got.Utilisation, 0.03)
	assert.InEpsilon(t, 6*even.Utilisation, got.BusiestHour, 0.1)
	assert.Equal(t, got, Simulate(busy), "the same seed plays the same")
	assert.False(t, math.IsNaN(Simulate(Fleet{Sites: 1, Workers: 1, Days: 1}).Utilisation))
}
