package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// BundleView is a named set of values.
type BundleView struct {
	ID       int64           `json:"id" doc:"0 for those that ship with the product."`
	Name     string          `json:"name"`
	Summary  string          `json:"summary"`
	Boldness int             `json:"boldness" doc:"From 1, cautious; 0 for a team's own."`
	Wishes   []settings.Wish `json:"wishes"`
	MadeBy   string          `json:"madeBy"`
}

// BundlePreview is what a bundle would make of a change.
type BundlePreview struct {
	Name        string           `json:"name"`
	Edits       settings.Values  `json:"edits" doc:"All edits of the change, with the bundle's."`
	Differences []DifferenceView `json:"differences" doc:"What the bundle changes of what the change would put in force."`
	Unmet       []settings.Unmet `json:"unmet"`

	Risk settings.RiskProfile `json:"risk" doc:"How many settings of each risk would be in use, from 0 to 3."`
}

// SettingsColumn is one set of values to be cached beside others.
type SettingsColumn struct {
	Name        string          `json:"name"`
	Kind        string          `json:"kind" enum:"environment,mark"`
	Environment int64           `json:"environment"`
	Fingerprint string          `json:"fingerprint"`
	Values      settings.Values `json:"values"`
}

// SettingsView is a site's catalogue with the values in force, and those of marks.
type SettingsView struct {
	Site      int64              `json:"site"`
	SiteName  string             `json:"siteName"`
	Catalogue settings.Catalogue `json:"catalogue"`
	Lacking   map[string]string  `json:"lacking"`
	Columns   []SettingsColumn   `json:"columns"`
}

func (s *Server) bundleOperations(api huma.API) {
	tags := []string{"settings"}
	huma.Register(api, huma.Operation{OperationID: "list-settings", Method: http.MethodGet, Path: "/sites/{id}/settings", Summary: "The catalogue, with what each environment has and what its marks had", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[SettingsView], error) {
			return out(s.settingsView(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "list-bundles", Method: http.MethodGet, Path: "/bundles", Summary: "Named sets of values, from cautious to bold, then the team's own", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*output[[]BundleView], error) { return out(s.bundles(ctx)) })
	huma.Register(api, huma.Operation{OperationID: "make-bundle", Method: http.MethodPost, Path: "/bundles", Summary: "Makes a bundle of a revision", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			Body struct {
				Name        string `json:"name" minLength:"1" maxLength:"60"`
				Summary     string `json:"summary" maxLength:"500"`
				Environment int64  `json:"environment" doc:"The one whose catalogue says what the values mean."`
				Fingerprint string `json:"fingerprint" doc:"The revision."`
			}
		}) (*output[[]BundleView], error) {
			if err := s.makeBundle(ctx, in.Body.Name, in.Body.Summary, in.Body.Environment, in.Body.Fingerprint); err != nil {
				return nil, problem(err)
			}
			return out(s.bundles(ctx))
		})
	huma.Register(api, huma.Operation{OperationID: "remove-bundle", Method: http.MethodDelete, Path: "/bundles/{id}", Summary: "Removes one of the team's own bundles", Tags: tags},
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			return nil, problem(s.Store.RemoveBundle(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "preview-bundle", Method: http.MethodGet, Path: "/changes/{id}/bundle", Summary: "What a bundle would make of a change", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Name string `query:"name"`
		}) (*output[BundlePreview], error) {
			return out(s.previewBundle(ctx, in.ID, in.Name))
		})
	huma.Register(api, huma.Operation{OperationID: "apply-bundle", Method: http.MethodPost, Path: "/changes/{id}/bundle", Summary: "Puts a bundle's values into a change", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Name    string `json:"name"`
				Version int    `json:"version"`
			}
		}) (*output[ChangeView], error) {
			p, err := s.previewBundle(ctx, in.ID, in.Body.Name)
			if err != nil {
				return nil, problem(err)
			}
			c, err := s.Store.Change(ctx, in.ID)
			if err != nil {
				return nil, problem(err)
			}
			if err := s.Changes.Edit(ctx, in.ID, in.Body.Version, changes.Words{Title: c.Title, Reason: c.Reason, Effect: c.Effect}, p.Edits, who(ctx)); err != nil {
				return nil, problem(err)
			}
			return out(s.changeView(ctx, in.ID))
		})
}

func (s *Server) bundles(ctx context.Context) ([]BundleView, error) {
	views := []BundleView{}
	for _, b := range settings.Bundles {
		views = append(views, BundleView{0, b.Name, b.Summary, b.Boldness, b.Wishes, ""})
	}
	own, err := s.Store.Bundles(ctx)
	for _, b := range own {
		views = append(views, BundleView{b.ID, b.Name, b.Summary, 0, b.Wishes.V, b.MadeBy})
	}
	return views, err
}

func (s *Server) makeBundle(ctx context.Context, name, summary string, envID int64, fingerprint string) error {
	name = strings.TrimSpace(name)
	for _, b := range settings.Bundles {
		if strings.EqualFold(b.Name, name) {
			return refusedInput("body.name", errors.New("a bundle of this name ships with the product; take another"))
		}
	}
	env, err := s.Store.Environment(ctx, envID)
	if err != nil {
		return err
	}
	if env.Catalogue.V == nil {
		return huma.Error409Conflict(env.Name + " has not been read yet.")
	}
	v, err := s.Store.Revision(ctx, env.SiteID, fingerprint)
	if err != nil {
		return err
	}
	_, err = s.Store.AddBundle(ctx, settings.BundleOf(name, summary, *env.Catalogue.V, v), who(ctx))
	if errors.Is(err, store.ErrNameTaken) {
		return refusedInput("body.name", errors.New("there is a bundle of this name already; take another"))
	}
	if err != nil {
		return err
	}
	return s.Store.Record(ctx, store.Event{SiteID: env.SiteID, Kind: "bundle", Who: who(ctx), Text: fmt.Sprintf("Made the bundle “%s” of %s.", name, fingerprint[:min(8, len(fingerprint))])})
}

// known is a site's production with its catalogue, and the values in force there.
func (s *Server) known(ctx context.Context, siteID int64) (store.Environment, settings.Values, error) {
	envs, err := s.Store.EnvironmentsByRole(ctx, siteID)
	production := envs.Production
	if err != nil {
		return production, nil, err
	}
	if production.Catalogue.V == nil || production.About.V == nil {
		return production, nil, huma.Error409Conflict(production.Name + " has not been read yet.")
	}
	now, err := s.Store.Revision(ctx, siteID, production.Fingerprint)
	return production, now, err
}

func (s *Server) previewBundle(ctx context.Context, changeID int64, name string) (BundlePreview, error) {
	all, err := s.bundles(ctx)
	if err != nil {
		return BundlePreview{}, err
	}
	c, err := s.Store.Change(ctx, changeID)
	if err != nil {
		return BundlePreview{}, err
	}
	production, _, err := s.known(ctx, c.SiteID)
	if err != nil {
		return BundlePreview{}, err
	}
	base, err := s.Store.Revision(ctx, c.SiteID, c.Base)
	if err != nil {
		return BundlePreview{}, err
	}
	now := base.With(c.Edits.V)
	for _, b := range all {
		if b.Name != name {
			continue
		}
		edits, unmet := settings.Bundle{Wishes: b.Wishes}.Edits(*production.Catalogue.V, now, production.About.V.Facts.Host())
		then := now.With(edits)
		return BundlePreview{name, settings.Edited(base, then), differenceViews(*production.Catalogue.V, now, then), unmet, settings.ProfileOf(*production.Catalogue.V, then)}, nil
	}
	return BundlePreview{}, huma.Error404NotFound(fmt.Sprintf("There is no bundle %q.", name))
}

func (s *Server) settingsView(ctx context.Context, id int64) (SettingsView, error) {
	row, err := s.Store.Site(ctx, id)
	if err != nil {
		return SettingsView{}, err
	}
	v := SettingsView{Site: id, SiteName: row.Name, Lacking: map[string]string{}, Columns: []SettingsColumn{}, Catalogue: settings.Catalogue{Settings: []settings.Definition{}}}
	envs, err := s.Store.Environments(ctx, id)
	if err != nil {
		return v, err
	}
	add := func(e store.Environment, name, kind, fingerprint string) error {
		values, err := s.Store.Revision(ctx, id, fingerprint)
		v.Columns = append(v.Columns, SettingsColumn{name, kind, e.ID, fingerprint, values})
		return err
	}
	for _, e := range envs {
		if e.Catalogue.V == nil || e.About.V == nil {
			continue
		}
		v.Catalogue, v.Lacking = *e.Catalogue.V, e.Catalogue.V.Lacking(e.About.V.Facts.Host())
		if err := add(e, e.Name, "environment", e.Fingerprint); err != nil {
			return v, err
		}
	}
	for _, e := range envs {
		marks, err := s.Store.Marks(ctx, e.ID, 5)
		if err != nil {
			return v, err
		}
		for _, m := range marks {
			if err := add(e, fmt.Sprintf("mark %d of %s", m.ID, e.Name), "mark", m.Fingerprint); err != nil {
				return v, err
			}
		}
	}
	return v, nil
}
