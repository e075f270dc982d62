package work

import (
	"context"
	"fmt"
	"image"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/visual"
	"tidemarker/internal/store"
)

// check clears, warms, looks, compares with the mark, looks a second time at what
// differs, and comes to a verdict.
func (r *round) check(ctx context.Context) error {
	if err := r.clearAndWarm(ctx); err != nil {
		return err
	}
	g := gathering{round: r, seen: map[evidence.Key][]evidence.Finding{}}
	if err := r.lookAt(ctx, r.site.Plan(r.env.Name), 1, &g); err != nil {
		return err
	}
	if err := r.lookAgain(ctx, &g); err != nil {
		return err
	}
	if err := r.probe(ctx, 1, &g); err != nil {
		return err
	}
	findings := g.all()
	if err := r.Store.SaveFindings(ctx, r.row.ID, findings); err != nil {
		return err
	}
	looks := r.progress.looks()
	r.row.Verdict = evidence.Judge(findings, looks)
	r.row.Summary = evidence.Summarise(r.row.Verdict, findings, looks)
	return nil
}

// gathering collects findings as they come.
type gathering struct {
	round *round
	mu    sync.Mutex
	seen  map[evidence.Key][]evidence.Finding
}

func (g *gathering) all() []evidence.Finding {
	g.mu.Lock()
	defer g.mu.Unlock()
	var out []evidence.Finding
	for _, f := range g.seen {
		out = append(out, f...)
	}
	evidence.Sort(out)
	return out
}

// take puts in what was found of one thing, replacing what was found of it before,
// and stores all findings so far when that changed something.
func (g *gathering) take(ctx context.Context, k evidence.Key, findings []evidence.Finding) error {
	g.mu.Lock()
	had := len(g.seen[k])
	g.seen[k] = findings
	g.mu.Unlock()
	if had == 0 && len(findings) == 0 {
		return nil
	}
	all := g.all()
	g.round.progress.update(ctx, func(p *store.Progress) {
		p.Broken, p.Unsure = 0, 0
		for _, f := range all {
			switch f.Severity {
			case evidence.Broken:
				p.Broken++
			case evidence.Unsure:
				p.Unsure++
			}
		}
	})
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.round.Store.SaveFindings(ctx, g.round.row.ID, all)
}

// personas makes everybody ready who looks, on each device, and returns their state.
func (r *round) personas(ctx context.Context, plan site.Plan, pass int, g *gathering) (map[[2]string]browser.State, error) {
	wanted := map[[2]string]bool{}
	for _, t := range plan.Pages {
		wanted[[2]string{t.Persona, t.Device}] = true
	}
	for _, t := range plan.Journeys {
		wanted[[2]string{t.Journey.Persona, t.Device}] = true
	}
	b, err := r.Browser()
	if err != nil {
		return nil, err
	}
	var mu sync.Mutex
	states := map[[2]string]browser.State{}
	eg, looking := errgroup.WithContext(ctx)
	eg.SetLimit(b.Tabs())
	for who := range wanted {
		persona, known := r.site.Persona(who[0])
		if !known {
			return nil, fmt.Errorf("there is no persona %q", who[0])
		}
		if len(persona.Prepare) == 0 {
			states[who] = browser.State{}
			continue
		}
		eg.Go(func() error {
			state, look, err := b.Prepare(looking, r.environment(), persona, who[1], r.Store.Put)
			if err != nil {
				return err
			}
			if err := r.Store.SaveLook(looking, r.row.ID, pass, "journey", look.Key, look); err != nil {
				return err
			}
			if look.Missing == "" && look.Outcome.Failed() < 0 {
				mu.Lock()
				states[who] = state
				mu.Unlock()
			}
			if g != nil {
				return g.take(looking, look.Key, evidence.CompareJourney(r.base, look))
			}
			return nil
		})
	}
	return states, eg.Wait()
}

// lookAt looks at everything in a plan, several tabs at once, and stores each look as
// it comes. With a gathering, looks are compared with the mark at once.
func (r *round) lookAt(ctx context.Context, plan site.Plan, pass int, g *gathering) error {
	b, err := r.Browser()
	if err != nil {
		return err
	}
	if pass == 1 {
		r.progress.update(ctx, func(p *store.Progress) { p.Looks.Planned = plan.Size() })
	}
	r.progress.say(ctx, "looking", fmt.Sprintf("Looking at %d pages and journeys", plan.Size()))
	states, err := r.personas(ctx, plan, pass, g)
	if err != nil {
		return err
	}
	eg, looking := errgroup.WithContext(ctx)
	eg.SetLimit(b.Tabs())
	for _, t := range plan.Pages {
		eg.Go(func() error { return r.lookAtPage(looking, b, t, states, pass, g) })
	}
	for _, t := range plan.Journeys {
		eg.Go(func() error { return r.takeJourney(looking, b, t, states, pass, g) })
	}
	return eg.Wait()
}

// counted notes that one look of the first pass has been made.
func (r *round) counted(ctx context.Context, pass int, what, missing string) {
	r.progress.update(ctx, func(p *store.Progress) {
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

func (r *round) lookAtPage(ctx context.Context, b *browser.Browser, t site.PageTask, states map[[2]string]browser.State, pass int, g *gathering) error {
	state, ready := states[[2]string{t.Persona, t.Device}]
	look := evidence.PageLook{Key: evidence.Key{Page: t.Page.Path, Persona: t.Persona, Device: t.Device}, Class: t.Page.Class,
		Missing: "The persona " + t.Persona + " could not be made ready."}
	if ready {
		var err error
		if look, err = b.Look(ctx, r.environment(), t, state, r.Store.Put); err != nil {
			return err
		}
	}
	if err := r.Store.SaveLook(ctx, r.row.ID, pass, "page", look.Key, look); err != nil {
		return err
	}
	r.counted(ctx, pass, fmt.Sprintf("%s as %s on %s", t.Page.Path, t.Persona, t.Device), look.Missing)
	if g == nil {
		return nil
	}
	found, err := evidence.ComparePage(r.base, look, r.picture(ctx))
	if err != nil {
		return err
	}
	return g.take(ctx, look.Key, confirmed(g, look.Key, found, pass))
}

func (r *round) takeJourney(ctx context.Context, b *browser.Browser, t site.JourneyTask, states map[[2]string]browser.State, pass int, g *gathering) error {
	state, ready := states[[2]string{t.Journey.Persona, t.Device}]
	look := evidence.JourneyLook{Key: evidence.Key{Page: t.Journey.StartPage(), Journey: t.Journey.Name, Persona: t.Journey.Persona, Device: t.Device},
		Missing: "The persona " + t.Journey.Persona + " could not be made ready."}
	if ready {
		var err error
		if look, err = b.Take(ctx, r.environment(), t, state, r.Store.Put); err != nil {
			return err
		}
	}
	if err := r.Store.SaveLook(ctx, r.row.ID, pass, "journey", look.Key, look); err != nil {
		return err
	}
	r.counted(ctx, pass, fmt.Sprintf("%s on %s", t.Journey.Name, t.Device), look.Missing)
	if g == nil {
		return nil
	}
	k := journeyKey(t)
	return g.take(ctx, k, confirmed(g, k, evidence.CompareJourney(r.base, look), pass))
}

// journeyKey is one key for a journey, on whichever page it failed.
func journeyKey(t site.JourneyTask) evidence.Key {
	return evidence.Key{Journey: t.Journey.Name, Persona: t.Journey.Persona, Device: t.Device}
}

func confirmed(g *gathering, k evidence.Key, found []evidence.Finding, pass int) []evidence.Finding {
	if pass == 1 {
		return found
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	return evidence.Confirm(g.seen[k], found)
}

// lookAgain looks a second time at what differed and could be chance: journeys first,
// since pages are dropped from the cache before they are looked at again, so that what
// changes by itself gets its chance to change.
func (r *round) lookAgain(ctx context.Context, g *gathering) error {
	plan := r.site.Plan(r.env.Name)
	doubtful := func(k evidence.Key) bool {
		g.mu.Lock()
		defer g.mu.Unlock()
		return slices.ContainsFunc(g.seen[k], evidence.Finding.NeedsSecondLook)
	}
	var journeys, pages site.Plan
	for _, t := range plan.Journeys {
		if doubtful(journeyKey(t)) {
			journeys.Journeys = append(journeys.Journeys, t)
		}
	}
	var addresses []string
	for _, t := range plan.Pages {
		if doubtful(evidence.Key{Page: t.Page.Path, Persona: t.Persona, Device: t.Device}) {
			pages.Pages = append(pages.Pages, t)
			addresses = append(addresses, r.environment().Address(t.Page.Path))
		}
	}
	if len(journeys.Journeys) > 0 {
		if err := r.lookAt(ctx, journeys, 2, g); err != nil {
			return err
		}
	}
	if len(pages.Pages) == 0 {
		return nil
	}
	if r.about.Has("purge-urls") {
		if _, err := r.client.Purge(ctx, addresses); err != nil {
			return err
		}
	}
	return r.lookAt(ctx, pages, 2, g)
}

// picture reads kept pictures for the comparison.
func (r *round) picture(ctx context.Context) evidence.Pictures {
	return Pictures(ctx, r.Store)
}

// Pictures reads kept pictures as pixels.
func Pictures(ctx context.Context, blobs store.Blobs) evidence.Pictures {
	return func(sha string) (*image.NRGBA, error) {
		b, err := blobs.Get(ctx, sha)
		if err != nil {
			return nil, err
		}
		return visual.Decode(b.Bytes)
	}
}
