package web

import (
	"context"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

func (s *Server) carryOperations(api huma.API) {
	tags := []string{"settings"}
	huma.Register(api, huma.Operation{OperationID: "copy-settings", Method: http.MethodGet, Path: "/environments/{id}/revisions/{fingerprint}", Summary: "A revision with what it excludes, to be carried to another site",
		Description: "Its schema is at /api/contract/copied-settings.schema.json.", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Fingerprint string `path:"fingerprint"`
		}) (*output[settings.Carried], error) {
			return out(s.carry(ctx, in.ID, in.Fingerprint))
		})
	huma.Register(api, huma.Operation{OperationID: "fit-copied", Method: http.MethodPost, Path: "/sites/{id}/carried/fit", Summary: "What a carried revision means on this site; nothing is changed", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Document string `json:"document" maxLength:"2000000"`
			}
		}) (*output[settings.Fit], error) {
			_, fit, err := s.fit(ctx, in.ID, in.Body.Document)
			return out(fit, err)
		})
	huma.Register(api, huma.Operation{OperationID: "begin-from-copied", Method: http.MethodPost, Path: "/sites/{id}/carried", Summary: "Begins a change with what somebody takes of a carried revision", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Document string   `json:"document" maxLength:"2000000"`
				Title    string   `json:"title" minLength:"1" maxLength:"200"`
				Take     []string `json:"take" doc:"Keys of this site, as the fit names them."`
			}
		}) (*output[ChangeView], error) {
			return out(s.beginFromCarried(ctx, in.ID, in.Body.Document, in.Body.Title, in.Body.Take))
		})
}

func (s *Server) carry(ctx context.Context, envID int64, fingerprint string) (settings.Carried, error) {
	env, err := s.Store.Environment(ctx, envID)
	if err != nil {
		return settings.Carried{}, err
	}
	row, err := s.Store.Site(ctx, env.SiteID)
	if err != nil {
		return settings.Carried{}, err
	}
	if env.Catalogue.V == nil || env.About.V == nil {
		return settings.Carried{}, huma.Error409Conflict(env.Name + " has not been read yet.")
	}
	v, err := s.Store.Revision(ctx, env.SiteID, fingerprint)
	if err != nil {
		return settings.Carried{}, err
	}
	rows, err := s.Store.SiteExclusions(ctx, env.SiteID)
	if err != nil {
		return settings.Carried{}, err
	}
	var left []settings.CarriedExclusion
	for _, e := range rows {
		if e.RetiredAt == nil && slices.Contains(v.Strings(e.Key), e.Pattern) {
			left = append(left, settings.CarriedExclusion{Role: e.Role, Pattern: e.Pattern, Reason: e.Reason})
		}
	}
	return settings.Carry(row.Name, env.About.V.Software, *env.Catalogue.V, v, left)
}

// fit maps a document on what a site's production has now.
func (s *Server) fit(ctx context.Context, siteID int64, document string) (settings.Carried, settings.Fit, error) {
	from, err := settings.ParseCarried([]byte(document))
	if err != nil {
		return from, settings.Fit{}, refusedInput("body.document", err)
	}
	production, now, err := s.known(ctx, siteID)
	if err != nil {
		return from, settings.Fit{}, err
	}
	return from, production.Catalogue.V.Fit(from, now, production.About.V.Facts.Host()), nil
}

func (s *Server) beginFromCarried(ctx context.Context, siteID int64, document, title string, take []string) (ChangeView, error) {
	from, fit, err := s.fit(ctx, siteID, document)
	if err != nil {
		return ChangeView{}, err
	}
	taken := map[settings.Role]string{}
	edits := settings.Values{}
	for _, m := range fit.Mapped {
		if slices.Contains(take, m.Key) {
			edits[m.Key], taken[m.From.Role] = m.Value, m.Key
		}
	}
	if len(edits) == 0 {
		return ChangeView{}, huma.Error422UnprocessableEntity("Nothing was taken: name at least one setting that the fit lists.")
	}
	words := ChangeWords{Title: title, Reason: fmt.Sprintf("Carried over from %s, revision %s.", from.Site, from.Fingerprint[:min(8, len(from.Fingerprint))])}
	v, err := s.beginChange(ctx, siteID, words)
	if err != nil {
		return v, err
	}
	if v, err = s.editChange(ctx, v.ID, v.Version, words, edits); err != nil {
		return v, err
	}
	for _, e := range from.Exclusions {
		key, there := taken[e.Role]
		if !there {
			continue
		}
		if _, err := s.Store.AddExclusion(ctx, store.Exclusion{SiteID: siteID, ChangeID: &v.ID, Role: e.Role, Key: key, Pattern: e.Pattern,
			Reason: fmt.Sprintf("%s (carried over from %s)", e.Reason, from.Site), Who: who(ctx)}); err != nil {
			return v, err
		}
	}
	return s.changeView(ctx, v.ID)
}
