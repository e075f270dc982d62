package api

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/survey"
	"tidemarker/internal/store"
)

// ParityView is in what a site's first and last environment differ.
type ParityView struct {
	Summary string          `json:"summary"`
	Unlike  []survey.Unlike `json:"unlike"`
	Notes   []string        `json:"notes" doc:"What could not be compared."`
	Who     string          `json:"who"`
	At      *time.Time      `json:"at,omitempty" doc:"Absent when nothing was compared yet."`
}

func (s *Server) parityOperations(api huma.API) {
	tags := []string{"Environments"}
	huma.Register(api, huma.Operation{OperationID: "get-parity", Method: http.MethodGet, Path: "/sites/{id}/parity", Summary: "In what staging and production differ, as last compared", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[ParityView], error) {
			return out(s.parityView(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "compare-environments", Method: http.MethodPost, Path: "/sites/{id}/parity", Summary: "Compares staging with production now: host, catalogue, values, pages, scripts and styles",
		Description: "409 when the site has only one environment.", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[ParityView], error) {
			if err := s.Onboard.Parity(ctx, in.ID, who(ctx)); err != nil {
				return nil, problem(err)
			}
			return out(s.parityView(ctx, in.ID))
		})
}

func (s *Server) parityView(ctx context.Context, site int64) (ParityView, error) {
	v := ParityView{Unlike: []survey.Unlike{}, Notes: []string{}}
	if _, err := s.Store.Site(ctx, site); err != nil {
		return v, err
	}
	p, err := s.Store.ParityOf(ctx, site)
	if errors.Is(err, store.ErrNotFound) {
		return v, nil
	}
	d := p.Document.V
	return ParityView{Summary: d.Summary, Unlike: orEmpty(d.Unlike), Notes: orEmpty(d.Notes), Who: p.Who, At: &p.At}, err
}
