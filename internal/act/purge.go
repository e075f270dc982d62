package act

import (
	"context"
	"fmt"

	"tidemarker/internal/core/site"
	"tidemarker/internal/speedlayer"
	"tidemarker/internal/store"
)

// PurgeOrder says which cached pages go, and how.
type PurgeOrder struct {
	Paths []string // with their queries; none for all that is cached
	What  string   // the same in words
	Stale bool     // they are marked stale and served until they are rendered again, in place of being removed
	Warm  bool     // the pages are fetched again at once
}

// PurgeDone is what came of it.
type PurgeDone struct {
	Purged int `json:"purged" doc:"Cached copies that went."`
	ToWarm int `json:"toWarm" doc:"Pages that are being fetched again."`
}

// Purge purges cached pages of an environment, or marks them stale, outside any run.
// *[Busy] while a run is under way there: what is cached is part of its evidence.
func (a *Acts) Purge(ctx context.Context, envID int64, o PurgeOrder, who string) (PurgeDone, error) {
	var done PurgeDone
	env, err := a.Store.Environment(ctx, envID)
	if err != nil {
		return done, err
	}
	layer, err := a.Layer(env)
	if err != nil {
		return done, err
	}
	if env.About.V == nil && a.Able(env).Reads { // it was never read
		about, err := layer.About(ctx)
		if err != nil {
			return done, err
		}
		env.About.V = &about
	}
	switch able := a.Able(env); {
	case !able.PurgesAll && len(o.Paths) == 0, !able.PurgesPages && len(o.Paths) > 0:
		return done, &NotPossible{"what " + env.Name + " has cached is purged by hand, in the site's own administration"}
	}
	unlock, err := a.lockWhenRead(ctx, env)
	if err != nil {
		return done, err
	}
	defer unlock()
	row, err := a.Store.Site(ctx, env.SiteID)
	if err != nil {
		return done, err
	}
	at, _, known := row.Document.V.Environment(env.Name)
	if !known {
		return done, fmt.Errorf("%s is not in the site's document: %w", env.Name, store.ErrNotFound)
	}
	urls := addresses(at, o.Paths)
	if done.Purged, err = layer.Purge(ctx, speedlayer.Scope{URLs: urls, Stale: o.Stale}); err != nil {
		return done, err
	}
	if o.Warm {
		if len(urls) == 0 {
			urls = addresses(at, row.Document.V.Warmable())
		}
		run, err := layer.Warm(ctx, urls)
		if err != nil {
			return done, fmt.Errorf("what was cached is gone, but warming %s could not be started: %w", env.Name, err)
		}
		done.ToWarm = run.Total
	}
	verb := map[bool]string{false: "Purged", true: "Marked stale"}[o.Stale]
	return done, a.Store.Record(ctx, store.Event{SiteID: env.SiteID, EnvironmentID: &env.ID, Kind: "purge", Who: who,
		Text: fmt.Sprintf("%s what %s had cached of %s: %d copies.", verb, env.Name, o.What, done.Purged)})
}

func addresses(at site.Environment, paths []string) []string {
	var out []string
	for _, p := range paths {
		out = append(out, at.Address(p))
	}
	return out
}
