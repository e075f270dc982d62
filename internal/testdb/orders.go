package testdb

import (
	"context"
	"math/rand/v2"
	"regexp"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/peterldowns/pgtestdb"

	"tidemarker/internal/store"
)

// Orders puts what several do in a database at once into one order after another. Each stops before every statement that reads or
// writes what a change's state follows from, and before every commit, until it is let go on; who then waits for a lock of another
// is left waiting until that one has gone on.
type Orders struct {
	Store  *store.Store // what they do it with
	events chan event
	watch  *store.Store
}

// doer is one of those who do something at once.
type doer struct {
	which int
	goOn  chan struct{}
	pid   atomic.Uint32 // of the server's process that works for it
	at    int           // one of the below
}

const (
	working = iota
	stopped
	ended
)

type event struct {
	of  *doer
	now int
}

type doerKey struct{}

// stops are the statements before which somebody stops.
var stops = regexp.MustCompile(`(?i)^commit$|\b(from|into|update|join) (changes|runs|environments|findings|acts|drifts|marks)\b`)

// NewOrders is for one test, with a database of its own.
func NewOrders(t testing.TB) *Orders {
	t.Helper()
	conf := pgtestdb.Custom(t, testConfig(), migrator{})
	o := &Orders{events: make(chan event)}
	for _, s := range []struct {
		at     **store.Store
		traced pgx.QueryTracer
	}{{&o.Store, o}, {&o.watch, nil}} {
		opened, err := store.OpenTraced(t.Context(), conf.URL(), Keys(t), s.traced)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(opened.Close)
		*s.at = opened
	}
	return o
}

// TraceQueryStart stops before a statement.
func (o *Orders) TraceQueryStart(ctx context.Context, conn *pgx.Conn, data pgx.TraceQueryStartData) context.Context {
	d, ours := ctx.Value(doerKey{}).(*doer)
	if !ours {
		return ctx
	}
	d.pid.Store(conn.PgConn().PID())
	if stops.MatchString(data.SQL) {
		o.events <- event{d, stopped}
		<-d.goOn
	}
	return ctx
}

// TraceQueryEnd does nothing.
func (o *Orders) TraceQueryEnd(context.Context, *pgx.Conn, pgx.TraceQueryEndData) {}

// Turn is who could go on, and who did.
type Turn struct {
	Able []int
	Who  int
}

// Do lets all do what they do, one statement at a time; next says who of those who can goes on. It returns what each came to, and
// who went on when.
func (o *Orders) Do(ctx context.Context, next func(turn int, able []int, last int) int, all ...func(context.Context) error) ([]error, []Turn) {
	doers, errs := make([]*doer, len(all)), make([]error, len(all))
	for i, do := range all {
		d := &doer{which: i, goOn: make(chan struct{})}
		doers[i] = d
		go func() {
			errs[i] = do(context.WithValue(ctx, doerKey{}, d))
			o.events <- event{d, ended}
		}()
	}
	var turns []Turn
	last := -1
	for {
		o.settle(ctx, doers)
		able := []int{}
		for i, d := range doers {
			if d.at == stopped {
				able = append(able, i)
			}
		}
		if len(able) == 0 {
			if !slices.ContainsFunc(doers, func(d *doer) bool { return d.at == working }) {
				return errs, turns
			}
			e := <-o.events // all wait for each other's locks, which the server ends
			e.of.at = e.now
			continue
		}
		last = next(len(turns), able, last)
		turns = append(turns, Turn{able, last})
		doers[last].at = working
		doers[last].goOn <- struct{}{}
	}
}

// settle waits until everybody has stopped, has ended, or waits for a lock.
func (o *Orders) settle(ctx context.Context, doers []*doer) {
	for slices.ContainsFunc(doers, func(d *doer) bool { return d.at == working }) {
		select {
		case e := <-o.events:
			e.of.at = e.now
		case <-time.After(3 * time.Millisecond):
			if !slices.ContainsFunc(doers, func(d *doer) bool { return d.at == working && !o.waits(ctx, d) }) {
				return
			}
		}
	}
}

// waits tells whether somebody waits for a lock.
func (o *Orders) waits(ctx context.Context, d *doer) bool {
	var kind string
	err := o.watch.Pool.QueryRow(ctx, `SELECT coalesce(wait_event_type, '') FROM pg_stat_activity WHERE pid = $1`, int64(d.pid.Load())).Scan(&kind)
	return err == nil && kind == "Lock"
}

// Each tries orders: every one in which at most switches times somebody has to wait who could have gone on (most faults of this
// kind need no more than two: M. Musuvathi and S. Qadeer, “Iterative context bounding for systematic testing of multithreaded
// programs”, PLDI 2007; from memory), and as many random ones as given. try makes one, with what says who goes on, and returns who
// went on when.
func Each(switches, random int, seed uint64, try func(next func(turn int, able []int, last int) int) []Turn) (tried int) {
	var follow func(prefix []int)
	follow = func(prefix []int) {
		turns := try(func(turn int, able []int, last int) int {
			switch {
			case turn < len(prefix) && slices.Contains(able, prefix[turn]):
				return prefix[turn]
			case slices.Contains(able, last):
				return last
			}
			return able[0]
		})
		tried++
		for i := len(prefix); i < len(turns); i++ {
			for _, other := range turns[i].Able {
				way := append(whos(turns[:i]), other)
				if other != turns[i].Who && forced(turns[:i], other, turns[i].Able) <= switches {
					follow(way)
				}
			}
		}
	}
	follow(nil)
	any := rand.New(rand.NewPCG(seed, 1))
	for range random {
		try(func(_ int, able []int, _ int) int { return able[any.IntN(len(able))] })
		tried++
	}
	return tried
}

func whos(turns []Turn) []int {
	out := make([]int, len(turns))
	for i, t := range turns {
		out[i] = t.Who
	}
	return out
}

// forced is how often somebody had to wait who could have gone on, when somebody else goes on next.
func forced(turns []Turn, other int, able []int) (n int) {
	for i := 1; i <= len(turns); i++ {
		who, could := other, able
		if i < len(turns) {
			who, could = turns[i].Who, turns[i].Able
		}
		if last := turns[i-1].Who; who != last && slices.Contains(could, last) {
			n++
		}
	}
	return n
}
