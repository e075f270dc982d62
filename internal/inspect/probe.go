package inspect

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/url"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/site"
	"tidemarker/internal/speedlayer"
	"tidemarker/internal/store"
)

// probe makes the requests that a page cache could confuse: a stranger's right after
// another's or a persona's, one persona's after another's, one device's after another's,
// and one with another value of a parameter.
func (r *Inspection) probe(ctx context.Context, pass int, g *gathering) error {
	r.Progress.Say(ctx, "probing", "Asking as somebody else, and with other parameters")
	byPath := r.probes(pass, g)
	eg, asking := errgroup.WithContext(ctx)
	eg.SetLimit(4)
	for _, probes := range byPath {
		eg.Go(func() error {
			for _, p := range probes {
				if err := p(asking); err != nil {
					return err
				}
			}
			return nil
		})
	}
	if err := eg.Wait(); err != nil {
		return err
	}
	return r.signOutProbes(ctx, pass, g)
}

// TestIsolation makes everybody ready and asks for the pages as each of them, without
// looking at any: whether the site serves cached pages to those alone who may get them.
func (r *Inspection) TestIsolation(ctx context.Context) (Result, error) {
	r.Isolated = true
	g := r.gathering()
	if err := r.makeReady(ctx, g); err != nil {
		return Result{}, err
	}
	// What is cached now is older than anything will be once it has been purged.
	if err := r.staleCheck(ctx, g); err != nil {
		return Result{}, err
	}
	if err := r.purge(ctx); err != nil {
		return Result{}, err
	}
	planned := 0
	for _, probes := range r.probes(1, g) {
		planned += len(probes)
	}
	planned += r.signOutPages() + r.publishingPages()
	r.Progress.update(ctx, func(p *store.RunProgress) { p.Looks.Planned += planned })
	if err := r.probe(ctx, 1, g); err != nil {
		return Result{}, err
	}
	if err := r.publish(ctx, g); err != nil {
		return Result{}, err
	}
	out, err := r.conclude(ctx, g.all())
	if err == nil && out.Verdict == evidence.VerdictClear {
		out.Summary = fmt.Sprintf("Clear: in %d tries nobody was served what is not theirs.", r.Progress.looks().Done)
	}
	return out, err
}

// makeReady makes everybody ready who asks, unless they still are from an earlier isolation test.
func (r *Inspection) makeReady(ctx context.Context, g *gathering) error {
	if state, still := r.stillReady(r.EnvID); still {
		r.ready = state
		return nil
	}
	b, err := r.Browser()
	if err != nil {
		return err
	}
	r.Progress.Say(ctx, "signing in", "Making everybody ready who asks")
	eg, ready := errgroup.WithContext(ctx)
	eg.SetLimit(b.Tabs())
	plan := r.Site.Plan(r.Env.Name)
	plan.Journeys = formsOf(plan)
	made, err := r.personas(ready, eg, b, plan, 1, g)
	if err := errors.Join(err, eg.Wait()); err != nil {
		return err
	}
	r.ready = made.all()
	if len(g.all()) == 0 { // somebody who could not sign in is no use to later ones
		r.keepReady(r.EnvID, r.ready)
	}
	return nil
}

// probes are what probe asks, by page.
func (r *Inspection) probes(pass int, g *gathering) map[string][]func(context.Context) error {
	plan := r.Site.Plan(r.Env.Name)
	// Probes of one page disturb each other, those of different pages do not.
	byPath := map[string][]func(context.Context) error{}
	add := func(path string, do func(context.Context) error) { byPath[path] = append(byPath[path], do) }
	personas := map[[2]string][]site.PageTask{} // by page and device
	for _, t := range plan.Pages {
		at := [2]string{t.Page.Path, t.Device}
		if t.Persona != site.Visitor {
			personas[at] = append(personas[at], t)
			add(t.Page.Path, func(ctx context.Context) error { return r.strangerAfter(ctx, t, pass, g) })
			add(t.Page.Path, func(ctx context.Context) error { return r.personaTwice(ctx, t, pass, g) })
			stranger := site.PageTask{Page: t.Page, Persona: site.Visitor, Device: t.Device}
			add(t.Page.Path, func(ctx context.Context) error { return r.personaAfter(ctx, t, stranger, pass, g) })
			continue
		}
		add(t.Page.Path, func(ctx context.Context) error { return r.strangerTwice(ctx, t, pass, g) })
		names := exclusion.Parameters(t.Page.Path)
		for _, name := range names[:min(len(names), mostParameters)] {
			add(t.Page.Path, func(ctx context.Context) error { return r.parameter(ctx, t, evidence.OtherValue, name, pass, g) })
			add(t.Page.Path, func(ctx context.Context) error { return r.parameter(ctx, t, evidence.WithoutParameter, name, pass, g) })
		}
		if noise := r.ignoredParameter(t.Page.Path); noise != "" && site.Cacheable(t.Page.Class) {
			add(t.Page.Path, func(ctx context.Context) error { return r.parameter(ctx, t, evidence.IgnoredParameter, noise, pass, g) })
		}
		for _, other := range t.Page.Devices {
			if other != t.Device && site.Cacheable(t.Page.Class) {
				add(t.Page.Path, func(ctx context.Context) error { return r.deviceAfter(ctx, t, other, pass, g) })
			}
		}
	}
	for _, at := range slices.SortedFunc(maps.Keys(personas), func(a, b [2]string) int { return slices.Compare(a[:], b[:]) }) {
		tasks := personas[at]
		for i, t := range tasks {
			if before := tasks[(i+1)%len(tasks)]; len(tasks) > 1 {
				add(t.Page.Path, func(ctx context.Context) error { return r.personaAfter(ctx, t, before, pass, g) })
			}
		}
	}
	// In an order that looks random and is the same each time: what comes first could
	// hide what comes after it.
	seed := rand.New(rand.NewPCG(uint64(r.SiteID), uint64(pass)))
	for _, path := range slices.Sorted(maps.Keys(byPath)) {
		probes := byPath[path]
		seed.Shuffle(len(probes), func(i, j int) { probes[i], probes[j] = probes[j], probes[i] })
	}
	return byPath
}

const mostParameters = 3

// purgePages removes single pages from the cache, where that is possible.
func (r *Inspection) purgePages(ctx context.Context, paths ...string) error {
	if !r.Able.PurgesPages || len(paths) == 0 {
		return nil
	}
	urls := make([]string, len(paths))
	for i, p := range paths {
		urls[i] = r.Env.Address(p)
	}
	_, err := r.Layer.Purge(ctx, speedlayer.Scope{URLs: urls})
	for _, p := range paths {
		r.facts().Purged(p)
	}
	return err
}

// asker is somebody who asks for pages with one device.
type asker struct {
	persona, device string
}

// ask gets a page as somebody, and notes which of these marks stand in it.
func (r *Inspection) ask(ctx context.Context, path string, as asker, marks []string, into *evidence.Answer) error {
	state := browser.State{}
	if as.persona != site.Visitor {
		var ready bool
		if state, ready = r.ready[[2]string{as.persona, as.device}]; !ready {
			return fmt.Errorf("the persona %s could not be made ready", as.persona)
		}
	}
	return r.askWith(ctx, path, as.device, state, marks, r.words(), into)
}

// words are those made up for somebody, with whose they are.
func (r *Inspection) words() map[string]string {
	out := map[string]string{}
	for who, state := range r.ready {
		if state.Canary != "" {
			out[state.Canary] = who[0]
		}
	}
	return out
}

// askWith gets a page with what a browser carries. Words that were made up are told by
// whose they are: the next test has others.
func (r *Inspection) askWith(ctx context.Context, path, device string, state browser.State, marks []string, words map[string]string, into *evidence.Answer) error {
	a, err := r.plain().Ask(ctx, path, device, state, marks)
	for i, m := range a.PrivateTexts {
		if whose := words[m]; whose != "" {
			a.PrivateTexts[i] = evidence.MadeUp(whose)
		}
	}
	a.PrivateTexts = slices.Compact(a.PrivateTexts)
	*into = a
	return err
}

// pair asks for a page as one, as the other right after, and as the other once more
// when nothing is cached.
func (r *Inspection) pair(ctx context.Context, path string, first, second asker, marks []string, p *evidence.Probe) error {
	if err := r.purgePages(ctx, path); err != nil {
		return err
	}
	if err := r.ask(ctx, path, first, marks, &p.First); err != nil {
		return err
	}
	if err := r.ask(ctx, path, second, marks, &p.Second); err != nil {
		return err
	}
	if err := r.purgePages(ctx, path); err != nil {
		return err
	}
	return r.ask(ctx, path, second, marks, &p.Fresh)
}

func (r *Inspection) probeOf(t site.PageTask, kind evidence.ProbeKind) evidence.Probe {
	return evidence.Probe{Key: evidence.Key{Page: t.Page.Path, Persona: t.Persona, Device: t.Device}, Class: t.Page.Class, Kind: kind}
}

func (r *Inspection) strangerAfter(ctx context.Context, t site.PageTask, pass int, g *gathering) error {
	p := r.probeOf(t, evidence.StrangerAfter)
	err := r.pair(ctx, t.Page.Path, asker{t.Persona, t.Device}, asker{site.Visitor, t.Device}, r.privateTextsOf(t.Persona), &p)
	return r.probed(ctx, p, err, pass, g)
}

func (r *Inspection) strangerTwice(ctx context.Context, t site.PageTask, pass int, g *gathering) error {
	p := r.probeOf(t, evidence.StrangerTwice)
	p.Personal = r.personalCookies()
	visitor := asker{site.Visitor, t.Device}
	err := r.pair(ctx, t.Page.Path, visitor, visitor, r.signedInTexts(), &p)
	return r.probed(ctx, p, err, pass, g)
}

// personalCookies are the names of the cookies by which the site knows those who were
// made ready.
func (r *Inspection) personalCookies() []string {
	var out []string
	for _, state := range r.ready {
		for _, name := range state.Personal() {
			if !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	slices.Sort(out)
	return out
}

// signedInTexts are the marks of those who have to be made ready by signing in: what a
// basket has in it stands on public pages, too.
func (r *Inspection) signedInTexts() []string {
	var out []string
	for _, who := range r.Site.Personas {
		if exclusion.SignedIn(who.Kind) {
			out = append(out, r.privateTextsOf(who.Name)...)
		}
	}
	return out
}

// privateTextsOf are the texts that only one persona may see: those that the site file names,
// and the words made up while it was made ready.
func (r *Inspection) privateTextsOf(persona string) []string {
	p, _ := r.Site.Persona(persona)
	out := slices.Clone(p.PrivateTexts)
	for who, state := range r.ready {
		if who[0] == persona && state.Canary != "" {
			out = append(out, state.Canary)
		}
	}
	return out
}

func (r *Inspection) personaAfter(ctx context.Context, t, before site.PageTask, pass int, g *gathering) error {
	p := r.probeOf(t, evidence.PersonaAfter)
	p.Before = before.Persona
	mine := r.privateTextsOf(t.Persona)
	marks := slices.DeleteFunc(r.privateTextsOf(before.Persona), func(m string) bool { return slices.Contains(mine, m) })
	if before.Persona == site.Visitor {
		marks = mine // a stranger has none; what is theirs must not be missing
	}
	err := r.pair(ctx, t.Page.Path, asker{before.Persona, t.Device}, asker{t.Persona, t.Device}, marks, &p)
	return r.probed(ctx, p, err, pass, g)
}

func (r *Inspection) deviceAfter(ctx context.Context, t site.PageTask, before string, pass int, g *gathering) error {
	p := r.probeOf(t, evidence.DeviceAfter)
	p.Personal = r.personalCookies()
	p.Before = before
	err := r.pair(ctx, t.Page.Path, asker{site.Visitor, before}, asker{site.Visitor, t.Device}, nil, &p)
	return r.probed(ctx, p, err, pass, g)
}

// parameter asks for a page, and for the same with one parameter changed, left out or
// added.
func (r *Inspection) parameter(ctx context.Context, t site.PageTask, kind evidence.ProbeKind, name string, pass int, g *gathering) error {
	p := r.probeOf(t, kind)
	p.Parameter = name
	visitor := asker{site.Visitor, t.Device}
	err := func() error {
		u, err := url.Parse(t.Page.Path)
		if err != nil {
			return err
		}
		q := u.Query()
		if kind == evidence.WithoutParameter {
			q.Del(name)
		} else {
			q.Set(name, q.Get(name)+"-zqx")
		}
		u.RawQuery = q.Encode()
		other := u.String()
		if err := r.purgePages(ctx, t.Page.Path, other); err != nil {
			return err
		}
		if err := r.ask(ctx, t.Page.Path, visitor, nil, &p.First); err != nil {
			return err
		}
		return r.ask(ctx, other, visitor, nil, &p.Second)
	}()
	return r.probed(ctx, p, err, pass, g)
}

// ignoredParameter is a name that the settings ignore and a page does not have yet, ""
// when they ignore none.
func (r *Inspection) ignoredParameter(path string) string {
	for _, d := range r.Catalogue.Settings {
		if d.Role != "query-ignore" {
			continue
		}
		for _, pattern := range r.Values.Strings(d.Key) {
			if name := strings.ReplaceAll(pattern, "*", "tide"); name != "" && !slices.Contains(exclusion.Parameters(path), name) {
				return name
			}
		}
	}
	return ""
}

func (r *Inspection) personaTwice(ctx context.Context, t site.PageTask, pass int, g *gathering) error {
	p := r.probeOf(t, evidence.PersonaTwice)
	who := asker{t.Persona, t.Device}
	err := r.pair(ctx, t.Page.Path, who, who, r.privateTextsOf(t.Persona), &p)
	return r.probed(ctx, p, err, pass, g)
}

func (r *Inspection) probed(ctx context.Context, p evidence.Probe, err error, pass int, g *gathering) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		p.Missing = err.Error()
	}
	if err := r.Store.SaveLook(ctx, r.Run, pass, "probe", p.Key, p); err != nil {
		return err
	}
	if r.Isolated {
		r.Progress.update(ctx, func(pr *store.RunProgress) { pr.Looks.Done++ })
	}
	if g == nil {
		return nil
	}
	k := p.Key
	k.Journey = "probe " + string(p.Kind) + " " + p.Parameter + p.Before + p.Edit
	base := r.Base
	if r.Isolated && p.Kind == evidence.Published {
		base = evidence.Baseline{} // an isolation test is about what is so, not about what changed
	}
	return g.take(ctx, k, evidence.CompareProbe(base, p))
}
