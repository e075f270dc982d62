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

// firstRebuilt looks at pages as whoever comes first after they were purged, with nothing warmed up: what a layer makes in the background is
// not there yet. What such a visitor has and the warm look of this run did not is looked at in turn, first and warm and first and warm, with
// the same settings: only what follows the state of the cache is reported, not what the site changed in the meantime.
func (r *Inspection) firstRebuilt(ctx context.Context, g *gathering) error {
	if !r.Changed || r.Isolated || !r.Able.PurgesPages {
		return nil
	}
	r.Progress.Say(ctx, "rebuilding", "Coming first after pages were purged")
	var visits, late []*firstVisits
	classes := map[string]bool{}
	for _, t := range r.returning() {
		if classes[t.Page.Class] || len(classes) >= mostRebuilt || !site.Cacheable(t.Page.Class) {
			continue
		}
		classes[t.Page.Class] = true
		v := &firstVisits{task: t}
		differs, err := v.turn(ctx, r, g)
		if err != nil {
			return err
		}
		switch {
		case differs:
			visits = append(visits, v)
		case len(v.candidates) > 0:
			late = append(late, v)
		}
	}
	// Where the warm page is as the first one was, the site has changed, or the layer is not ready yet.
	if len(late) > 0 {
		if err := r.until(ctx, readyWithin, func() (bool, error) { return false, nil }); err != nil {
			return err
		}
	}
	for _, v := range late {
		if differs, err := v.warmAgain(ctx, r); err != nil {
			return err
		} else if differs {
			visits = append(visits, v)
		}
	}
	for _, v := range visits {
		if _, err := v.turn(ctx, r, g); err != nil {
			return err
		}
		key := pageKey(v.task)
		key.Journey = "first after a purge"
		if err := g.take(ctx, key, evidence.FirstAfterPurge(v.found, rebuiltPass)); err != nil {
			return err
		}
	}
	return nil
}

// readyWithin is how long a layer may take to make in the background what it serves once a page is warm.
const readyWithin = 3 * time.Second

// firstVisits are looks at one page, first after a purge and once it is warm, in turn.
type firstVisits struct {
	task          site.PageTask
	firsts, warms []evidence.PageLook
	candidates    []evidence.Finding // what the first visitor had and the warm look of the run did not
	found         []evidence.Finding // what first visitors have and those who come later have not
}

// turn looks first and, when that shows something, once the page is warm. differs tells whether the two do.
func (v *firstVisits) turn(ctx context.Context, r *Inspection, g *gathering) (differs bool, err error) {
	pass, k := rebuiltPass+2*len(v.firsts), pageKey(v.task)
	if err := r.purgePages(ctx, v.task.Page.Path); err != nil {
		return false, err
	}
	first, err := r.comeNew(ctx, v.task, pass)
	if err != nil {
		return false, err
	}
	if v.firsts = append(v.firsts, first); pass == rebuiltPass {
		found, err := evidence.ComparePage(r.Base, first, r.picture(ctx))
		if err != nil {
			return false, err
		}
		if v.candidates = evidence.Candidates(found, g.of(k)); len(v.candidates) == 0 {
			return false, nil
		}
	}
	return v.warm(ctx, r, pass+1)
}

// warmAgain looks at the warm page in place of the last time.
func (v *firstVisits) warmAgain(ctx context.Context, r *Inspection) (differs bool, err error) {
	v.warms = v.warms[:len(v.warms)-1]
	return v.warm(ctx, r, rebuiltPass+2*len(v.firsts)-1)
}

// warm looks at the page once it is cached.
func (v *firstVisits) warm(ctx context.Context, r *Inspection, pass int) (differs bool, err error) {
	if _, err := r.askUntilCached(ctx, []string{v.task.Page.Path}); err != nil {
		return false, err
	}
	warm, err := r.comeNew(ctx, v.task, pass)
	if err != nil {
		return false, err
	}
	v.warms = append(v.warms, warm)
	found, err := r.Base.Against(v.firsts, v.warms, r.picture(ctx))
	v.found = evidence.OfKinds(found, v.candidates)
	return len(v.found) > 0, err
}

// comeNew looks at a page as somebody who comes for the first time, and keeps the look under a pass.
func (r *Inspection) comeNew(ctx context.Context, t site.PageTask, pass int) (evidence.PageLook, error) {
	b, err := r.Browser()
	if err != nil {
		return evidence.PageLook{}, err
	}
	t.Clock = r.clock(pageKey(t))
	l, err := b.Look(ctx, r.Env, t, browser.State{}, r.facts(), r.Blobs.Put, nil)
	if err != nil {
		return l, err
	}
	l.Clock = t.Clock
	return l, r.Store.SaveLook(ctx, r.Run, pass, "page", l.Key, l)
}
