package inspect

import (
	"context"
	"net/url"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/site"
)

// mostLinks is how many addresses that pages link to are asked for in one pass.
const mostLinks = 150

// followLinks asks for what the pages link to, feeds too, and for the site's sitemap, each
// once, as a stranger: whether they lead somewhere.
func (r *Inspection) followLinks(ctx context.Context, pass int, g *gathering) error {
	look, err := r.Store.Look(ctx, r.Run, 1)
	if err != nil {
		return err
	}
	links := r.linksOf(look)
	r.Progress.Say(ctx, "probing", "Following links")
	plain := r.plain()
	plain.Keep = nil
	p := evidence.Probe{Key: evidence.Key{Page: "/", Persona: site.Visitor, Device: site.Desktop}, Kind: evidence.Links, Leads: map[string]evidence.Lead{}}
	var mu sync.Mutex
	eg, asking := errgroup.WithContext(ctx)
	eg.SetLimit(4)
	for path, from := range links {
		eg.Go(func() error {
			a, err := plain.Ask(asking, path, site.Desktop, browser.State{}, nil)
			if asking.Err() != nil {
				return asking.Err()
			}
			mu.Lock()
			defer mu.Unlock()
			l := evidence.Lead{From: from, Status: a.Status}
			if err != nil {
				l.Failed = err.Error()
			}
			p.Leads[path] = l
			return nil
		})
	}
	if err := eg.Wait(); err != nil {
		return err
	}
	return r.probed(ctx, p, nil, pass, g)
}

// linksOf are the paths that pages link to on the site's own address, with the first page
// that does. Addresses with a query are left out: some sites act on them, as by putting
// something in a basket.
func (r *Inspection) linksOf(look evidence.Look) map[string]string {
	base, err := url.Parse(r.Env.URL)
	if err != nil {
		return nil
	}
	out := map[string]string{}
	pages := slices.Clone(look.Pages)
	slices.SortStableFunc(pages, func(a, b evidence.PageLook) int { return len(a.Page) - len(b.Page) })
	add := func(path, from string) {
		if _, there := out[path]; !there && len(out) < mostLinks {
			out[path] = from
		}
	}
	add("/sitemap.xml", "/")
	for _, p := range pages {
		if p.Persona != site.Visitor {
			continue
		}
		for _, address := range slices.Sorted(slices.Values(p.Links)) {
			if u, err := url.Parse(address); err == nil && u.Host == base.Host && u.RawQuery == "" {
				add(u.RequestURI(), p.Page)
			}
		}
	}
	return out
}
