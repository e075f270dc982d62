package api

import (
	"context"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/settings"
)

func (s *Server) carryOperations(api huma.API) {
	tags := []string{"settings"}
	huma.Register(api, huma.Operation{OperationID: "copy-settings", Method: http.MethodGet, Path: "/environments/{id}/revisions/{fingerprint}", Summary: "A revision with its exclusions, to copy to another site",
		Description: "Its schema is at /api/contract/copied-settings.schema.json.", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Fingerprint string `path:"fingerprint"`
		}) (*output[settings.Copied], error) {
			return out(s.Changes.Copied(ctx, in.ID, in.Fingerprint))
		})
	huma.Register(api, huma.Operation{OperationID: "fit-copied", Method: http.MethodPost, Path: "/sites/{id}/carried/fit", Summary: "What a copied revision means on this site; nothing is changed", Tags: tags, MaxBodyBytes: mostUpload},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Document string `json:"document" maxLength:"2000000"`
			}
		}) (*output[settings.Fit], error) {
			_, fit, err := s.fit(ctx, in.ID, in.Body.Document)
			return out(fit, err)
		})
	huma.Register(api, huma.Operation{OperationID: "begin-from-copied", Method: http.MethodPost, Path: "/sites/{id}/carried", Summary: "Starts a change with what somebody takes of a carried revision", Tags: tags, MaxBodyBytes: mostUpload, DefaultStatus: http.StatusCreated},
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
	var taken []settings.Mapped
	for _, m := range fit.Mapped {
		if slices.Contains(take, m.Key) {
			taken = append(taken, m)
		}
	}
	if len(taken) == 0 {
		return ChangeView{}, huma.Error422UnprocessableEntity("Nothing was taken: name at least one setting that the fit lists.")
	}
	words := changes.Words{Title: title, Reason: fmt.Sprintf("Copied from %s, revision %s.", from.Site, from.Fingerprint[:min(8, len(from.Fingerprint))])}
	id, err := s.Changes.BeginCopied(ctx, siteID, words, from, taken, who(ctx))
	if err != nil {
		return ChangeView{}, err
	}
	return s.changeView(ctx, id)
}
