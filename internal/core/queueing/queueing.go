package queueing

import (
	"container/heap"
	"math"
	"math/rand/v2"
	"slices"
	"time"
)

// Kind is one kind of run: how often a site has it, and how long it takes.
type Kind struct {
	Name  string
	Daily float64         // of each site, at the mean
	Takes []time.Duration // as measured; each is as likely as the others
}

// Fleet is sites, workers and what the sites have done.
type Fleet struct {
	Sites        int
	Environments int // of each site
	Workers      int // runs at once, in all processes
	Kinds        []Kind
	// Busy is how much more comes in the busiest hour of the day than in a mean one; the others share the rest. 0 and 1: as much.
	Busy float64
	Days int
	Seed uint64
}

// Waits is how long runs waited from being wished for to being begun, and how busy the workers were.
type Waits struct {
	Runs              int
	Median, P95, Most time.Duration
	Mean              time.Duration
	Utilisation       float64 // of the workers' time, 0 to 1
	BusiestHour       float64 // the same in the busiest hour
	Waiting           int     // the most that waited at once
	ForEnvironment    int     // runs that found a worker free and their environment taken
}

// queued is one run on its way.
type queued struct {
	at          time.Duration
	takes       time.Duration
	environment int
}

// arrivals are the runs of a fleet in the order in which they are wished for: a Poisson process whose rate follows the hour.
func (f Fleet) arrivals(r *rand.Rand) (out []queued) {
	busy := max(f.Busy, 1)
	other := (24 - busy) / 23
	total := float64(f.Sites) / float64(24*time.Hour)
	for _, k := range f.Kinds {
		most := k.Daily * total * busy // thinned to the rate of the hour
		if most <= 0 || len(k.Takes) == 0 {
			continue
		}
		for at := 0.0; ; {
			at += r.ExpFloat64() / most
			if at >= float64(time.Duration(f.Days)*24*time.Hour) {
				break
			}
			hour := int(time.Duration(at)/time.Hour) % 24
			if hour != busiest && r.Float64() > other/busy {
				continue
			}
			out = append(out, queued{time.Duration(at), k.Takes[r.IntN(len(k.Takes))], r.IntN(f.Sites * max(f.Environments, 1))})
		}
	}
	slices.SortFunc(out, func(a, b queued) int { return int(a.at - b.at) })
	return out
}

// busiest is the hour of the day in which most comes.
const busiest = 9

// ending is a run that is under way, by when it ends.
type ending struct {
	at          time.Duration
	environment int
}

type endings []ending

func (e endings) Len() int           { return len(e) }
func (e endings) Less(i, j int) bool { return e[i].at < e[j].at }
func (e endings) Swap(i, j int)      { e[i], e[j] = e[j], e[i] }
func (e *endings) Push(x any)        { *e = append(*e, x.(ending)) }
func (e *endings) Pop() any {
	last := (*e)[len(*e)-1]
	*e = (*e)[:len(*e)-1]
	return last
}

// player is a fleet while it is played.
type player struct {
	fleet   Fleet
	under   endings
	taken   map[int]bool // environments with a run under way
	waiting []queued
	behind  map[int][]queued // runs whose environment has one under way; they wait beside the line
	waits   []time.Duration
	out     Waits
	worked  time.Duration
	inHour  time.Duration // worked in the busiest hours
}

// begin lets runs begin as long as a worker is free.
func (p *player) begin(now time.Duration) {
	for len(p.waiting) > 0 && len(p.under) < p.fleet.Workers {
		q := p.waiting[0]
		p.waiting = p.waiting[1:]
		if p.taken[q.environment] { // it gives the worker back and comes when the environment is free
			p.out.ForEnvironment++
			p.behind[q.environment] = append(p.behind[q.environment], q)
			continue
		}
		p.taken[q.environment] = true
		heap.Push(&p.under, ending{now + q.takes, q.environment})
		p.waits = append(p.waits, now-q.at)
		p.worked += q.takes
		p.inHour += overlap(now, now+q.takes)
	}
}

// overlap is how much of a time lies in a day's busiest hour.
func overlap(from, to time.Duration) (sum time.Duration) {
	for day := from / (24 * time.Hour); day <= to/(24*time.Hour); day++ {
		begins := day*24*time.Hour + busiest*time.Hour
		sum += max(0, min(to, begins+time.Hour)-max(from, begins))
	}
	return sum
}

// end lets the run end that is over first, and whoever waited for its environment stand in line at the front.
func (p *player) end() (now time.Duration) {
	e := heap.Pop(&p.under).(ending)
	delete(p.taken, e.environment)
	if next := p.behind[e.environment]; len(next) > 0 {
		p.waiting = slices.Insert(p.waiting, 0, next[0])
		if p.behind[e.environment] = next[1:]; len(next) == 1 {
			delete(p.behind, e.environment)
		}
	}
	return e.at
}

// Simulate plays a fleet for its days. The same seed gives the same.
func Simulate(f Fleet) Waits {
	r := rand.New(rand.NewPCG(f.Seed, 1)) //nolint:gosec // a simulation
	p := &player{fleet: f, taken: map[int]bool{}, behind: map[int][]queued{}}
	for _, q := range f.arrivals(r) {
		for len(p.under) > 0 && p.under[0].at <= q.at {
			p.begin(p.end())
		}
		p.waiting = append(p.waiting, q)
		p.begin(q.at)
		p.out.Waiting = max(p.out.Waiting, len(p.waiting))
	}
	for len(p.under) > 0 {
		p.begin(p.end())
	}
	return p.summed()
}

func (p *player) summed() Waits {
	out := p.out
	out.Runs = len(p.waits)
	if out.Runs == 0 {
		return out
	}
	slices.Sort(p.waits)
	var sum time.Duration
	for _, w := range p.waits {
		sum += w
	}
	out.Mean = sum / time.Duration(out.Runs)
	out.Median, out.P95, out.Most = p.waits[out.Runs/2], p.waits[int(math.Ceil(0.95*float64(out.Runs)))-1], p.waits[out.Runs-1]
	room := float64(p.fleet.Workers) * float64(p.fleet.Days)
	out.Utilisation = float64(p.worked) / (room * float64(24*time.Hour))
	out.BusiestHour = float64(p.inHour) / (room * float64(time.Hour))
	return out
}

// ErlangC is the probability that somebody waits when runs come at random, load times as many at once as workers serve, each for an
// exponential time: load is their rate times the mean time that one takes. (A. K. Erlang, 1917; in the form of Kleinrock, Queueing
// Systems, volume 1, 1975, equation 3.40.) 1 when there are too few workers for ever.
func ErlangC(load float64, workers int) float64 {
	if load >= float64(workers) {
		return 1
	}
	term, sum := 1.0, 1.0 // load^k / k!
	for k := 1; k < workers; k++ {
		term *= load / float64(k)
		sum += term
	}
	term *= load / float64(workers)
	last := term * float64(workers) / (float64(workers) - load)
	return last / (sum + last)
}
