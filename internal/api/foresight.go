package api

import (
	"context"
	"errors"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/foresight"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/inspect"
	"tidemarker/internal/store"
)

// ForeseenView is what settings will do to an environment, read off what its mark's pages were made of.
type ForeseenView struct {
	Mark        int64                  `json:"mark" doc:"The mark that it was read off; 0 when there is none."`
	MarkRun     int64                  `json:"markRun" doc:"The run with its evidence."`
	Pages       int                    `json:"pages" doc:"Looks of the mark that were read."`
	Unread      int                    `json:"unread" doc:"Looks for which the files of the page were not recorded."`
	Predictions []foresight.Prediction `json:"predictions"`
	Why         string                 `json:"why,omitempty" doc:"Why nothing can be predicted."`
	Record      ForesightRecord        `json:"record"`
}

// ForesightRecord is how foresight did on a site, in its latest runs.
type ForesightRecord struct {
	Runs   int `json:"runs" doc:"Runs in which something was predicted or missed."`
	Right  int `json:"right"`
	Wrong  int `json:"wrong"`
	Missed int `json:"missed" doc:"Causes that were found and not predicted."`
}

// recordOver is how many of a site's latest runs its record is made of.
const recordOver = 200

// foresightOperations registers what is foreseen, and what became of it.
func (s *Server) foresightOperations(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "foresee-change", Method: http.MethodGet, Path: "/changes/{id}/foresight", Summary: "What a change will do to staging, before anything is tried", Tags: []string{"changes"}},
		func(ctx context.Context, in *ByID) (*output[ForeseenView], error) {
			c, err := s.Store.Change(ctx, in.ID)
			if err != nil {
				return nil, problem(err)
			}
			envs, err := s.Store.EnvironmentsByRole(ctx, c.SiteID)
			if err != nil {
				return nil, problem(err)
			}
			base, err := s.Store.Revision(ctx, c.SiteID, c.Base)
			if err != nil {
				return nil, problem(err)
			}
			return out(s.foreseenView(ctx, envs.Staging, base.With(c.Edits.V)))
		})
	huma.Register(api, huma.Operation{OperationID: "foresee", Method: http.MethodPost, Path: "/environments/{id}/foresight", Summary: "What settings will do to an environment; the site is not asked for anything", Tags: []string{"environments"}},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Edits settings.Values `json:"edits"`
			}
		}) (*output[ForeseenView], error) {
			env, err := s.Store.Environment(ctx, in.ID)
			if err != nil {
				return nil, problem(err)
			}
			after, err := inspect.Edited(ctx, s.Store, env, in.Body.Edits)
			if err != nil {
				return nil, problem(err)
			}
			return out(s.foreseenView(ctx, env, after))
		})
	huma.Register(api, huma.Operation{OperationID: "get-run-foresight", Method: http.MethodGet, Path: "/runs/{id}/foresight", Summary: "What was predicted for a run's settings, and what happened", Description: "404 when nothing was: the run changed no settings, or its mark was taken before the files of pages were recorded.", Tags: []string{"runs"}},
		func(ctx context.Context, in *ByID) (*output[foresight.Record], error) {
			f, err := s.Store.Foresight(ctx, in.ID)
			return out(f.Record.V, err)
		})
}

func (s *Server) foreseenView(ctx context.Context, env store.Environment, after settings.Values) (ForeseenView, error) {
	v := ForeseenView{Predictions: []foresight.Prediction{}}
	record, err := s.foresightRecord(ctx, env.SiteID)
	if err != nil {
		return v, err
	}
	v.Record = record
	seen, m, err := inspect.ForeseeValues(ctx, s.Store, s.Store, env, after)
	v.Mark, v.MarkRun, v.Pages, v.Unread = m.ID, m.RunID, seen.Pages, seen.Unread
	if none, is := errors.AsType[*inspect.NothingToForesee](err); is {
		v.Why = none.Why
		return v, nil
	}
	v.Predictions = append(v.Predictions, seen.Predictions...)
	return v, err
}

// foresightRecord counts what became of what was foreseen on a site.
func (s *Server) foresightRecord(ctx context.Context, siteID int64) (ForesightRecord, error) {
	rows, err := s.Store.SiteForesights(ctx, siteID, recordOver)
	var r ForesightRecord
	for _, f := range rows {
		if len(f.Record.V.Held)+len(f.Record.V.Missed) == 0 {
			continue
		}
		r.Runs++
		r.Right += f.Record.V.Count(foresight.Right)
		r.Wrong += f.Record.V.Count(foresight.Wrong)
		r.Missed += len(f.Record.V.Missed)
	}
	return r, err
}
