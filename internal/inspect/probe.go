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
	if err := r.probeAll(ctx, r.probes(pass, g)); err != nil {
		return err
	}
	return r.signOutProbes(ctx, pass, g, nil)
}

// probing is one probe to be made: under which key its findings are gathered, and how.
type probing struct {
	key evidence.Key
	do  func(context.Context) error
}

// probeAll makes probes, those of several pages at once.
func (r *Inspection) probeAll(ctx context.Context, byPath map[string][]probing) error {
	eg, asking := errgroup.WithContext(ctx)
	eg.SetLimit(4)
	for _, probes := range byPath {
		eg.Go(func() error {
			for _, p := range probes {
				if err := p.do(asking); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return eg.Wait()
}

// probeAgain makes those probes once more that are wanted.
func (r *Inspection) probeAgain(ctx context.Context, wanted func(evidence.Key) bool, pass int, g *gathering) error {
	some := map[string][]probing{}
	for path, probes := range r.probes(pass, g) {
		some[path] = slices.DeleteFunc(probes, func(p probing) bool { return !wanted(p.key) })
	}
	if err := r.probeAll(ctx, some); err != nil {
		return err
	}
	if err := r.signOutProbes(ctx, pass, g, wanted); err != nil {
		return err
	}
	if wanted(probeKey(evidence.Probe{Key: evidence.Key{Page: "/", Persona: site.Visitor, Device: site.Desktop}, Kind: evidence.Links})) {
		if err := r.followLinks(ctx, 1, g); err != nil {
			return err
		}
	}
	for _, e := range r.Site.PublishingTestsOn(r.Env.Name) {
		shows := func(at site.Showing) bool {
			return slices.ContainsFunc([]string{site.Desktop, site.Phone}, func(device string) bool {
				p := evidence.Probe{Key: evidence.Key{Page: at.Page, Persona: site.Visitor, Device: device}, Kind: evidence.Published, Edit: e.Name}
				return wanted(probeKey(p))
			})
		}
		if slices.ContainsFunc(e.Shows, shows) {
			if err := r.publishOne(ctx, e, pass, g); err != nil {
				return err
			}
		}
	}
	return nil
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
		out.Summary = fmt.Sprintf("Clear: in %d tries nobody was served what belongs to somebody else.", r.Progress.Looks().Done)
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
	plan := r.Site.Plan(r.Env.Name)
	plan.Journeys = formsOf(plan)
	if err := r.personas(ctx, b, plan, 1, g); err != nil {
		return err
	}
	if len(g.all()) == 0 { // somebody who could not sign in is no use to later ones
		r.keepReady(r.EnvID, r.ready)
	}
	return nil
}

// probes are what probe asks, by page.
func (r *Inspection) probes(pass int, g *gathering) map[string][]probing {
	plan := r.Site.Plan(r.Env.Name)
	// Probes of one page disturb each other, those of different pages do not.
	byPath := map[string][]probing{}
	add := func(t site.PageTask, kind evidence.ProbeKind, parameter, before string) {
		p := evidence.Probe{Key: pageKey(t), Class: t.Page.Class, Kind: kind, Parameter: parameter, Before: before}
		byPath[p.Page] = append(byPath[p.Page], probing{probeKey(p), func(ctx context.Context) error {
			err := r.make(ctx, &p)
			return r.probed(ctx, p, err, pass, g)
		}})
	}
	personas := map[[2]string][]site.PageTask{} // by page and device
	for _, t := range plan.Pages {
		at := [2]string{t.Page.Path, t.Device}
		if t.Persona != site.Visitor {
			personas[at] = append(personas[at], t)
			add(t, evidence.StrangerAfter, "", "")
			add(t, evidence.PersonaTwice, "", "")
			add(t, evidence.PersonaAfter, "", site.Visitor)
			continue
		}
		add(t, evidence.StrangerTwice, "", "")
		names := exclusion.Parameters(t.Page.Path)
		for _, name := range names[:min(len(names), mostParameters)] {
			add(t, evidence.OtherValue, name, "")
			add(t, evidence.WithoutParameter, name, "")
		}
		if noise := r.ignoredParameter(t.Page.Path); noise != "" && site.Cacheable(t.Page.Class) {
			add(t, evidence.IgnoredParameter, noise, "")
		}
		for _, other := range t.Page.Devices {
			if other != t.Device && site.Cacheable(t.Page.Class) {
				add(t, evidence.DeviceAfter, "", other)
			}
		}
	}
	for _, at := range slices.SortedFunc(maps.Keys(personas), func(a, b [2]string) int { return slices.Compare(a[:], b[:]) }) {
		tasks := personas[at]
		for i, t := range tasks {
			if before := tasks[(i+1)%len(tasks)]; len(tasks) > 1 {
				add(t, evidence.PersonaAfter, "", before.Persona)
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

// make makes a probe: who asks first, who asks then, and for which private texts.
func (r *Inspection) make(ctx context.Context, p *evidence.Probe) error {
	visitor, persona := asker{site.Visitor, p.Device}, asker{p.Persona, p.Device}
	switch p.Kind {
	case evidence.StrangerAfter:
		return r.pair(ctx, p.Page, persona, visitor, r.privateTextsOf(p.Persona), p)
	case evidence.StrangerTwice:
		p.Personal = r.personalCookies()
		return r.pair(ctx, p.Page, visitor, visitor, r.signedInTexts(), p)
	case evidence.PersonaTwice:
		return r.pair(ctx, p.Page, persona, persona, r.privateTextsOf(p.Persona), p)
	case evidence.DeviceAfter:
		p.Personal = r.personalCookies()
		return r.pair(ctx, p.Page, asker{site.Visitor, p.Before}, visitor, nil, p)
	case evidence.PersonaAfter:
		mine := r.privateTextsOf(p.Persona)
		texts := slices.DeleteFunc(r.privateTextsOf(p.Before), func(m string) bool { return slices.Contains(mine, m) })
		if p.Before == site.Visitor {
			texts = mine // a stranger has none; what is theirs must not be missing
		}
		return r.pair(ctx, p.Page, asker{p.Before, p.Device}, persona, texts, p)
	}
	return r.parameter(ctx, p)
}

// parameter asks for a page, and for the same with one parameter changed, left out or
// added.
func (r *Inspection) parameter(ctx context.Context, p *evidence.Probe) error {
	u, err := url.Parse(p.Page)
	if err != nil {
		return err
	}
	q := u.Query()
	if p.Kind == evidence.WithoutParameter {
		q.Del(p.Parameter)
	} else {
		q.Set(p.Parameter, q.Get(p.Parameter)+"-zqx")
	}
	u.RawQuery = q.Encode()
	other, visitor := u.String(), asker{site.Visitor, p.Device}
	if err := r.purgePages(ctx, p.Page, other); err != nil {
		return err
	}
	if err := r.ask(ctx, p.Page, visitor, nil, &p.First); err != nil {
		return err
	}
	return r.ask(ctx, other, visitor, nil, &p.Second)
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

// probeKey is under which key the findings of a probe are gathered.
func probeKey(p evidence.Probe) evidence.Key {
	k := p.Key
	k.Journey = probePrefix + string(p.Kind) + " " + p.Parameter + p.Before + p.Edit
	return k
}

const probePrefix = "probe "

// probeOfKey reads back which probe a key names; ok is false when it is none.
func probeOfKey(k evidence.Key) (kind evidence.ProbeKind, about string, ok bool) {
	rest, is := strings.CutPrefix(k.Journey, probePrefix)
	if !is {
		return "", "", false
	}
	name, about, _ := strings.Cut(rest, " ")
	return evidence.ProbeKind(name), about, true
}

func (r *Inspection) probed(ctx context.Context, p evidence.Probe, err error, pass int, g *gathering) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		p.Missing = err.Error()
		if no, is := errors.AsType[*notReady](err); is {
			p.Unready = no.persona
		}
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
	base := r.Base
	if r.Isolated && p.Kind == evidence.Published {
		base = evidence.Baseline{} // an isolation test is about what is so, not about what changed
	}
	return g.take(ctx, probeKey(p), evidence.CompareProbe(base, p))
}
