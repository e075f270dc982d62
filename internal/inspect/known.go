package inspect

import (
	"context"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/site"
)

// known tells of contradictions between the settings and what is known of the site that
// were not there with the settings that are compared with: what follows needs not be seen.
func (r *Inspection) known(ctx context.Context, g *gathering) error {
	if r.Compared == nil {
		return nil
	}
	about, err := RuleContextOf(ctx, r.Store, r.EnvID)
	if err != nil {
		return err
	}
	remarks := func(with exclusion.Layer) ([]exclusion.Remark, error) {
		about.Layer = with
		if err := about.meanings(ctx, r.Store); err != nil {
			return nil, err
		}
		return exclusion.Coverage(about.Layer, about.Known), nil
	}
	was, is := exclusion.LayerOf(r.Catalogue, r.Compared), exclusion.LayerOf(r.Catalogue, r.Values)
	before, err := remarks(was)
	if err != nil {
		return err
	}
	now, err := remarks(is)
	if err != nil {
		return err
	}
	// Each under a key of its own: that nothing was found there hides nothing else.
	found := map[evidence.Key][]evidence.Finding{}
	for _, f := range append(exclusion.NewFindings(was, before, now), exclusion.NoLongerAtAll(was, is)...) {
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
