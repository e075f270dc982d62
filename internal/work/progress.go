package work

import (
	"context"
	"sync"
	"time"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/store"
)

// progress says how far a run is, to the database and to everybody who listens. A
// failure to say so does not stop the run.
type progress struct {
	store  *store.Store
	run    int64
	site   int64
	change *int64

	mu    sync.Mutex
	phase string
	p     store.RunProgress
	told  time.Time
}

// say begins a phase.
func (g *progress) say(ctx context.Context, phase, now string) {
	g.mu.Lock()
	g.phase, g.p.Now = phase, now
	g.mu.Unlock()
	g.send(ctx, true)
}

// update changes the numbers and tells them, though not more often than people see.
func (g *progress) update(ctx context.Context, f func(*store.RunProgress)) {
	g.mu.Lock()
	f(&g.p)
	g.mu.Unlock()
	g.send(ctx, false)
}

func (g *progress) send(ctx context.Context, always bool) {
	g.mu.Lock()
	if !always && time.Since(g.told) < 150*time.Millisecond {
		g.mu.Unlock()
		return
	}
	g.told = time.Now()
	phase, p := g.phase, g.p
	g.mu.Unlock()
	if g.store.SaveProgress(ctx, g.run, phase, p) == nil {
		n := store.Notice{Site: g.site, Run: g.run}
		if g.change != nil {
			n.Change = *g.change
		}
		_ = g.store.Tell(ctx, n)
	}
}

// editing records which edit is about to be published, or with "" that none is left. It
// fails when that cannot be kept: then nothing is published.
func (g *progress) editing(ctx context.Context, name string) error {
	g.mu.Lock()
	g.p.Editing = name
	phase, p := g.phase, g.p
	g.mu.Unlock()
	return g.store.SaveProgress(ctx, g.run, phase, p)
}

func (g *progress) looks() evidence.Progress {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.p.Looks
}
