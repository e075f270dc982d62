package soak_test

import (
	"context"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

const (
	// between is how long people act between two checks with nothing under way.
	between = 90 * time.Second
	// shortest is how long the short form goes on, beside what it takes to settle.
	shortest = 60 * time.Second
)

// TestFaultsAreSurvived makes trouble until as many processes were killed as TIDEMARKER_SOAK says, or for two minutes. What people, troubles
// and kills are chosen follows from the seed, which TIDEMARKER_SOAK_SEED repeats; when each comes about depends on the machine,
// too, so that a fault may need several tries with its seed.
func TestFaultsAreSurvived(t *testing.T) {
	kills, _ := strconv.Atoi(os.Getenv("TIDEMARKER_SOAK"))
	seed, err := strconv.ParseUint(os.Getenv("TIDEMARKER_SOAK_SEED"), 10, 64)
	if err != nil {
		seed = uint64(time.Now().UnixNano())
	}
	t.Logf("seed %d: TIDEMARKER_SOAK_SEED=%d repeats it", seed, seed)
	w := newWorld(t, seed)
	defer func() { t.Log(w.counts.table(), "\nwhat was refused:", w.counts.why()) }()
	w.begin(t.Context())
	random := rand.New(rand.NewPCG(seed, 1))
	for began := time.Now(); ; {
		length := between
		if kills == 0 {
			length = shortest
		}
		w.trouble(t.Context(), random, length)
		w.calm(t.Context())
		if done := w.counts.total(); kills > 0 && done >= kills || kills == 0 && time.Since(began) > shortest {
			return
		}
		t.Logf("%d processes killed after %s", w.counts.total(), time.Since(began).Round(time.Second))
	}
}

// begin takes the first marks, without which nothing can be tried.
func (w *world) begin(ctx context.Context) {
	w.Helper()
	for _, s := range w.shops {
		for _, env := range s.envs {
			w.people[0].summary(ctx, "/environments/"+strconv.FormatInt(env, 10)+"/marks", nil)
		}
	}
	x, err := w.settle(ctx)
	require.NoError(w, err)
	require.Empty(w, x)
}

// trouble lets people act, processes be killed and everything else go wrong for a while, and checks after each trouble.
func (w *world) trouble(ctx context.Context, random *rand.Rand, for_ time.Duration) {
	w.Helper()
	acting, end := context.WithTimeout(ctx, for_)
	defer end()
	var all sync.WaitGroup
	for _, p := range w.people {
		all.Go(func() {
			for acting.Err() == nil {
				p.act(acting)
				pause(acting, time.Duration(p.random.IntN(400))*time.Millisecond)
			}
		})
	}
	for _, p := range w.programs {
		all.Go(func() { w.killAgainAndAgain(acting, p) })
	}
	for acting.Err() == nil {
		what, do := w.next(random)
		do(acting)
		w.counts.troubled(what)
		x, err := w.check(ctx, false)
		require.NoError(w, err)
		w.counts.checks++
		if len(x) > 0 {
			end()
			all.Wait()
			w.fail(x)
		}
		pause(acting, time.Duration(500+random.IntN(2500))*time.Millisecond)
	}
	all.Wait()
}

// pause waits for a while, which is part of the plan; the seed says how long.
func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// killAgainAndAgain lets a program run until it comes to the point at which it kills itself, or kills it at a time of the seed's
// choice, and starts it anew.
func (w *world) killAgainAndAgain(ctx context.Context, p *program) {
	for ctx.Err() == nil {
		select {
		case <-ctx.Done():
			return
		case <-p.died:
			point, byItself, code := p.gone()
			if byItself && !w.excused(p) {
				w.Errorf("%s ended by itself with code %d: see its log\n%s", p.name, code, tail(p))
				return
			}
			if !byItself {
				w.counts.killed(point)
			}
		case <-time.After(p.lives()):
			p.mu.Lock()
			still := p.stopped
			p.mu.Unlock()
			if still {
				continue // its clock stands; it is to go on as it was
			}
			p.kill()
			w.counts.killed("at random")
		}
		p.start(w.T, p.arm())
	}
}

// excused tells whether a program may end by itself: it was begun while the database went away.
func (w *world) excused(p *program) bool {
	said := tail(p)
	return time.Since(p.since) < 15*time.Second && (strings.Contains(said, "connect") || strings.Contains(said, "start the job queue"))
}

func tail(p *program) string {
	raw, _ := os.ReadFile(p.folder + "/" + p.name + ".log")
	return string(raw[max(0, len(raw)-1500):])
}

// next is the trouble that comes next.
func (w *world) next(random *rand.Rand) (what string, do func(context.Context)) {
	p := w.programs[random.IntN(len(w.programs))]
	s := w.shops[random.IntN(len(w.shops))]
	e := []*environment{s.staging, s.production}[random.IntN(2)]
	length := time.Duration(1+random.IntN(6)) * time.Second
	switch n := random.IntN(20); {
	case n == 0:
		return "the database was ended at once and started again", func(context.Context) { w.restartDatabase() }
	case n <= 3:
		return "a process's connections to the database were cut", func(context.Context) { p.line.cut() }
	case n == 4:
		return "a process could not reach the database for some seconds", func(ctx context.Context) {
			p.line.refuse(true)
			p.line.cut()
			pause(ctx, length)
			p.line.refuse(false)
		}
	case n == 5:
		return "no picture could be kept for some seconds: disk full", func(ctx context.Context) { w.fullDisk(ctx, length) }
	case n == 6:
		for_ := length
		if os.Getenv("TIDEMARKER_SOAK") != "" {
			for_ = time.Minute
		}
		return "a process's clock stood still, and its connections were cut meanwhile", func(ctx context.Context) {
			p.still(true)
			p.line.cut()
			pause(ctx, for_)
			p.still(false)
		}
	case n <= 10:
		return "somebody changed a setting behind everybody's back", func(context.Context) { e.behindBacks(random) }
	}
	m := moods[random.IntN(len(moods))]
	return "a connector " + string(m), func(context.Context) { e.take(m, length) }
}

// fullDisk has the database answer each picture as it does when its disk is full (SQLSTATE 53100).
func (w *world) fullDisk(ctx context.Context, d time.Duration) {
	steady := context.WithoutCancel(ctx)
	_, err := w.db().Pool.Exec(steady, `CREATE OR REPLACE FUNCTION full_disk() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'could not extend file: No space left on device' USING ERRCODE = '53100'; END $$`)
	if err == nil {
		_, err = w.db().Pool.Exec(steady, `CREATE OR REPLACE TRIGGER full_disk BEFORE INSERT ON blobs EXECUTE FUNCTION full_disk()`)
	}
	require.NoError(w, err)
	pause(ctx, d)
	_, err = w.db().Pool.Exec(steady, `DROP TRIGGER full_disk ON blobs`)
	require.NoError(w, err)
}

// calm takes all trouble away, waits until nothing is under way, and checks everything.
func (w *world) calm(ctx context.Context) {
	w.Helper()
	if w.Failed() {
		w.fail(nil)
	}
	for _, s := range w.shops {
		s.staging.take(well, 0)
		s.production.take(well, 0)
	}
	for _, p := range w.programs { // with no point at which they kill themselves
		p.still(false)
		p.kill()
		p.start(w.T, "")
		w.counts.killed("at random")
	}
	w.serves()
	for _, s := range w.shops {
		w.endStepUp(ctx, s)
	}
	x, err := w.settle(ctx)
	require.NoError(w, err)
	if len(x) == 0 {
		settled, err := w.checkSettled(ctx)
		require.NoError(w, err)
		everything, err := w.check(ctx, true)
		require.NoError(w, err)
		secrets, err := w.checkSecrets(ctx)
		require.NoError(w, err)
		x = append(append(settled, everything...), secrets...)
	}
	w.counts.checks++
	w.counts.settled++
	if len(x) > 0 {
		w.fail(x)
	}
}

func (w *world) endStepUp(ctx context.Context, s *shop) {
	var id int64
	if w.db().Pool.QueryRow(ctx, `SELECT change_id FROM step_ups WHERE site_id = $1 AND over_at IS NULL`, s.id).Scan(&id) == nil {
		w.people[2].ask(ctx, "POST", "/changes/"+strconv.FormatInt(id, 10)+"/step-up/stop", nil, nil)
	}
}

// fail ends the soak with what is wrong, and keeps the logs.
func (w *world) fail(x wrong) {
	w.Helper()
	for _, p := range w.programs {
		w.Logf("the end of what %s said:\n%s", p.name, tail(p))
	}
	kept, err := os.MkdirTemp("", "tidemarker-soak-failed-")
	if err == nil {
		for _, p := range w.programs {
			raw, _ := os.ReadFile(p.folder + "/" + p.name + ".log")
			_ = os.WriteFile(kept+"/"+p.name+".log", raw, 0o600)
		}
	}
	w.Fatalf("seed %d; logs in %s\n%s", w.seed, kept, strings.Join(x, "\n"))
}
