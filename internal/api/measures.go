package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// measureOperations registers how speed is measured.
func (s *Server) measureOperations(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "measure-change", Method: http.MethodPost, Path: "/changes/{id}/measure", Summary: "Measures on staging what a change does to speed, with it and without it in turns",
		Description: "Staging has the change before and after. 409 when it does not have it.", Tags: []string{"changes"}, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *ByID) (*output[RunView], error) {
			id, err := s.Changes.Measure(ctx, in.ID, who(ctx))
			if err != nil {
				return nil, problem(err)
			}
			return out(s.runView(ctx, id))
		})
	huma.Register(api, huma.Operation{OperationID: "measure-on-environment", Method: http.MethodPost, Path: "/environments/{id}/measurements", Summary: "Measures what settings do to speed, and puts back what was there", Tags: []string{"environments"}, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Edits settings.Values `json:"edits" doc:"Settings to put in force for it."`
			}
		}) (*output[RunView], error) {
			p, err := s.Runner.Acts.Propose(ctx, in.ID, in.Body.Edits)
			if err != nil {
				return nil, problem(err)
			}
			env, err := s.Store.Environment(ctx, in.ID)
			if err != nil {
				return nil, problem(err)
			}
			r, err := s.Runner.Start(ctx, store.Run{SiteID: env.SiteID, EnvironmentID: env.ID, Kind: release.MeasureRun, Target: p.Revision, PutBack: true, RequestedBy: who(ctx)})
			if err != nil {
				return nil, problem(err)
			}
			return out(s.runView(ctx, r.ID))
		})
}
