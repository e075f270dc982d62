package inspect

import (
	"context"
	"reflect"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// known tells of contradictions between the settings and what is known of the site that
// were not there with the settings that are compared with: what follows needs not be seen.
func (r *Inspection) known(ctx context.Context, g *gathering) error {
	if r.Compared == nil {
		return nil
	}
	said, err := contradictions(ctx, r.Store, r.EnvID, r.Catalogue, r.Compared, r.Values)
	if err != nil {
		return err
	}
	// Each under a key of its own: that nothing was found there hides nothing else.
	found := map[evidence.Key][]evidence.Finding{}
	for _, f := range said {
		k := f.Key()
		k.Journey = "settings " + f.OwnCause()
		found[k] = append(found[k], f)
	}
	for k, f := range found {
		if err := g.take(ctx, k, f); err != nil {
			return err
		}
	}
	return nil
}

// contradictions are what settings and what is known of an environment say against each other that
// they did not say with the earlier settings.
func contradictions(ctx context.Context, st *store.Store, env int64, cat settings.Catalogue, earlier, later settings.Values) ([]evidence.Finding, error) {
	was, is := exclusion.LayerOf(cat, earlier), exclusion.LayerOf(cat, later)
	if reflect.DeepEqual(was, is) { // what is cached, and for whom, is as it was
		return nil, nil
	}
	about, err := RuleContextOf(ctx, st, env)
	if err != nil {
		return nil, err
	}
	remarks := func(with exclusion.Layer) ([]exclusion.Remark, error) {
		about.Layer = with
		if err := about.meanings(ctx, st); err != nil {
			return nil, err
		}
		return exclusion.Coverage(about.Layer, about.Known), nil
	}
	before, err := remarks(was)
	if err != nil {
		return nil, err
	}
	now, err := remarks(is)
	if err != nil {
		return nil, err
	}
	return append(exclusion.NewFindings(was, before, now), exclusion.NoLongerAtAll(was, is)...), nil
}

// noLongerCached weighs that a page is no longer served from the cache: when the settings say
// that it should be, a person must look.
func (r *Inspection) noLongerCached(ctx context.Context, g *gathering) error {
	for k, findings := range g.everything() {
		changed := false
		for i, f := range findings {
			if f.NoLongerCached() && k.Persona == site.Visitor && f.Severity == evidence.Note && expectCached(r.Catalogue, r.Values, k.Page) {
				findings[i].Severity, changed = evidence.Unsure, true
				findings[i].Detail += " The settings say that it should be."
			}
		}
		if changed {
			if err := g.take(ctx, k, findings); err != nil {
				return err
			}
		}
	}
	return nil
}
