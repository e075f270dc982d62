package inspect

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"golang.org/x/sync/errgroup"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/site"
)

const (
	// ReturningPass holds the looks of those who were here before the change.
	ReturningPass = 1000
	// newSincePass holds those of who came for the first time right after them, and returnedEarlierPass of who came a second time with
	// the earlier settings.
	newSincePass        = ReturningPass + 3
	returnedEarlierPass = ReturningPass + 4
	// mostReturning is how many pages such a visitor opens on a device, one of each class, and
	// mostReturningAll how many there are on all devices.
	mostReturning    = 3
	mostReturningAll = 5
)

// Returning are browsers that were on the site before the change, with all that they kept.
type Returning struct {
	visitors map[string]*browser.Visitor // by device
	tasks    []site.PageTask
}

// Close ends the browsers.
func (v *Returning) Close() {
	if v == nil {
		return
	}
	for _, b := range v.visitors {
		b.Close()
	}
}

// ComeBefore opens pages as somebody does who is here before the change. It has to be closed.
func (r *Inspection) ComeBefore(ctx context.Context) (*Returning, error) {
	r.Progress.Say(ctx, "returning", "Looking as a visitor who returns")
	return r.visit(ctx, r.returning())
}

// visit has somebody with an empty browser on each device open pages for the first time.
func (r *Inspection) visit(ctx context.Context, tasks []site.PageTask) (*Returning, error) {
	out, err := r.browsers(tasks)
	if err != nil {
		return nil, err
	}
	err = r.inEach(ctx, out, tasks, func(ctx context.Context, t site.PageTask) error { return out.visitors[t.Device].Open(ctx, t) })
	if err != nil {
		out.Close()
		return nil, err
	}
	return out, nil
}

// browsers are empty ones, one on each device of some tasks. They have to be closed.
func (r *Inspection) browsers(tasks []site.PageTask) (*Returning, error) {
	b, err := r.Browser()
	if err != nil {
		return nil, err
	}
	out := &Returning{visitors: map[string]*browser.Visitor{}, tasks: tasks}
	for _, t := range tasks {
		if out.visitors[t.Device] == nil {
			if out.visitors[t.Device], err = b.Visitor(r.Env, t.Device); err != nil {
				out.Close()
				return nil, err
			}
		}
	}
	return out, nil
}

// inEach does something with pages in the browsers that stay, one after the other in each.
func (r *Inspection) inEach(ctx context.Context, v *Returning, tasks []site.PageTask, do func(context.Context, site.PageTask) error) error {
	byDevice := map[string][]site.PageTask{}
	for _, t := range tasks {
		t.Clock = r.clock(pageKey(t))
		byDevice[t.Device] = append(byDevice[t.Device], t)
	}
	eg, coming := errgroup.WithContext(ctx)
	for _, list := range byDevice {
		eg.Go(func() error {
			for _, t := range list {
				if err := do(coming, t); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return eg.Wait()
}

// returning are the pages that somebody opens who comes again: one of each class, those
// first that other people open, too, and then those that show what is published.
func (r *Inspection) returning() []site.PageTask {
	var tasks []site.PageTask
	for _, t := range r.Site.Plan(r.Env.Name).Pages {
		if t.Persona == site.Visitor {
			tasks = append(tasks, t)
		}
	}
	shows := map[string]int{}
	for _, e := range r.Site.PublishingTestsOn(r.Env.Name) {
		for _, at := range e.Shows {
			shows[at.Page] = 1
		}
	}
	slices.SortStableFunc(tasks, func(a, b site.PageTask) int {
		return cmp.Or(len(b.Page.Personas)-len(a.Page.Personas), shows[b.Page.Path]-shows[a.Page.Path])
	})
	var out []site.PageTask
	classes, on := map[string]bool{}, map[string]int{}
	for _, t := range tasks {
		if at := t.Device + " " + t.Page.Class; !classes[at] && on[t.Device] < mostReturning && len(out) < mostReturningAll {
			classes[at] = true
			on[t.Device]++
			out = append(out, t)
		}
	}
	return out
}

// comeAs opens pages in the browsers that stay, one after the other in each.
func (r *Inspection) comeAs(ctx context.Context, v *Returning, tasks []site.PageTask, state map[string]browser.State) ([]evidence.PageLook, error) {
	found := make(chan evidence.PageLook, len(tasks))
	err := r.inEach(ctx, v, tasks, func(ctx context.Context, t site.PageTask) error {
		l, err := v.visitors[t.Device].Look(ctx, t, state[t.Device], r.facts(), r.Blobs.Put)
		if err != nil {
			return err
		}
		l.Clock = t.Clock
		found <- l
		return nil
	})
	close(found)
	var out []evidence.PageLook
	for l := range found {
		out = append(out, l)
	}
	return out, err
}

// comeAgain looks as somebody who was here before the change, and then as the same who has
// signed in: what their browsers kept from before may not fit what is there now.
func (r *Inspection) comeAgain(ctx context.Context, g *gathering) error {
	v := r.Returning
	if v == nil {
		return nil
	}
	r.Progress.Say(ctx, "returning", "Coming again as somebody who was here before the change")
	seen, err := r.comeAs(ctx, v, v.tasks, nil)
	if err != nil {
		return err
	}
	if err := r.judgeReturning(ctx, seen, v.tasks, ReturningPass, g); err != nil {
		return err
	}
	return r.signInAgain(ctx, v, g)
}

// judgeReturning keeps looks of returning visitors under a pass, and reports what they alone have.
func (r *Inspection) judgeReturning(ctx context.Context, seen []evidence.PageLook, tasks []site.PageTask, pass int, g *gathering) error {
	eg, judging := errgroup.WithContext(ctx)
	for _, l := range seen {
		eg.Go(func() error {
			if err := r.Store.SaveLook(judging, r.Run, pass, "page", l.Key, l); err != nil {
				return err
			}
			found, err := r.onlyReturning(judging, l, tasks, g)
			if err != nil {
				return err
			}
			return g.take(judging, returningKey(l.Key), evidence.OnlyReturning(found, l, pass))
		})
	}
	return eg.Wait()
}

// onlyReturning is what somebody has who came again, and new visitors have not: neither the one who looked at the page in this run before,
// nor one who comes right after.
func (r *Inspection) onlyReturning(ctx context.Context, now evidence.PageLook, tasks []site.PageTask, g *gathering) ([]evidence.Finding, error) {
	differs, err := evidence.ComparePage(r.Base, now, r.picture(ctx))
	if err != nil {
		return nil, err
	}
	candidates := evidence.Candidates(differs, g.of(now.Key))
	if len(candidates) == 0 {
		return nil, nil
	}
	i := slices.IndexFunc(tasks, func(t site.PageTask) bool { return pageKey(t) == now.Key })
	after, err := r.comeNew(ctx, tasks[i], newSincePass)
	if err != nil {
		return nil, err
	}
	found, err := r.Base.Against([]evidence.PageLook{now}, []evidence.PageLook{g.firstLook(now.Key), after}, r.picture(ctx))
	return evidence.OfKinds(found, candidates), err
}

// hasReturning reports what returning visitors alone have, and no control has looked at yet.
func hasReturning(f evidence.Finding) bool {
	return f.Pass == ReturningPass && f.Severity != evidence.Note && f.Journey == "" && f.Kind != evidence.StaleKind
}

// returnWithEarlier looks with the earlier settings as somebody who comes a second time, at the pages that returning visitors have
// something of. What they have then, too, is not the change's.
func (r *Inspection) returnWithEarlier(ctx context.Context, g *gathering) error {
	found := g.everything()
	tasks := slices.DeleteFunc(r.returning(), func(t site.PageTask) bool {
		return !slices.ContainsFunc(found[returningKey(pageKey(t))], hasReturning)
	})
	if len(tasks) == 0 {
		return nil
	}
	v, err := r.visit(ctx, tasks)
	if err != nil {
		return err
	}
	defer v.Close()
	seen, err := r.comeAs(ctx, v, tasks, nil)
	if err != nil {
		return err
	}
	for i, l := range seen {
		if err := r.Store.SaveLook(ctx, r.Run, returnedEarlierPass, "page", l.Key, l); err != nil {
			return err
		}
		first, err := r.comeNew(ctx, tasks[slices.IndexFunc(tasks, func(t site.PageTask) bool { return pageKey(t) == l.Key })], returnedEarlierPass+1)
		if err != nil {
			return err
		}
		differs, err := r.Base.Against(seen[i:i+1], []evidence.PageLook{first}, r.picture(ctx))
		if err != nil {
			return err
		}
		had := evidence.OnlyReturning(differs, l, ReturningPass)
		list := slices.Clone(found[returningKey(l.Key)])
		for i, f := range list {
			if hasReturning(f) && slices.ContainsFunc(had, func(h evidence.Finding) bool { return h.Kind == f.Kind && h.Title == f.Title }) {
				list[i] = f.AlsoEarlier()
			}
		}
		if err := g.take(ctx, returningKey(l.Key), list); err != nil {
			return err
		}
	}
	return nil
}

func returningKey(k evidence.Key) evidence.Key {
	k.Journey = "here before"
	return k
}

// signInAgain lets those who were here before sign in, one persona on each device, and looks
// at what they had open: it has to be theirs now.
func (r *Inspection) signInAgain(ctx context.Context, v *Returning, g *gathering) error {
	for _, persona := range r.Site.Personas {
		if len(persona.Prepare) == 0 || len(persona.PrivateTexts) == 0 {
			continue
		}
		state := map[string]browser.State{}
		var tasks []site.PageTask
		for _, t := range v.tasks {
			s, ready := r.ready[[2]string{persona.Name, t.Device}]
			if ready && slices.Contains(t.Page.Personas, persona.Name) {
				t.Persona = persona.Name
				tasks, state[t.Device] = append(tasks, t), s
			}
		}
		if len(tasks) == 0 {
			continue
		}
		for device, s := range state {
			if err := v.visitors[device].Become(s); err != nil {
				return fmt.Errorf("sign in a browser that was here before: %w", err)
			}
		}
		for pass := ReturningPass; pass < ReturningPass+2; pass++ { // and once more, with what the browser kept then
			wrong, err := r.seeTheirs(ctx, v, g, tasks, state, persona, pass)
			if err != nil || wrong {
				return err
			}
		}
		return nil // one person has one browser
	}
	return nil
}

// seeTheirs looks at pages as somebody who was here before and has signed in; wrong when they
// are not shown what is theirs.
func (r *Inspection) seeTheirs(ctx context.Context, v *Returning, g *gathering, tasks []site.PageTask, state map[string]browser.State, persona site.Persona, pass int) (wrong bool, err error) {
	seen, err := r.comeAs(ctx, v, tasks, state)
	if err != nil {
		return false, err
	}
	for _, l := range seen {
		if err := r.Store.SaveLook(ctx, r.Run, pass, "page", l.Key, l); err != nil {
			return false, err
		}
		found := evidence.NotTheirsYet(r.Base, g.firstLook(l.Key), l, persona.PrivateTexts, pass)
		wrong = wrong || len(found) > 0
		if err := g.take(ctx, returningKey(l.Key), found); err != nil {
			return false, err
		}
	}
	return wrong, nil
}

// comeAfterRelease lets those who were here before open the pages that show what an editor has
// just published: their browsers may have kept them as they were.
func (r *Inspection) comeAfterRelease(ctx context.Context, probes []evidence.Probe, word string, g *gathering) error {
	if r.Returning == nil {
		return nil
	}
	shows := map[evidence.Key]evidence.Probe{}
	for _, p := range probes {
		shows[evidence.Key{Page: p.Page, Persona: site.Visitor, Device: p.Device}] = p
	}
	tasks := slices.DeleteFunc(slices.Clone(r.Returning.tasks), func(t site.PageTask) bool { _, there := shows[pageKey(t)]; return !there })
	seen, err := r.comeAs(ctx, r.Returning, tasks, nil)
	if err != nil {
		return err
	}
	for _, l := range seen {
		const pass = ReturningPass + 2
		if err := r.Store.SaveLook(ctx, r.Run, pass, "page", l.Key, l); err != nil {
			return err
		}
		k := l.Key
		k.Journey = "here before, after a release"
		if err := g.take(ctx, k, evidence.NotPublishedYet(shows[l.Key], l, word, pass)); err != nil {
			return err
		}
	}
	return nil
}
