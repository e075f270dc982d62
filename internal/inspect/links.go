package inspect

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/survey"
)

// mostLinks is how many addresses that pages link to are asked for in one pass.
const mostLinks = 150

// mostEntries is how many addresses of one feed or sitemap are asked for: the first ones, which
// are the newest of a feed.
const mostEntries = 30

// followLinks asks for what the pages link to, feeds too and what these name, for the site's
// sitemap, and for what was linked to when the mark was taken, each once, as a stranger: whether
// they lead somewhere.
func (r *Inspection) followLinks(ctx context.Context, pass int, g *gathering) error {
	look, err := r.Store.Look(ctx, r.Run, 1)
	if err != nil {
		return err
	}
	r.Progress.Say(ctx, "probing", "Following links")
	p := evidence.Probe{Key: evidence.Key{Page: "/", Persona: site.Visitor, Device: site.Desktop}, Kind: evidence.Links, Leads: map[string]evidence.Lead{}}
	links := r.linksOf(look)
	past := r.Base.Led()
	for path := range links {
		delete(past, path)
	}
	entries, err := r.follow(ctx, links, p.Leads)
	if err == nil {
		_, err = r.follow(ctx, entries, p.Leads)
	}
	if err != nil {
		return err
	}
	for path := range p.Leads {
		delete(past, path)
	}
	gone := map[string]evidence.Lead{}
	if _, err := r.follow(ctx, past, gone); err != nil {
		return err
	}
	for path, l := range gone {
		l.Past = true
		p.Leads[path] = l
	}
	return r.probed(ctx, p, nil, pass, g)
}

// follow asks for links, by path with where they are from, and notes where they lead. entries
// are what feeds and sitemaps among them name and was not asked for yet.
func (r *Inspection) follow(ctx context.Context, links map[string]string, leads map[string]evidence.Lead) (entries map[string]string, err error) {
	base, err := url.Parse(r.Env.URL)
	if err != nil {
		return nil, err
	}
	entries = map[string]string{}
	var mu sync.Mutex
	eg, asking := errgroup.WithContext(ctx)
	eg.SetLimit(4)
	for path, from := range links {
		eg.Go(func() error {
			plain := r.plain()
			var body []byte
			plain.Keep = func(_ context.Context, _ string, raw []byte) (string, error) { body = raw; return "", nil }
			a, err := plain.Ask(asking, path, site.Desktop, browser.State{}, nil)
			if asking.Err() != nil {
				return asking.Err()
			}
			l := evidence.Lead{From: from, Status: a.Status}
			if err != nil {
				l.Failed = err.Error()
			}
			what, named, err := survey.Entries(body)
			if l.Failed == "" && a.Status < 400 && err != nil {
				l.Failed = fmt.Sprintf("It is a %s that cannot be read: %v.", what, err)
			}
			mu.Lock()
			defer mu.Unlock()
			leads[path] = l
			for _, address := range named[:min(len(named), mostEntries)] {
				u, err := url.Parse(address)
				if err != nil || u.Host != base.Host || u.RawQuery != "" || len(links)+len(entries) >= 2*mostLinks {
					continue
				}
				if to := u.RequestURI(); links[to] == "" && leads[to] == (evidence.Lead{}) && entries[to] == "" {
					entries[to] = path
				}
			}
			return nil
		})
	}
	return entries, eg.Wait()
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
