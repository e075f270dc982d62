// Package byhand is the speed layer of a site without a connector: a person reads and
// changes its settings in the site's own administration. What it has is what was last
// exported there and uploaded, or last done by a checklist and ticked.
package byhand

import (
	"context"
	"errors"

	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/speedlayer"
)

// Kind is work by hand as a kind of speed layer.
var Kind = speedlayer.Kind{
	Name: "by-hand", Title: "by hand, by a checklist",
	Able: func(settings.About) speedlayer.Abilities { return speedlayer.Abilities{} },
	Open: func(p speedlayer.Place) (speedlayer.Layer, error) { return layer{p}, nil },
}

// errByHand is for what nobody can be asked to do at once.
var errByHand = errors.New("this is done by hand, in the site's own administration")

type layer struct{ place speedlayer.Place }

func (l layer) About(context.Context) (settings.About, error) {
	return settings.About{Protocol: "1", Environment: l.place.Environment, Software: "changed by hand", Features: []string{}, Facts: settings.HostFacts{Hosting: "unknown"}}, nil
}

func (l layer) Catalogue(ctx context.Context) (settings.Catalogue, error) {
	now, err := l.Settings(ctx)
	return settings.CatalogueOf(now.Values), err
}

func (l layer) Settings(ctx context.Context) (speedlayer.Settings, error) {
	v, fingerprint, err := l.place.Known(ctx)
	if err != nil {
		return speedlayer.Settings{}, err
	}
	if fingerprint == "" {
		return speedlayer.Settings{}, &speedlayer.NoAccess{Why: "Nothing is known of the settings of " + l.place.Environment + " yet. Export them in the site's own administration, and upload the file"}
	}
	return speedlayer.Settings{Values: v, ETag: fingerprint}, nil
}

func (l layer) Apply(context.Context, settings.Values, string) release.Outcome {
	return release.NotApplied(errByHand)
}

func (l layer) Purge(context.Context, speedlayer.Scope) (int, error) { return 0, errByHand }

func (l layer) Warm(context.Context, []string) (speedlayer.Warming, error) {
	return speedlayer.Warming{}, errByHand
}

func (l layer) Warming(context.Context, string) (speedlayer.Warming, error) {
	return speedlayer.Warming{}, errByHand
}

func (l layer) Status(context.Context) (speedlayer.Status, error) {
	return speedlayer.Status{}, errByHand
}
