package work

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// purge drops every cached page of the environment.
func (r *run) purge(ctx context.Context) error {
	if !r.about.Has("purge") {
		return nil
	}
	n, err := r.client.PurgeAll(ctx)
	if err != nil {
		return fmt.Errorf("purge %s: %w", r.env.Name, err)
	}
	r.progress.update(ctx, func(p *store.RunProgress) { p.Purged = n })
	return nil
}

// warmable are the watched paths that a shared page cache may hold.
func (r *run) warmable() []string {
	var out []string
	for _, p := range r.site.Pages {
		if site.Cacheable(p.Class) && slices.Contains(p.Personas, site.Visitor) && !slices.Contains(out, p.Path) {
			out = append(out, p.Path)
		}
	}
	return out
}

const (
	warmPoll     = 200 * time.Millisecond
	warmPatience = 2 * time.Minute // without any progress
)

// clearAndWarm drops what is cached, has the pages of the test plan fetched again and confirms
// that they are served from the cache: a page measured before it is warm says nothing.
func (r *run) clearAndWarm(ctx context.Context) error {
	r.progress.say(ctx, "purging", "Purging cached pages on "+r.env.Name)
	if err := r.purge(ctx); err != nil {
		return err
	}
	paths := r.warmable()
	r.progress.update(ctx, func(p *store.RunProgress) { p.ToWarm, p.Warmed = 2*len(paths), 0 })
	r.progress.say(ctx, "warming", fmt.Sprintf("Warming %d pages", len(paths)))
	if r.about.Has("warm") && len(paths) > 0 {
		if err := r.warmByConnector(ctx, paths); err != nil {
			return err
		}
	}
	return r.confirmCached(ctx, paths)
}

func (r *run) warmByConnector(ctx context.Context, paths []string) error {
	urls := make([]string, len(paths))
	for i, p := range paths {
		urls[i] = r.environment().Address(p)
	}
	run, err := r.client.Warm(ctx, urls)
	if err != nil {
		return fmt.Errorf("warm %s: %w", r.env.Name, err)
	}
	moved, last := time.Now(), -1
	for run.State == "running" {
		if n := run.Done + run.Failed; n != last {
			moved, last = time.Now(), n
		}
		if time.Since(moved) > warmPatience {
			return fmt.Errorf("warming %s has not moved for %s at %d of %d", r.env.Name, warmPatience, last, run.Total)
		}
		r.progress.update(ctx, func(p *store.RunProgress) { p.ToWarm, p.Warmed = run.Total, run.Done+run.Failed })
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(warmPoll):
		}
		if run, err = r.client.Warming(ctx, run.ID); err != nil {
			return fmt.Errorf("warm %s: %w", r.env.Name, err)
		}
	}
	r.progress.update(ctx, func(p *store.RunProgress) { p.ToWarm, p.Warmed = run.Total, run.Done+run.Failed })
	return nil
}

// expectCached tells whether the settings say that a stranger is served a cached copy.
func expectCached(cat settings.Catalogue, v settings.Values, path string) bool {
	if !cat.On(v, "page-cache") {
		return false
	}
	return !slices.ContainsFunc(cat.Patterns(v, "path-exclude"), func(p string) bool { return exclusion.MatchPath(p, path) })
}

// cachedTries is how often a page is asked for until it is served from the cache. The first
// answer after a purge may well be the one that fills the cache.
const cachedTries = 3

// confirmCached asks for every page that should be cached until it is, and notes those
// that never are.
func (r *run) confirmCached(ctx context.Context, paths []string) error {
	plain := browser.Plain{Env: r.environment()}
	var mu sync.Mutex
	var uncached []string
	g, asking := errgroup.WithContext(ctx)
	g.SetLimit(4)
	for _, path := range paths {
		if !expectCached(r.cat, r.values, path) {
			continue
		}
		for _, device := range []string{site.Desktop, site.Phone} {
			g.Go(func() error {
				for range cachedTries {
					a, err := plain.Ask(asking, path, device, browser.State{}, nil)
					if asking.Err() != nil {
						return asking.Err()
					}
					if err == nil && a.Served == httpcache.Cached {
						return nil
					}
				}
				mu.Lock()
				defer mu.Unlock()
				uncached = append(uncached, path+" ("+device+")")
				return nil
			})
		}
	}
	if err := g.Wait(); err != nil {
		return err
	}
	slices.Sort(uncached)
	r.progress.update(ctx, func(p *store.RunProgress) { p.Uncached = uncached })
	return nil
}
