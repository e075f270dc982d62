package onboard

import (
	"context"

	"tidemarker/internal/act"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/survey"
	"tidemarker/internal/store"
)

// FindAddresses reads the sitemap of a site's production and keeps what it names,
// each address with the class that it seems to have; how many there are is returned.
func (d *Desk) FindAddresses(ctx context.Context, siteID int64) (int, error) {
	row, err := d.Store.Site(ctx, siteID)
	if err != nil {
		return 0, err
	}
	doc := row.Document.V.WithRoles()
	at, there := doc.WithRole(site.Production)
	if !there {
		at = doc.Environments[0]
	}
	s := &surveying{Desk: d, f: newFetcher(at)}
	paths, err := s.listed(ctx)
	if err != nil {
		return 0, &act.NotPossible{Why: "no sitemap could be used: " + err.Error()}
	}
	all := make([]store.Address, len(paths))
	for i, p := range paths {
		all[i] = store.Address{Path: p, Class: survey.Classify(survey.Observation{Path: p}).Class}
	}
	return len(all), d.Store.SaveAddresses(ctx, siteID, all)
}
