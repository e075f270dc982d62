package inspect

import (
	"context"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"fmt"
	"maps"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// personas begins to make everybody ready who looks, on each device. A persona whose
// last step did not hold is used all the same: what it carries may be what matters.
func (r *Inspection) personas(ctx context.Context, eg *errgroup.Group, b *browser.Browser, plan site.Plan, pass int, g *gathering) (*readiness, error) {
	wanted := map[[2]string]bool{}
	for _, t := range plan.Pages {
		wanted[[2]string{t.Persona, t.Device}] = true
	}
	for _, t := range plan.Journeys {
		wanted[[2]string{t.Journey.Persona, t.Device}] = true
	}
	m := &readiness{known: map[[2]string]chan struct{}{}, state: maps.Clone(r.ready)}
	if m.state == nil {
		m.state = map[[2]string]browser.State{}
	}
	var prepare []func() error
	for who := range wanted {
		persona, known := r.Site.Persona(who[0])
		if !known {
			return nil, fmt.Errorf("there is no persona %q", who[0])
		}
		done := make(chan struct{})
		m.known[who] = done
		if len(persona.Prepare) == 0 {
			m.set(who, browser.State{})
			close(done)
			continue
		}
		prepare = append(prepare, func() error {
			defer close(done)
			state, look, err := r.prepare(ctx, b, persona, who[1], pass)
			if err != nil {
				return err
			}
			if err := r.Store.SaveLook(ctx, r.Run, pass, "journey", look.Key, look); err != nil {
				return err
			}
			if look.Missing == "" {
				m.set(who, state)
			}
			if g != nil {
				return g.take(ctx, look.Key, evidence.CompareJourney(r.Base, look))
			}
			return nil
		})
	}
	for _, p := range prepare {
		eg.Go(p)
	}
	return m, nil
}

// makeUp makes somebody ready, with a word of their own where their steps have room for
// one.
func (r *Inspection) prepare(ctx context.Context, b *browser.Browser, p site.Persona, device string, pass int) (browser.State, evidence.JourneyLook, error) {
	word := ""
	if journey.HasCanary(p.Prepare) {
		word = r.word(p.Name, device, pass)
	}
	p.Prepare = journey.WithCanary(p.Prepare, word)
	state, look, err := b.Prepare(ctx, r.Env, p, device, r.Blobs.Put)
	state.Canary = word
	return state, look, err
}

// word is made up for somebody, or for an edit: another one each run and each pass,
// so that where it turns up on a page counts as what changes by itself.
func (r *Inspection) word(whose, device string, pass int) string {
	sum := sha256.Sum256(fmt.Appendf(nil, "%d %d %s %s", r.Run, pass, whose, device))
	return "tide" + strings.ToLower(base32.StdEncoding.EncodeToString(sum[:])[:10])
}

// lookAt looks at everything in a plan, several tabs at once, and stores each look as
// it comes. With a gathering, looks are compared with the mark at once.
func (r *Inspection) lookAt(ctx context.Context, plan site.Plan, pass int, g *gathering) error {
	b, err := r.Browser()
	if err != nil {
		return err
	}
	if pass == 1 {
		r.Progress.update(ctx, func(p *store.RunProgress) { p.Looks.Planned = plan.Size() })
	}
	r.Progress.Say(ctx, "looking", fmt.Sprintf("Looking at %d pages and journeys", plan.Size()))
	eg, looking := errgroup.WithContext(ctx)
	eg.SetLimit(b.Tabs())
	// Those who have to be made ready first are begun with; meanwhile the others look.
	made, err := r.personas(looking, eg, b, plan, pass, g)
	if err != nil {
		return errors.Join(err, eg.Wait())
	}
	late := func(who string) bool { p, _ := r.Site.Persona(who); return len(p.Prepare) > 0 }
	for _, later := range []bool{false, true} {
		for _, t := range plan.Pages {
			if late(t.Persona) == later {
				eg.Go(func() error { return r.lookAtPage(looking, b, t, made, pass, g) })
			}
		}
		for _, t := range plan.Journeys {
			if late(t.Journey.Persona) == later {
				eg.Go(func() error { return r.takeJourney(looking, b, t, made, pass, g) })
			}
		}
	}
	err = eg.Wait()
	r.ready = made.all()
	return err
}

// readiness is who is ready to look, as it becomes known.
type readiness struct {
	known map[[2]string]chan struct{} // closed when it is known whether somebody is ready; by persona and device
	mu    sync.Mutex
	state map[[2]string]browser.State
}

func (m *readiness) set(who [2]string, s browser.State) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.state[who] = s
}

// of waits until it is known whether somebody is ready.
func (m *readiness) of(ctx context.Context, persona, device string) (s browser.State, ready bool, err error) {
	who := [2]string{persona, device}
	select {
	case <-m.known[who]:
	case <-ctx.Done():
		return s, false, ctx.Err()
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	s, ready = m.state[who]
	return s, ready, nil
}

func (m *readiness) all() map[[2]string]browser.State {
	m.mu.Lock()
	defer m.mu.Unlock()
	return maps.Clone(m.state)
}

// counted notes that one look of the first pass has been made.
func (r *Inspection) counted(ctx context.Context, pass int, what, missing string) {
	r.Progress.update(ctx, func(p *store.RunProgress) {
		p.Now = what
		if pass != 1 {
			return
		}
		p.Looks.Done++
		if missing != "" {
			p.Looks.Failed++
		}
	})
}

func (r *Inspection) lookAtPage(ctx context.Context, b *browser.Browser, t site.PageTask, made *readiness, pass int, g *gathering) error {
	state, ready, err := made.of(ctx, t.Persona, t.Device)
	if err != nil {
		return err
	}
	look := evidence.PageLook{Key: evidence.Key{Page: t.Page.Path, Persona: t.Persona, Device: t.Device}, Class: t.Page.Class,
		Missing: "The persona " + t.Persona + " could not be made ready."}
	if pass > 1 && !r.Able.PurgesAll {
		// What is cached cannot be purged here; a second look is to see what changes by itself.
		t.Ask = site.Uncached(t.Page.Path, strconv.FormatInt(r.Run, 10))
	}
	t.Clock = r.clock(look.Key)
	if ready {
		if look, err = b.Look(ctx, r.Env, t, state, r.facts(), r.Blobs.Put); err != nil {
			return err
		}
	}
	look.Clock = t.Clock
	if err := r.Store.SaveLook(ctx, r.Run, pass, "page", look.Key, look); err != nil {
		return err
	}
	r.counted(ctx, pass, fmt.Sprintf("%s as %s on %s", t.Page.Path, t.Persona, t.Device), look.Missing)
	if g == nil {
		return nil
	}
	if pass > 1 {
		return r.confirmPage(ctx, look, g)
	}
	found, err := evidence.ComparePage(r.Base, look, r.picture(ctx))
	if err != nil {
		return err
	}
	g.looked(look)
	return g.take(ctx, look.Key, found)
}

// clock is what the browser's clock says in a look: the same as in the mark, so that what
// a page makes of the date is the same, too. Whoever is signed in has tokens that are of
// today, and looks with the real time.
func (r *Inspection) clock(k evidence.Key) time.Time {
	if k.Persona != site.Visitor {
		return time.Time{}
	}
	if m, there := r.Base.Look.Page(k); there && !m.Clock.IsZero() {
		return m.Clock
	}
	r.beginning.Do(func() { r.began = time.Now().UTC().Truncate(time.Millisecond) })
	return r.began
}

// confirmPage holds two looks at the same page against the mark, and keeps what both
// show and what did not differ between the two.
func (r *Inspection) confirmPage(ctx context.Context, again evidence.PageLook, g *gathering) error {
	first := g.firstLook(again.Key)
	base, err := r.Base.Relearn(first, again, r.picture(ctx))
	if err != nil {
		return err
	}
	before, err := evidence.ComparePage(base, first, r.picture(ctx))
	if err != nil {
		return err
	}
	now, err := evidence.ComparePage(base, again, r.picture(ctx))
	if err != nil {
		return err
	}
	return g.take(ctx, again.Key, evidence.Confirm(before, now))
}

func (r *Inspection) takeJourney(ctx context.Context, b *browser.Browser, t site.JourneyTask, made *readiness, pass int, g *gathering) error {
	state, ready, err := made.of(ctx, t.Journey.Persona, t.Device)
	if err != nil {
		return err
	}
	look := evidence.JourneyLook{Key: evidence.Key{Page: t.Journey.StartPage(), Journey: t.Journey.Name, Persona: t.Journey.Persona, Device: t.Device},
		Missing: "The persona " + t.Journey.Persona + " could not be made ready."}
	if ready {
		if look, err = b.Take(ctx, r.Env, t, state, r.Blobs.Put); err != nil {
			return err
		}
	}
	if err := r.Store.SaveLook(ctx, r.Run, pass, "journey", look.Key, look); err != nil {
		return err
	}
	r.counted(ctx, pass, fmt.Sprintf("%s on %s", t.Journey.Name, t.Device), look.Missing)
	if g == nil {
		return nil
	}
	k := journeyKey(t)
	found := evidence.CompareJourney(r.Base, look)
	if pass > 1 {
		found = evidence.Confirm(g.of(k), found)
	}
	return g.take(ctx, k, found)
}

// journeyKey is one key for a journey, on whichever page it failed.
func journeyKey(t site.JourneyTask) evidence.Key {
	return evidence.Key{Journey: t.Journey.Name, Persona: t.Journey.Persona, Device: t.Device}
}
