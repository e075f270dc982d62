package work

import (
	"context"
	"fmt"
	"net/url"

	"golang.org/x/sync/errgroup"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/site"
)

// probe makes the requests that a page cache could confuse: a stranger's right after
// a persona's, and one with another value of a parameter.
func (r *round) probe(ctx context.Context, pass int, g *gathering) error {
	r.progress.say(ctx, "probing", "Asking as somebody else, and with other parameters")
	plan := r.site.Plan(r.env.Name)
	var asPersona, asVisitor site.Plan
	for _, t := range plan.Pages {
		if t.Persona != site.Visitor {
			asPersona.Pages = append(asPersona.Pages, t)
		} else if len(parameters(t.Page.Path)) > 0 {
			asVisitor.Pages = append(asVisitor.Pages, t)
		}
	}
	// Probes of one page disturb each other, those of different pages do not.
	byPath := map[string][]func(context.Context) error{}
	for _, t := range asPersona.Pages {
		byPath[t.Page.Path] = append(byPath[t.Page.Path], func(ctx context.Context) error {
			state, ready := r.ready[[2]string{t.Persona, t.Device}]
			return r.strangerAfter(ctx, t, state, ready, pass, g)
		})
	}
	for _, t := range asVisitor.Pages {
		for _, name := range parameters(t.Page.Path) {
			byPath[t.Page.Path] = append(byPath[t.Page.Path], func(ctx context.Context) error { return r.otherValue(ctx, t, name, pass, g) })
		}
	}
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
	return eg.Wait()
}

const mostParameters = 3

// parameters are the names in a path's query, in order, the first few.
func parameters(path string) []string {
	u, err := url.Parse(path)
	if err != nil {
		return nil
	}
	var out []string
	for name := range u.Query() {
		out = append(out, name)
	}
	return out[:min(len(out), mostParameters)]
}

func (r *round) drop(ctx context.Context, paths ...string) error {
	if !r.about.Has("purge-urls") {
		return nil
	}
	urls := make([]string, len(paths))
	for i, p := range paths {
		urls[i] = r.environment().Address(p)
	}
	_, err := r.client.Purge(ctx, urls)
	return err
}

func (r *round) strangerAfter(ctx context.Context, t site.PageTask, state browser.State, ready bool, pass int, g *gathering) error {
	p := evidence.Probe{Key: evidence.Key{Page: t.Page.Path, Persona: t.Persona, Device: t.Device}, Class: t.Page.Class, Kind: evidence.StrangerAfter}
	persona, _ := r.site.Persona(t.Persona)
	plain := browser.Plain{Env: r.environment(), Keep: r.Blobs.Put}
	ask := func(state browser.State, into *evidence.Answer) error {
		a, err := plain.Ask(ctx, t.Page.Path, t.Device, state, persona.Marks)
		*into = a
		return err
	}
	err := func() error {
		if !ready {
			return fmt.Errorf("the persona %s could not be made ready", t.Persona)
		}
		if err := r.drop(ctx, t.Page.Path); err != nil {
			return err
		}
		if err := ask(state, &p.First); err != nil {
			return err
		}
		if err := ask(browser.State{}, &p.Second); err != nil {
			return err
		}
		if err := r.drop(ctx, t.Page.Path); err != nil {
			return err
		}
		return ask(browser.State{}, &p.Fresh)
	}()
	return r.probed(ctx, p, err, pass, g)
}

func (r *round) otherValue(ctx context.Context, t site.PageTask, name string, pass int, g *gathering) error {
	p := evidence.Probe{Key: evidence.Key{Page: t.Page.Path, Persona: t.Persona, Device: t.Device}, Class: t.Page.Class, Kind: evidence.OtherValue, Parameter: name}
	plain := browser.Plain{Env: r.environment(), Keep: r.Blobs.Put}
	err := func() error {
		u, err := url.Parse(t.Page.Path)
		if err != nil {
			return err
		}
		q := u.Query()
		q.Set(name, q.Get(name)+"-zqx")
		u.RawQuery = q.Encode()
		other := u.String()
		if err := r.drop(ctx, t.Page.Path, other); err != nil {
			return err
		}
		if p.First, err = plain.Ask(ctx, t.Page.Path, t.Device, browser.State{}, nil); err != nil {
			return err
		}
		p.Second, err = plain.Ask(ctx, other, t.Device, browser.State{}, nil)
		return err
	}()
	return r.probed(ctx, p, err, pass, g)
}

func (r *round) probed(ctx context.Context, p evidence.Probe, err error, pass int, g *gathering) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		p.Missing = err.Error()
	}
	if err := r.Store.SaveLook(ctx, r.row.ID, pass, "probe", p.Key, p); err != nil {
		return err
	}
	if g == nil {
		return nil
	}
	k := p.Key
	k.Journey = "probe " + string(p.Kind) + " " + p.Parameter
	return g.take(ctx, k, evidence.CompareProbe(r.base, p))
}
