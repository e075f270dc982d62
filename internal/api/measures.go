package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// measureOperations registers how speed is measured. Long because it is a list: one registration after the other.
func (s *Server) measureOperations(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "measure-change", Method: http.MethodPost, Path: "/changes/{id}/measure", Summary: "Measures on staging what a change does to speed, with it and without it in turns",
		Description: "Staging has the change before and after. 409 when it does not have it.", Tags: []string{"changes"}, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body *measure.Scope `required:"false"`
		}) (*output[RunView], error) {
			var scope measure.Scope
			if in.Body != nil {
				scope = *in.Body
			}
			id, err := s.Changes.Measure(ctx, in.ID, scope, who(ctx))
			if err != nil {
				return nil, problem(err)
			}
			return out(s.runView(ctx, id))
		})
	huma.Register(api, huma.Operation{OperationID: "measure-more", Method: http.MethodPost, Path: "/runs/{id}/measure-more", Summary: "Goes on with a measurement that was not sure, with all its loads",
		Description: "409 when it is sure, or the settings are no longer those that were measured.", Tags: []string{"runs"}, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *ByID) (*output[RunView], error) {
			id, err := s.Changes.MeasureMore(ctx, in.ID, who(ctx))
			if err != nil {
				return nil, problem(err)
			}
			return out(s.runView(ctx, id))
		})
	s.measuredOperations(api)
	huma.Register(api, huma.Operation{OperationID: "expect-of-change", Method: http.MethodPut, Path: "/changes/{id}/expectation", Summary: "Sets what a change is expected to improve, in figures", Tags: []string{"changes"}},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Expected *measure.Expectation `json:"expected,omitempty" doc:"Absent: nothing in figures."`
			}
		}) (*output[ChangeView], error) {
			if err := s.Changes.Expect(ctx, in.ID, in.Body.Expected, who(ctx)); err != nil {
				return nil, problem(err)
			}
			return out(s.changeView(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "measure-on-environment", Method: http.MethodPost, Path: "/environments/{id}/measurements", Summary: "Measures what settings do to speed, and restores what was there", Tags: []string{"environments"}, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Edits settings.Values `json:"edits" doc:"Settings to put in force for it."`
				Scope *measure.Scope  `json:"scope,omitempty" doc:"What is measured; absent: as usual."`
			}
		}) (*output[RunView], error) {
			var scope measure.Scope
			if in.Body.Scope != nil {
				scope = *in.Body.Scope
			}
			p, err := s.Runner.Acts.Propose(ctx, in.ID, in.Body.Edits)
			if err != nil {
				return nil, problem(err)
			}
			env, err := s.Store.Environment(ctx, in.ID)
			if err != nil {
				return nil, problem(err)
			}
			if err := s.Changes.CheckScope(ctx, env.SiteID, env.Name, scope); err != nil {
				return nil, problem(err)
			}
			r, err := s.Runner.Start(ctx, store.Run{SiteID: env.SiteID, EnvironmentID: env.ID, Kind: release.MeasureRun, Target: p.Revision, Restores: true, RequestedBy: who(ctx), Measures: store.JSON[*measure.Scope]{V: &scope}})
			if err != nil {
				return nil, problem(err)
			}
			return out(s.runView(ctx, r.ID))
		})
}

// ExpectedView is what a change is meant to make better, and what became of it.
type ExpectedView struct {
	measure.Expectation
	Text   string         `json:"text"`
	Answer measure.Answer `json:"answer" enum:",met,not met,not shown" doc:"Empty while it was not measured."`
	Why    string         `json:"why"`
	Run    int64          `json:"run,omitempty" doc:"The measurement that says so."`
}

// expectedView answers what is expected of a change by its last measurement with the same settings.
func (s *Server) expectedView(ctx context.Context, c store.Change, fingerprint string, runs []store.Run) (*ExpectedView, error) {
	e := c.Expected.V
	if e == nil {
		return nil, nil
	}
	v := &ExpectedView{Expectation: *e, Text: e.Text()}
	for _, r := range runs {
		if r.Kind != release.MeasureRun || r.State != release.Done || r.Target != fingerprint {
			continue
		}
		loads, err := s.Store.Loads(ctx, r.ID)
		if err != nil {
			return nil, err
		}
		v.Answer, v.Why = e.Answered(measure.Compare(loads))
		v.Run = r.ID
		break
	}
	return v, nil
}
