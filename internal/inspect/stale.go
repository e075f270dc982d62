package inspect

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// asCached asks for every page as it stands, and sends the forms that journeys fill in
// from pages as they are cached. What is found is only found before anything is purged.
func (r *Inspection) staleCheck(ctx context.Context, g *gathering) error {
	plan := r.Site.Plan(r.Env.Name)
	var visits []site.PageTask
	for _, t := range plan.Pages {
		if t.Persona == site.Visitor {
			visits = append(visits, t)
		}
	}
	forms := formsOf(plan)
	r.Progress.update(ctx, func(p *store.RunProgress) { p.Looks.Planned = len(visits) + len(forms) })
	if err := r.sendForms(ctx, forms, 1, g); err != nil {
		return err
	}
	return r.askAsCached(ctx, visits, g)
}

// askAsCached asks for pages as they stand.
func (r *Inspection) askAsCached(ctx context.Context, visits []site.PageTask, g *gathering) error {
	r.Progress.Say(ctx, "probing", "Asking for pages as they are cached")
	eg, asking := errgroup.WithContext(ctx)
	eg.SetLimit(4)
	for _, t := range visits {
		eg.Go(func() error { return r.askStale(asking, t, g) })
	}
	return eg.Wait()
}

// formsOf are the journeys of a plan that fill something in.
func formsOf(plan site.Plan) []site.JourneyTask {
	var out []site.JourneyTask
	for _, t := range plan.Journeys {
		for _, s := range t.Journey.Steps {
			if s.Fill != nil {
				out = append(out, t)
				break
			}
		}
	}
	return out
}

// stands asks for a page as it stands: how old is what is cached?
func (r *Inspection) askStale(ctx context.Context, t site.PageTask, g *gathering) error {
	p := r.probeOf(t, evidence.AsCached)
	lives := exclusion.LayerOf(r.Catalogue, r.Values).Lives()
	p.Allowed, p.Rule, p.FormLives = lives.Seconds, lives.Rule, t.Page.FormLives
	visitor := asker{site.Visitor, t.Device}
	err := r.ask(ctx, t.Page.Path, visitor, nil, &p.First)
	if err == nil {
		began := time.Now()
		// An old copy may be served once more while the page is generated fresh.
		p.Second = p.First
		if p.First.Served.FromCache() {
			err = r.until(ctx, atOnce, func() (bool, error) {
				err := r.ask(ctx, t.Page.Path, visitor, nil, &p.Second)
				return len(evidence.CompareProbe(evidence.Baseline{}, p)) == 0, err
			})
		}
		p.Waited = time.Since(began).Seconds()
	}
	if err == nil {
		err = r.purgePages(ctx, t.Page.Path)
	}
	if err == nil {
		err = r.ask(ctx, r.uncached(t.Page.Path), visitor, nil, &p.Fresh)
	}
	return r.probed(ctx, p, err, 1, g)
}

// sendForms takes the journeys that fill something in on pages as they are cached; one
// that does not work is taken again on pages that are generated fresh.
func (r *Inspection) sendForms(ctx context.Context, forms []site.JourneyTask, pass int, g *gathering) error {
	b, err := r.Browser()
	if err != nil {
		return err
	}
	for _, t := range forms {
		r.Progress.Say(ctx, "probing", fmt.Sprintf("Sending forms from cached pages: %s on %s", t.Journey.Name, t.Device))
		state, ready := r.ready[[2]string{t.Journey.Persona, t.Device}]
		if !ready && t.Journey.Persona != site.Visitor {
			continue // that nobody could sign in was found before
		}
		take := func(pass int) (evidence.JourneyLook, error) {
			look, err := b.Take(ctx, r.Env, t, state, r.Blobs.Put)
			if err != nil {
				return look, err
			}
			return look, r.Store.SaveLook(ctx, r.Run, pass, "journey", look.Key, look)
		}
		cached, err := take(pass)
		if err != nil {
			return err
		}
		if cached.Missing != "" || cached.Outcome.Failed() >= 0 {
			if err := r.purgeSteps(ctx, t, cached); err != nil {
				return err
			}
			anew, err := take(pass + 1)
			if err != nil {
				return err
			}
			found := evidence.LateForm(cached, anew)
			if len(found) == 0 {
				found = evidence.CompareJourney(r.Base, anew)
			}
			k := journeyKey(t)
			if pass > 1 { // beside what the journey showed when nothing was old
				k.Journey += ", later"
				for i := range found {
					found[i].Pass = pass
				}
			}
			if err := g.take(ctx, k, found); err != nil {
				return err
			}
		}
		r.counted(ctx, 1, fmt.Sprintf("%s on %s", t.Journey.Name, t.Device), cached.Missing)
	}
	return nil
}

// purgeSteps purges the pages that a journey went to.
func (r *Inspection) purgeSteps(ctx context.Context, t site.JourneyTask, look evidence.JourneyLook) error {
	var paths []string
	add := func(address string) {
		if u, err := url.Parse(address); err == nil && !slices.Contains(paths, u.RequestURI()) {
			paths = append(paths, u.RequestURI())
		}
	}
	for _, s := range t.Journey.Steps {
		if s.Go != "" {
			add(s.Go)
		}
	}
	for _, s := range look.Outcome.Steps {
		add(s.At)
	}
	if r.Able.PurgesPages {
		return r.purgePages(ctx, paths...)
	}
	return r.purge(ctx)
}
