package api

import (
	"context"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/changes"
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
		}) (*output[settings.Copied], error) {
			return out(s.carry(ctx, in.ID, in.Fingerprint))
		})
	huma.Register(api, huma.Operation{OperationID: "fit-copied", Method: http.MethodPost, Path: "/sites/{id}/carried/fit", Summary: "What a carried revision means on this site; nothing is changed", Tags: tags, MaxBodyBytes: mostUpload},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Document string `json:"document" maxLength:"2000000"`
			}
		}) (*output[settings.Fit], error) {
			_, fit, err := s.fit(ctx, in.ID, in.Body.Document)
			return out(fit, err)
		})
	huma.Register(api, huma.Operation{OperationID: "begin-from-copied", Method: http.MethodPost, Path: "/sites/{id}/carried", Summary: "Begins a change with what somebody takes of a carried revision", Tags: tags, MaxBodyBytes: mostUpload, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Document string   `json:"document" maxLength:"2000000"`
				Title    string   `json:"title" minLength:"1" maxLength:"200"`
				Take     []string `json:"take" doc:"Keys of this site, as the fit names them."`
			}
		}) (*output[ChangeView], error) {
			return out(s.beginFromCopied(ctx, in.ID, in.Body.Document, in.Body.Title, in.Body.Take))
		})
}

func (s *Server) carry(ctx context.Context, envID int64, fingerprint string) (settings.Copied, error) {
	env, err := s.Store.Environment(ctx, envID)
	if err != nil {
		return settings.Copied{}, err
	}
	row, err := s.Store.Site(ctx, env.SiteID)
	if err != nil {
		return settings.Copied{}, err
	}
	if env.Catalogue.V == nil || env.About.V == nil {
		return settings.Copied{}, huma.Error409Conflict(env.Name + " has not been read yet.")
	}
	v, err := s.Store.Revision(ctx, env.SiteID, fingerprint)
	if err != nil {
		return settings.Copied{}, err
	}
	rows, err := s.Store.SiteExclusions(ctx, env.SiteID)
	if err != nil {
		return settings.Copied{}, err
	}
	var left []settings.CopiedExclusion
	in := map[string]map[string]bool{} // patterns by setting
	for _, e := range rows {
		if in[e.Key] == nil {
			in[e.Key] = map[string]bool{}
			for _, p := range v.Strings(e.Key) {
				in[e.Key][p] = true
			}
		}
		if e.RetiredAt == nil && in[e.Key][e.Pattern] {
			left = append(left, settings.CopiedExclusion{Role: e.Role, Pattern: e.Pattern, Reason: e.Reason})
		}
	}
	return settings.CopyOf(row.Name, env.About.V.Software, *env.Catalogue.V, v, left)
}

// fit maps a document on what a site's production has now.
func (s *Server) fit(ctx context.Context, siteID int64, document string) (settings.Copied, settings.Fit, error) {
	from, err := settings.ParseCopied([]byte(document))
	if err != nil {
		return from, settings.Fit{}, refusedInput("body.document", err)
	}
	production, now, err := s.known(ctx, siteID)
	if err != nil {
		return from, settings.Fit{}, err
	}
	return from, production.Catalogue.V.Fit(from, now, production.About.V.Facts.Host()), nil
}

func (s *Server) beginFromCopied(ctx context.Context, siteID int64, document, title string, take []string) (ChangeView, error) {
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
	words := changes.Words{Title: title, Reason: fmt.Sprintf("Copied from %s, revision %s.", from.Site, from.Fingerprint[:min(8, len(from.Fingerprint))])}
	id, err := s.Changes.Begin(ctx, siteID, words, edits, who(ctx))
	if err != nil {
		return ChangeView{}, err
	}
	var copied []store.Exclusion
	for _, e := range from.Exclusions {
		key, there := taken[e.Role]
		if !there {
			continue
		}
		copied = append(copied, store.Exclusion{SiteID: siteID, ChangeID: &id, Role: e.Role, Key: key, Pattern: e.Pattern,
			Reason: fmt.Sprintf("%s (copied from %s)", e.Reason, from.Site), Who: who(ctx)})
	}
	if err := s.Store.AddExclusions(ctx, copied); err != nil {
		return ChangeView{}, err
	}
	return s.changeView(ctx, id)
}
