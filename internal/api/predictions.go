package api

import (
	"context"
	"errors"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/prediction"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/inspect"
	"tidemarker/internal/store"
)

// PredictedView is what settings will do to an environment, read off what its mark's pages were made of.
type PredictedView struct {
	Mark        int64                   `json:"mark" doc:"The mark that it was read off; 0 when there is none."`
	MarkRun     int64                   `json:"markRun" doc:"The run with its evidence."`
	Pages       int                     `json:"pages" doc:"Looks of the mark that were read."`
	Unread      int                     `json:"unread" doc:"Looks for which the files of the page were not recorded."`
	Predictions []prediction.Prediction `json:"predictions"`
	Why         string                  `json:"why,omitempty" doc:"Why nothing can be predicted."`
	Record      PredictionRecord        `json:"record"`
}

// PredictionRecord is how predictions did on a site, in its latest runs.
type PredictionRecord struct {
	Runs   int `json:"runs" doc:"Runs in which something was predicted or missed."`
	Right  int `json:"right"`
	Wrong  int `json:"wrong"`
	Missed int `json:"missed" doc:"Causes that were found and not predicted."`
}

// recordOver is how many of a site's latest runs its record is made of.
const recordOver = 200

// predictionOperations registers what is predicted, and what became of it.
func (s *Server) predictionOperations(api huma.API) {
	huma.Register(api, huma.Operation{OperationID: "predict-change", Method: http.MethodGet, Path: "/changes/{id}/predictions", Summary: "What a change will do to staging, before anything is tried", Tags: []string{"changes"}},
		func(ctx context.Context, in *ByID) (*output[PredictedView], error) {
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
			return out(s.predictedView(ctx, envs.Staging, base.With(c.Edits.V)))
		})
	huma.Register(api, huma.Operation{OperationID: "predict", Method: http.MethodPost, Path: "/environments/{id}/predictions", Summary: "What settings will do to an environment; the site is not asked for anything", Tags: []string{"environments"}},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Edits settings.Values `json:"edits"`
			}
		}) (*output[PredictedView], error) {
			env, err := s.Store.Environment(ctx, in.ID)
			if err != nil {
				return nil, problem(err)
			}
			after, err := inspect.Edited(ctx, s.Store, env, in.Body.Edits)
			if err != nil {
				return nil, problem(err)
			}
			return out(s.predictedView(ctx, env, after))
		})
	huma.Register(api, huma.Operation{OperationID: "get-run-predictions", Method: http.MethodGet, Path: "/runs/{id}/predictions", Summary: "What was predicted for a run's settings, and what happened", Description: "404 when nothing was: the run changed no settings, or its mark was taken before the files of pages were recorded.", Tags: []string{"runs"}},
		func(ctx context.Context, in *ByID) (*output[prediction.Record], error) {
			f, err := s.Store.Predicted(ctx, in.ID)
			return out(f.Record.V, err)
		})
}

func (s *Server) predictedView(ctx context.Context, env store.Environment, after settings.Values) (PredictedView, error) {
	v := PredictedView{Predictions: []prediction.Prediction{}}
	record, err := s.predictionRecord(ctx, env.SiteID)
	if err != nil {
		return v, err
	}
	v.Record = record
	seen, m, err := inspect.PredictValues(ctx, s.Store, s.Store, env, after)
	v.Mark, v.MarkRun, v.Pages, v.Unread = m.ID, m.RunID, seen.Pages, seen.Unread
	if none, is := errors.AsType[*inspect.NothingToPredict](err); is {
		v.Why = none.Why
		return v, nil
	}
	v.Predictions = append(v.Predictions, seen.Predictions...)
	return v, err
}

// predictionRecord counts what became of what was predicted on a site.
func (s *Server) predictionRecord(ctx context.Context, siteID int64) (PredictionRecord, error) {
	rows, err := s.Store.SitePredicted(ctx, siteID, recordOver)
	var r PredictionRecord
	for _, f := range rows {
		if len(f.Record.V.Held)+len(f.Record.V.Missed) == 0 {
			continue
		}
		r.Runs++
		r.Right += f.Record.V.Count(prediction.Right)
		r.Wrong += f.Record.V.Count(prediction.Wrong)
		r.Missed += len(f.Record.V.Missed)
	}
	return r, err
}
