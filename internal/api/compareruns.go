package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// RunsCompared is what one run found and another did not, and which settings differ between them.
type RunsCompared struct {
	First       RunSummary       `json:"first" doc:"The earlier one."`
	Second      RunSummary       `json:"second"`
	Gone        []FindingView    `json:"gone" doc:"Of the first only."`
	Came        []FindingView    `json:"came" doc:"Of the second only."`
	Both        []FindingView    `json:"both" doc:"Of both, as the second has them."`
	Differences []DifferenceView `json:"differences" doc:"From the settings of the first to those of the second."`
	Unread      bool             `json:"unread,omitempty" doc:"Of one of them it is not recorded which settings it saw: nothing is said of differences."`
}

// compareRunsOperation registers the comparison of any two runs of a site.
func (s *Server) compareRunsOperation(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "compare-runs", Method: http.MethodGet, Path: "/runs/{id}/compare", Summary: "Two runs of a site, compared: findings that went, came and stayed, and which settings differ",
		Description: "422 for runs of two sites. The earlier one comes first, whichever is asked with which.", Tags: []string{"runs"}},
		func(ctx context.Context, in *struct {
			ByID
			With int64 `query:"with" required:"true" minimum:"1" doc:"The other run."`
		}) (*output[RunsCompared], error) {
			v, err := s.compareRuns(ctx, min(in.ID, in.With), max(in.ID, in.With))
			if err != nil {
				return nil, problem(err)
			}
			return out(v, nil)
		})
}

func (s *Server) compareRuns(ctx context.Context, first, second int64) (RunsCompared, error) {
	v := RunsCompared{Gone: []FindingView{}, Came: []FindingView{}, Both: []FindingView{}, Differences: []DifferenceView{}}
	var runs [2]store.Run
	var found [2][]store.Finding
	var docs [2][]evidence.Finding
	for i, id := range []int64{first, second} {
		r, err := s.Store.Run(ctx, id)
		if err != nil {
			return v, err
		}
		env, err := s.Store.Environment(ctx, r.EnvironmentID)
		if err != nil {
			return v, err
		}
		if found[i], err = s.Store.Findings(ctx, id); err != nil {
			return v, err
		}
		for _, f := range found[i] {
			docs[i] = append(docs[i], f.Document.V)
		}
		runs[i], v.First, v.Second = r, v.Second, runSummary(r, env.Name)
	}
	if runs[0].SiteID != runs[1].SiteID {
		return v, huma.Error422UnprocessableEntity("These are runs of two sites. Choose two of one site.")
	}
	gone, came, both := evidence.Apart(docs[0], docs[1])
	for _, i := range gone {
		v.Gone = append(v.Gone, findingView(found[0][i]))
	}
	for _, i := range came {
		v.Came = append(v.Came, findingView(found[1][i]))
	}
	for _, p := range both {
		v.Both = append(v.Both, findingView(found[1][p[1]]))
	}
	return v, s.settingsBetween(ctx, &v, runs)
}

// settingsBetween adds which settings differ between what two runs saw, in the words of the second's catalogue.
func (s *Server) settingsBetween(ctx context.Context, v *RunsCompared, runs [2]store.Run) error {
	seen := func(r store.Run) string {
		if r.Target != "" {
			return r.Target
		}
		return r.Before
	}
	from, to := seen(runs[0]), seen(runs[1])
	if from == "" || to == "" {
		v.Unread = true
		return nil
	}
	was, err := s.Store.Revision(ctx, runs[0].SiteID, from)
	if err != nil {
		return err
	}
	now, err := s.Store.Revision(ctx, runs[1].SiteID, to)
	if err != nil {
		return err
	}
	env, err := s.Store.Environment(ctx, runs[1].EnvironmentID)
	if err != nil {
		return err
	}
	cat := settings.Catalogue{}
	if c := env.Catalogue.V; c != nil {
		cat = *c
	}
	v.Differences = differenceViews(cat, was, now)
	return nil
}
