package inspect

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/speedlayer"
	"tidemarker/internal/store"
)

// purge removes from the cache what could keep a look from seeing the settings as they
// are: everything when they were changed just now, else the pages of the test plan where
// single pages can be purged. A stampede on a big site's origin helps nobody.
func (r *Inspection) purge(ctx context.Context) error {
	scope := speedlayer.Scope{}
	if !r.Changed && r.Able.PurgesPages && r.Env.Role == site.Production {
		for _, path := range r.planned() {
			scope.URLs = append(scope.URLs, r.Env.Address(path))
		}
	}
	if len(scope.URLs) == 0 && !r.Able.PurgesAll {
		return nil
	}
	n, err := r.Layer.Purge(ctx, scope)
	if err != nil {
		return fmt.Errorf("purge %s: %w", r.Env.Name, err)
	}
	if len(scope.URLs) == 0 {
		r.facts().Purged("")
	} else {
		for _, path := range r.planned() {
			r.facts().Purged(path)
		}
	}
	r.Progress.update(ctx, func(p *store.RunProgress) { p.Purged = n })
	return nil
}

// Purge removes from the cache what the settings that were there before made of pages.
func (r *Inspection) Purge(ctx context.Context) error { return r.purge(ctx) }

// planned are the paths that the test plan goes to.
func (r *Inspection) planned() []string {
	var out []string
	add := func(path string) {
		if path != "" && !slices.Contains(out, path) {
			out = append(out, path)
		}
	}
	for _, p := range r.Site.Pages {
		add(p.Path)
	}
	for _, j := range r.Site.Journeys {
		for _, s := range j.Steps {
			add(s.Go)
		}
	}
	return out
}

const (
	warmPoll     = 200 * time.Millisecond
	warmPatience = 2 * time.Minute // without any progress
)

// clearAndWarm purges, has the pages of the test plan fetched again and confirms that
// they are served from the cache: a page measured before it is warm says nothing.
func (r *Inspection) clearAndWarm(ctx context.Context) error {
	r.Progress.Say(ctx, "purging", "Purging cached pages on "+r.Env.Name)
	if err := r.purge(ctx); err != nil {
		return err
	}
	paths := r.Site.Warmable()
	r.Progress.update(ctx, func(p *store.RunProgress) { p.ToWarm, p.Warmed = 2*len(paths), 0 })
	r.Progress.Say(ctx, "warming", fmt.Sprintf("Warming %d pages", len(paths)))
	if r.Able.Warms && len(paths) > 0 {
		if err := r.warmByConnector(ctx, paths); err != nil {
			return err
		}
	}
	uncached, err := r.askUntilCached(ctx, paths)
	if err != nil {
		return err
	}
	r.Progress.update(ctx, func(p *store.RunProgress) { p.Uncached = uncached })
	return nil
}

func (r *Inspection) warmByConnector(ctx context.Context, paths []string) error {
	urls := make([]string, len(paths))
	for i, p := range paths {
		urls[i] = r.Env.Address(p)
	}
	run, err := r.Layer.Warm(ctx, urls)
	if err != nil {
		return fmt.Errorf("warm %s: %w", r.Env.Name, err)
	}
	moved, last := time.Now(), -1
	for run.State == "running" {
		if n := run.Done + run.Failed; n != last {
			moved, last = time.Now(), n
		}
		if time.Since(moved) > warmPatience {
			return fmt.Errorf("warming %s has not moved for %s at %d of %d", r.Env.Name, warmPatience, last, run.Total)
		}
		r.Progress.update(ctx, func(p *store.RunProgress) { p.ToWarm, p.Warmed = run.Total, run.Done+run.Failed })
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(warmPoll):
		}
		if run, err = r.Layer.Warming(ctx, run.ID); err != nil {
			return fmt.Errorf("warm %s: %w", r.Env.Name, err)
		}
	}
	r.Progress.update(ctx, func(p *store.RunProgress) { p.ToWarm, p.Warmed = run.Total, run.Done+run.Failed })
	return nil
}

// expectCached tells whether the settings say that a stranger is served a cached copy.
func expectCached(cat settings.Catalogue, v settings.Values, path string) bool {
	if !cat.On(v, "page-cache") {
		return false
	}
	return !slices.ContainsFunc(cat.Patterns(v, "path-exclude"), func(p string) bool { return exclusion.MatchPath(p, path) })
}

// cachedTries is how often a page is asked for until it is served from the cache. The
// first answer after a purge may well be the one that fills the cache.
const cachedTries = 3

// askUntilCached asks for every page that should be cached until it is, and tells those
// that never are.
func (r *Inspection) askUntilCached(ctx context.Context, paths []string) (uncached []string, err error) {
	plain := r.plain()
	plain.Keep = nil
	var mu sync.Mutex
	g, asking := errgroup.WithContext(ctx)
	g.SetLimit(4)
	for _, path := range paths {
		if !expectCached(r.Catalogue, r.Values, path) {
			continue
		}
		for _, device := range []string{site.Desktop, site.Phone} {
			g.Go(func() error {
				for range cachedTries {
					a, err := plain.Ask(asking, path, device, browser.State{}, nil)
					if asking.Err() != nil {
						return asking.Err()
					}
					if err == nil && a.Served.FromCache() {
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
	err = g.Wait()
	slices.Sort(uncached)
	return uncached, err
}
