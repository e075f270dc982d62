package inspect

import (
	"context"
	"fmt"
	"slices"
	"time"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

const (
	// AwaitLimit is for how long a check waits for something to grow old. What takes longer
	// is planned as a look later on.
	AwaitLimit = time.Minute
	// awaitedPass and the next hold what is seen then; rebuiltPass and the next what who comes
	// first after a purge sees.
	awaitedPass = 1010
	rebuiltPass = 1020
	// mostRebuilt is how many pages are looked at as whoever comes first sees them.
	mostRebuilt = 3
	// mostAsked is how many pages that have lived their time are asked for.
	mostAsked = 6
)

// moments are the times that are new with the settings in force, and the layer that serves.
func (r *Inspection) moments(ctx context.Context) ([]exclusion.Moment, error) {
	if r.Compared == nil {
		return nil, nil
	}
	before, err := r.momentsWith(ctx, r.Compared)
	if err != nil {
		return nil, err
	}
	now, err := r.momentsWith(ctx, r.Values)
	return exclusion.NewMoments(before, now), err
}

// Moments are the times from which on something may be otherwise with the settings in force, whether or not it was so with the
// earlier ones.
func (r *Inspection) Moments(ctx context.Context) ([]exclusion.Moment, error) {
	return r.momentsWith(ctx, r.Values)
}

func (r *Inspection) momentsWith(ctx context.Context, v settings.Values) ([]exclusion.Moment, error) {
	about, err := RuleContextOf(ctx, r.Store, r.EnvID)
	if err != nil {
		return nil, err
	}
	return exclusion.Moments(exclusion.LayerOf(r.Catalogue, v), about.Known.Pages, browser.Agent(site.Desktop)), nil
}

// Later are the moments that the check did not wait for, the earliest first.
func (r *Inspection) Later() []exclusion.Moment {
	return slices.DeleteFunc(slices.Clone(r.grows), func(m exclusion.Moment) bool { return time.Duration(m.After)*time.Second <= AwaitLimit })
}

// await waits for what grows old within the limit, and looks whether it still works then.
func (r *Inspection) await(ctx context.Context, g *gathering) error {
	all, err := r.moments(ctx)
	if err != nil {
		return err
	}
	r.grows = all
	began := time.Now()
	warm := true
	for _, m := range all {
		after := time.Duration(m.After) * time.Second
		if after > AwaitLimit {
			continue
		}
		if warm { // once, so that all grow old together
			if err := r.CacheFrom(ctx, all); err != nil {
				return err
			}
			began, warm = time.Now(), false
		}
		r.Progress.Say(ctx, "waiting", fmt.Sprintf("Waiting for %s: %s", after, m))
		if err := r.until(ctx, time.Until(began.Add(after)), func() (bool, error) { return false, nil }); err != nil {
			return err
		}
		if err := r.atMoment(ctx, m, g); err != nil {
			return err
		}
	}
	return nil
}

// CacheFrom asks for the pages of moments, so that they are cached from now on: nobody else
// comes to a staging site.
func (r *Inspection) CacheFrom(ctx context.Context, moments []exclusion.Moment) error {
	var pages []string
	for _, m := range moments {
		pages = append(pages, m.Pages...)
	}
	slices.Sort(pages)
	pages = slices.Compact(pages)
	if err := r.purgePages(ctx, pages...); err != nil {
		return err
	}
	for _, path := range pages {
		page, _ := r.Site.Page(path)
		for _, device := range page.Devices {
			var a evidence.Answer
			if err := r.ask(ctx, path, asker{site.Visitor, device}, nil, &a); ctx.Err() != nil {
				return err // one that does not answer is told of when it is looked at
			}
		}
	}
	return nil
}

// atMoment does what the moment is about.
func (r *Inspection) atMoment(ctx context.Context, m exclusion.Moment, g *gathering) error {
	plan := r.Site.Plan(r.Env.Name)
	switch m.Kind {
	case exclusion.FormsAged:
		forms := slices.DeleteFunc(formsOf(plan), func(t site.JourneyTask) bool {
			return !slices.ContainsFunc(t.Journey.Steps, func(s journey.Step) bool { return slices.Contains(m.Pages, s.Go) })
		})
		r.Progress.update(ctx, func(p *store.RunProgress) { p.Looks.Planned += len(forms) })
		return r.sendForms(ctx, forms, awaitedPass, g)
	case exclusion.Expired:
		var visits []site.PageTask
		for _, t := range plan.Pages {
			if t.Persona == site.Visitor && slices.Contains(m.Pages, t.Page.Path) && len(visits) < mostAsked {
				visits = append(visits, t)
			}
		}
		return r.askAsCached(ctx, visits, g)
	}
	return nil
}

// firstRebuilt looks at pages as whoever comes first sees them after they were purged, with
// nothing warmed up: what a layer makes in the background is not there yet. What the warm look
// shows, too, is no matter of it; the rest has to show twice.
func (r *Inspection) firstRebuilt(ctx context.Context, g *gathering) error {
	if !r.Changed || r.Isolated || !r.Able.PurgesPages {
		return nil
	}
	var tasks []site.PageTask
	classes := map[string]bool{}
	for _, t := range r.returning() {
		if !classes[t.Page.Class] && len(tasks) < mostRebuilt && site.Cacheable(t.Page.Class) {
			classes[t.Page.Class] = true
			tasks = append(tasks, t)
		}
	}
	found, err := r.rebuilt(ctx, tasks, rebuiltPass, g)
	if err != nil || len(found) == 0 {
		return err
	}
	tasks = slices.DeleteFunc(tasks, func(t site.PageTask) bool { return len(found[pageKey(t)]) == 0 })
	again, err := r.rebuilt(ctx, tasks, rebuiltPass+1, g)
	if err != nil {
		return err
	}
	for k, list := range found {
		list = slices.DeleteFunc(list, func(f evidence.Finding) bool { return !f.Shows(again[k]) })
		key := k
		key.Journey = "first after a purge"
		if err := g.take(ctx, key, evidence.FirstAfterPurge(list, rebuiltPass)); err != nil {
			return err
		}
	}
	return nil
}

// rebuilt purges pages and looks at them at once; it gives what the warm looks did not show.
func (r *Inspection) rebuilt(ctx context.Context, tasks []site.PageTask, pass int, g *gathering) (map[evidence.Key][]evidence.Finding, error) {
	b, err := r.Browser()
	if err != nil || len(tasks) == 0 {
		return nil, err
	}
	r.Progress.Say(ctx, "rebuilding", "Coming first after pages were purged")
	out := map[evidence.Key][]evidence.Finding{}
	for _, t := range tasks {
		if err := r.purgePages(ctx, t.Page.Path); err != nil {
			return nil, err
		}
		t.Clock = r.clock(pageKey(t))
		l, err := b.Look(ctx, r.Env, t, browser.State{}, r.facts(), r.Blobs.Put, nil)
		if err != nil {
			return nil, err
		}
		l.Clock = t.Clock
		if err := r.Store.SaveLook(ctx, r.Run, pass, "page", l.Key, l); err != nil {
			return nil, err
		}
		found, err := evidence.ComparePage(g.base(l.Key), l, r.picture(ctx))
		if err != nil {
			return nil, err
		}
		if found = evidence.NotWarm(found, g.of(l.Key)); len(found) > 0 {
			out[l.Key] = found
		}
	}
	return out, nil
}
