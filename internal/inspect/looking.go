package inspect

import (
	"context"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/site"
	"tidemarker/internal/status"
	"tidemarker/internal/store"
)

// personas makes everybody ready who looks, on each device. Nobody looks meanwhile: who
// signs in or fills a basket changes what others may see.
func (r *Inspection) personas(ctx context.Context, b *browser.Browser, plan site.Plan, pass int, g *gathering) error {
	state := maps.Clone(r.ready)
	if state == nil {
		state = map[[2]string]browser.State{}
	}
	if r.why == nil {
		r.why = map[[2]string]string{}
	}
	var mu sync.Mutex
	eg, preparing := errgroup.WithContext(ctx)
	eg.SetLimit(b.Tabs())
	for who := range plan.Who() {
		persona, known := r.Site.Persona(who[0])
		if !known {
			return errors.Join(fmt.Errorf("there is no persona %q", who[0]), eg.Wait())
		}
		if len(persona.Prepare) == 0 {
			mu.Lock()
			state[who] = browser.State{}
			mu.Unlock()
			continue
		}
		eg.Go(func() error {
			made, look, err := r.prepare(preparing, b, persona, who[1], pass)
			if err != nil {
				return err
			}
			if err := r.Store.SaveLook(preparing, r.Run, pass, "journey", look.Key, look); err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			delete(state, who)
			delete(r.why, who)
			if why := look.NotReady(); why == nil {
				state[who] = made
			} else {
				r.why[who] = why.Error()
			}
			return r.foundReady(preparing, look, g)
		})
	}
	err := eg.Wait()
	r.ready = state
	return err
}

// foundReady holds how somebody was made ready against the mark.
func (r *Inspection) foundReady(ctx context.Context, look evidence.JourneyLook, g *gathering) error {
	if g == nil {
		return nil
	}
	k := evidence.Key{Journey: look.Journey, Persona: look.Persona, Device: look.Device}
	found := evidence.CompareReady(r.Base, look)
	if g.second {
		found = evidence.Confirm(g.of(k), found)
	}
	return g.take(ctx, k, found)
}

// unready says why somebody could not be made ready.
func (r *Inspection) unready(persona, device string) string {
	if why := r.why[[2]string{persona, device}]; why != "" {
		return why
	}
	return persona + " could not be made ready"
}

// prepare makes somebody ready, with a word of their own where their steps have room for
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
	say := func(phase, now string) {
		if g == nil || !g.silent {
			r.Progress.Say(ctx, phase, now)
		}
	}
	say("signing in", "Making everybody ready who looks")
	if err := r.personas(ctx, b, plan, pass, g); err != nil {
		return err
	}
	say("looking", fmt.Sprintf("Looking at %d pages", len(plan.Pages)))
	eg, looking := errgroup.WithContext(ctx)
	eg.SetLimit(b.Tabs())
	for _, t := range plan.Pages {
		eg.Go(func() error { return r.lookAtPage(looking, b, t, pass, g) })
	}
	if err := eg.Wait(); err != nil {
		return err
	}
	if len(plan.Journeys) == 0 {
		return nil
	}
	say("journeys", fmt.Sprintf("Taking %d journeys", len(plan.Journeys)))
	return r.takeJourneys(ctx, b, plan.Journeys, pass, g)
}

// takeJourneys takes journeys when nobody looks at a page, since what they order or write
// may stand there. Those of one persona come one after the other, as one person does
// things; strangers do not know each other.
func (r *Inspection) takeJourneys(ctx context.Context, b *browser.Browser, journeys []site.JourneyTask, pass int, g *gathering) error {
	var chains [][]site.JourneyTask
	of := map[string]int{}
	for _, t := range journeys {
		i, begun := of[t.Journey.Persona]
		if !begun || t.Journey.Persona == site.Visitor {
			i = len(chains)
			of[t.Journey.Persona] = i
			chains = append(chains, nil)
		}
		chains[i] = append(chains[i], t)
	}
	slices.SortStableFunc(chains, func(a, b []site.JourneyTask) int { return len(b) - len(a) }) // the longest first
	eg, taking := errgroup.WithContext(ctx)
	eg.SetLimit(b.Tabs())
	for _, chain := range chains {
		eg.Go(func() error {
			for _, t := range chain {
				if err := r.takeJourney(taking, b, t, pass, g); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return eg.Wait()
}

// counted notes that one look of the first pass has been made.
func (r *Inspection) counted(ctx context.Context, pass int, what, missing string) {
	status.Looks.WithLabelValues(map[bool]string{true: "made", false: "not made"}[missing == ""]).Inc()
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

func (r *Inspection) lookAtPage(ctx context.Context, b *browser.Browser, t site.PageTask, pass int, g *gathering) error {
	state, ready := r.ready[[2]string{t.Persona, t.Device}]
	look := evidence.PageLook{Key: pageKey(t), Class: t.Page.Class,
		Missing: r.unready(t.Persona, t.Device), NotReady: true}
	if pass > 1 && !r.Able.PurgesAll || pass > 2 && !r.Able.PurgesPages && !r.Changed {
		// What is cached cannot be purged here; a second look is to see what changes by itself.
		t.Ask = site.Uncached(t.Page.Path, strconv.FormatInt(r.Run, 10))
	}
	t.Clock = r.clock(look.Key)
	if ready {
		var err error
		if look, err = b.Look(ctx, r.Env, t, state, r.facts(), r.Blobs.Put, r.madeOf(pass)); err != nil {
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
	if g.second {
		g.lookedAgain(look.Key)
		return r.confirmPage(ctx, look, g)
	}
	found, err := evidence.ComparePage(g.base(look.Key), look, r.picture(ctx))
	if err != nil {
		return err
	}
	g.looked(look)
	return g.take(ctx, look.Key, found)
}

// madeOf keeps what pages are made of in the first looks of a run: what becomes a mark is asked by
// predictions.
func (r *Inspection) madeOf(pass int) *browser.Sources {
	if pass != 1 || r.Isolated {
		return nil
	}
	r.sourcing.Do(func() { r.sources = browser.NewSources(r.Blobs.Put) })
	return r.sources
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
	if first.Missing != "" && again.Missing == "" {
		found, err := evidence.ComparePage(r.Base, again, r.picture(ctx))
		return errors.Join(err, g.take(ctx, again.Key, found))
	}
	base, err := r.Base.Relearn(first, again, r.picture(ctx))
	if err != nil {
		return err
	}
	g.learned(again.Key, base)
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

func (r *Inspection) takeJourney(ctx context.Context, b *browser.Browser, t site.JourneyTask, pass int, g *gathering) error {
	state, ready := r.ready[[2]string{t.Journey.Persona, t.Device}]
	look := evidence.JourneyLook{Key: evidence.Key{Page: t.Journey.StartPage(), Journey: t.Journey.Name, Persona: t.Journey.Persona, Device: t.Device},
		Missing: r.unready(t.Journey.Persona, t.Device), Unready: true}
	if ready {
		var err error
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
	notTaken := func(f evidence.Finding) bool { return f.NotLooked() && f.Host == "" }
	if g.second && !slices.ContainsFunc(g.of(k), notTaken) { // else this is the first that is known of it
		found = evidence.Confirm(g.of(k), found)
	}
	return g.take(ctx, k, found)
}

func pageKey(t site.PageTask) evidence.Key {
	return evidence.Key{Page: t.Page.Path, Persona: t.Persona, Device: t.Device}
}

// journeyKey is one key for a journey, on whichever page it failed.
func journeyKey(t site.JourneyTask) evidence.Key {
	return evidence.Key{Journey: t.Journey.Name, Persona: t.Journey.Persona, Device: t.Device}
}
