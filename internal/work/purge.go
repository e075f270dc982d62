package work

import (
	"context"
	"fmt"
	"strings"

	"tidemarker/internal/store"
)

// PurgeOrder says which cached pages go, and how.
type PurgeOrder struct {
	Page  string // path with its query; a page, a class, or neither for all that is cached
	Class string
	Stale bool // they are marked stale and served until they are generated fresh, in place of being dropped
	Warm  bool // the pages are fetched again at once
}

// PurgeDone is what came of it.
type PurgeDone struct {
	Purged int `json:"purged" doc:"Cached copies that went."`
	ToWarm int `json:"toWarm" doc:"Pages that are being fetched again."`
}

// Purge purges cached pages of an environment, or marks them stale, outside any run.
// *Busy while a run is under way there: what is cached is part of its evidence.
func (w *Runner) Purge(ctx context.Context, envID int64, o PurgeOrder, who string) (PurgeDone, error) {
	var done PurgeDone
	env, err := w.Store.Environment(ctx, envID)
	if err != nil {
		return done, err
	}
	client, err := w.layer(env)
	if err != nil {
		return done, err
	}
	if env.ConnectorKind == byHandKind {
		return done, &NotPossible{"what " + env.Name + " holds is purged by hand, in the site's own administration"}
	}
	unlock, free, err := w.Store.TryLockEnvironment(ctx, envID)
	if err != nil {
		return done, err
	}
	if !free {
		return done, &Busy{env.Name}
	}
	defer unlock()
	paths, what, err := w.toPurge(ctx, envID, o)
	if err != nil {
		return done, err
	}
	row, err := w.Store.Site(ctx, env.SiteID)
	if err != nil {
		return done, err
	}
	at, _, known := row.Document.V.Environment(env.Name)
	if !known {
		return done, fmt.Errorf("%s is not in the site's document: %w", env.Name, store.ErrNotFound)
	}
	var urls []string
	for _, p := range paths {
		urls = append(urls, at.Address(p))
	}
	verb := "Purged"
	switch {
	case o.Stale:
		verb = "Marked stale"
		done.Purged, err = client.Stale(ctx, urls)
	case len(urls) > 0:
		done.Purged, err = client.Purge(ctx, urls)
	default:
		done.Purged, err = client.PurgeAll(ctx)
	}
	if err != nil {
		return done, err
	}
	if o.Warm {
		if len(urls) == 0 {
			for _, p := range (&run{site: row.Document.V}).warmable() {
				urls = append(urls, at.Address(p))
			}
		}
		run, err := client.Warm(ctx, urls)
		if err != nil {
			return done, fmt.Errorf("what was cached is gone, but warming %s could not be begun: %w", env.Name, err)
		}
		done.ToWarm = run.Total
	}
	text := fmt.Sprintf("%s what %s cached of %s: %d copies.", verb, env.Name, what, done.Purged)
	return done, w.Store.Record(ctx, store.Event{SiteID: env.SiteID, EnvironmentID: &env.ID, Kind: "purge", Who: who, Text: text})
}

// toPurge are the paths of an order, none for all, and the same in words.
func (w *Runner) toPurge(ctx context.Context, envID int64, o PurgeOrder) (paths []string, what string, err error) {
	switch {
	case o.Page != "":
		if !strings.HasPrefix(o.Page, "/") {
			return nil, "", &NotPossible{fmt.Sprintf("%q is not a path; it begins with /", o.Page)}
		}
		return []string{o.Page}, o.Page, nil
	case o.Class == "":
		return nil, "all pages", nil
	}
	g, err := RuleContextOf(ctx, w.Store, envID)
	if err != nil {
		return nil, "", err
	}
	for _, p := range g.Known.Pages {
		if p.Class == o.Class {
			paths = append(paths, p.Path)
		}
	}
	if len(paths) == 0 {
		return nil, "", &NotPossible{fmt.Sprintf("no page of the class %q is known", o.Class)}
	}
	return paths, "pages of the class " + o.Class, nil
}
