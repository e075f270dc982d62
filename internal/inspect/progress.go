package inspect

import (
	"context"
	"fmt"
	"maps"
	"sync"
	"time"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/words"
	"tidemarker/internal/store"
	"tidemarker/internal/trouble"
)

// Progress says how far a run is, to the database and to everybody who listens. A
// failure to say so does not stop the run.
type Progress struct {
	store *store.Store
	about store.Signal

	mu    sync.Mutex
	phase string
	p     store.RunProgress
	told  time.Time
	began time.Time // of the phase
}

// NewProgress is the progress of a run that begins now.
func NewProgress(st *store.Store, r store.Run) *Progress {
	n := store.Signal{Site: r.SiteID, Run: r.ID}
	if r.ChangeID != nil {
		n.Change = *r.ChangeID
	}
	return &Progress{store: st, about: n, p: store.RunProgress{Started: time.Now().UTC(), Editing: r.Progress.V.Editing}}
}

// Say begins a phase.
func (g *Progress) Say(ctx context.Context, phase, now string) {
	g.mu.Lock()
	g.spend() // what the phase before took
	g.phase, g.p.Now = phase, now
	g.mu.Unlock()
	g.Send(ctx, true)
	trouble.At(trouble.Phase(phase))
}

// Waits says that an environment does not answer for now, until the run gets on.
func (g *Progress) Waits(ctx context.Context, environment string, pause time.Duration) {
	g.mu.Lock()
	g.p.Now = fmt.Sprintf("%s is not answering. Trying again in %s", environment, words.Span(int(max(1, pause.Round(time.Second).Seconds()))))
	g.mu.Unlock()
	g.Send(ctx, true)
}

// spend counts the time of the phase so far; g.mu is held.
func (g *Progress) spend() {
	at := time.Now()
	if g.phase != "" && !g.began.IsZero() {
		spent := maps.Clone(g.p.Spent) // what was sent is still being written
		if spent == nil {
			spent = map[string]int64{}
		}
		spent[g.phase] += at.Sub(g.began).Milliseconds()
		g.p.Spent = spent
	}
	g.began = at
}

// update changes the numbers and tells them, though not more often than people see.
func (g *Progress) update(ctx context.Context, f func(*store.RunProgress)) {
	g.mu.Lock()
	f(&g.p)
	g.mu.Unlock()
	g.Send(ctx, false)
}

// Send tells everybody who listens; always also when they were told a moment ago.
func (g *Progress) Send(ctx context.Context, always bool) {
	g.mu.Lock()
	if !always && time.Since(g.told) < 150*time.Millisecond {
		g.mu.Unlock()
		return
	}
	if always {
		g.spend()
	}
	g.told = time.Now()
	phase, p := g.phase, g.p
	g.mu.Unlock()
	if g.store.SaveProgress(ctx, g.about.Run, phase, p) == nil {
		_ = g.store.Tell(ctx, g.about)
	}
}

// editing records which edit is about to be published, or with "" that none is left. It
// fails when that cannot be kept: then nothing is published.
func (g *Progress) editing(ctx context.Context, name string) error {
	g.mu.Lock()
	g.p.Editing = name
	phase, p := g.phase, g.p
	g.mu.Unlock()
	return g.store.SaveProgress(ctx, g.about.Run, phase, p)
}

// Editing is the test edit that is published and not taken back yet; "" when there is none.
func (g *Progress) Editing() string {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.p.Editing
}

func (g *Progress) Looks() evidence.Progress {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.p.Looks
}
