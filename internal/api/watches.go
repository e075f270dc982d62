package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/watch"
	"tidemarker/internal/store"
)

// WatchView is how a promotion is watched.
type WatchView struct {
	ID          int64           `json:"id"`
	Change      int64           `json:"change"`
	ChangeTitle string          `json:"changeTitle"`
	Environment string          `json:"environment"`
	Promotion   int64           `json:"promotion" doc:"The run that promoted it."`
	State       watch.State     `json:"state" enum:"watching,waits for a person,settled,ended,taken over"`
	Why         string          `json:"why" doc:"It is in that state; empty while it is watched."`
	Begun       time.Time       `json:"begun"`
	Ends        time.Time       `json:"ends"`
	Looks       []WatchLookView `json:"looks" doc:"In the order of time."`
	Kept        int             `json:"kept" doc:"How many files browsers kept that were there at the promotion; they come again with them."`
	Back        *GoingBack      `json:"back,omitempty" doc:"The change is, was or would have been rolled back automatically."`
	TakenOverBy int64           `json:"takenOverBy,omitempty" doc:"The change whose watch took it over."`
}

// GoingBack is a change's going back by itself.
type GoingBack struct {
	At      time.Time `json:"at" doc:"When it goes back, unless somebody stops it before."`
	Why     string    `json:"why"`
	Refused string    `json:"refused" doc:"Who said no, or why it could not; empty when nobody did."`
	Run     int64     `json:"run,omitempty" doc:"That rolls it back."`
}

// WatchLookView is one look of a watch.
type WatchLookView struct {
	At         time.Time       `json:"at" doc:"When it is due."`
	For        []watch.Purpose `json:"for" doc:"What it is for."`
	State      watch.LookState `json:"state" enum:"planned,under way,clear,news,found,not checked,joined,skipped"`
	Why        string          `json:"why" doc:"What it came to, or what it waits for."`
	Run        int64           `json:"run,omitempty"`
	StagingRun int64           `json:"stagingRun,omitempty" doc:"That looked at staging with the same settings, since something was found."`
	Held       []watch.Late    `json:"held" doc:"What was found, and what it comes of."`
}

// reasonBody is why somebody decides something.
type reasonBody struct {
	Reason string `json:"reason" minLength:"1" maxLength:"2000" doc:"It is recorded in the history."`
}

func (s *Server) watchOperations(api huma.API) {
	tags := []string{"watches"}
	huma.Register(api, huma.Operation{OperationID: "list-watches", Method: http.MethodGet, Path: "/sites/{id}/watches", Summary: "Which promotions of a site are watched, or wait for a person after it", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[[]WatchView], error) {
			if _, err := s.Store.Site(ctx, in.ID); err != nil {
				return nil, problem(err)
			}
			rows, err := s.Store.OpenWatches(ctx, in.ID)
			views := []WatchView{}
			for _, w := range rows {
				v, err := s.watchView(ctx, w)
				if err != nil {
					return nil, problem(err)
				}
				views = append(views, v)
			}
			return out(views, err)
		})
	answer := func(ctx context.Context, id int64, err error) (*output[WatchView], error) {
		if err != nil {
			return nil, problem(err)
		}
		w, err := s.Store.Watch(ctx, id)
		if err != nil {
			return nil, problem(err)
		}
		return out(s.watchView(ctx, w))
	}
	type decided struct {
		ByID
		Body reasonBody
	}
	huma.Register(api, huma.Operation{OperationID: "stop-watch", Method: http.MethodPost, Path: "/watches/{id}/stop", Summary: "Ends a watch before its time", Description: "The change is not settled by that: a person says whether it is.", Tags: tags, DefaultStatus: http.StatusOK},
		func(ctx context.Context, in *decided) (*output[WatchView], error) {
			return answer(ctx, in.ID, s.Watching.Stop(ctx, in.ID, who(ctx), in.Body.Reason))
		})
	huma.Register(api, huma.Operation{OperationID: "keep-change", Method: http.MethodPost, Path: "/watches/{id}/keep", Summary: "Stops a change that is announced to be rolled back automatically", Tags: tags, DefaultStatus: http.StatusOK},
		func(ctx context.Context, in *decided) (*output[WatchView], error) {
			return answer(ctx, in.ID, s.Watching.SayNo(ctx, in.ID, who(ctx), in.Body.Reason))
		})
	huma.Register(api, huma.Operation{OperationID: "settle-change", Method: http.MethodPost, Path: "/changes/{id}/settle", Summary: "Settles a change although its watch found something or could not check", Tags: []string{"changes"}, DefaultStatus: http.StatusOK},
		func(ctx context.Context, in *decided) (*output[ChangeView], error) {
			if err := s.Watching.Settle(ctx, in.ID, who(ctx), in.Body.Reason); err != nil {
				return nil, problem(err)
			}
			return out(s.changeView(ctx, in.ID))
		})
}

// watchOf is the watch of a change's latest promotion; nil when it is not watched.
func (s *Server) watchOf(ctx context.Context, changeID int64) (*WatchView, error) {
	of, err := s.Store.WatchesOf(ctx, changeID)
	if err != nil || len(of) == 0 {
		return nil, err
	}
	v, err := s.watchView(ctx, of[0])
	return &v, err
}

func (s *Server) watchView(ctx context.Context, w store.Watch) (WatchView, error) {
	v := WatchView{ID: w.ID, Change: w.ChangeID, Promotion: w.RunID, State: w.State, Why: w.Why, Begun: w.BegunAt, Ends: w.EndsAt, Kept: len(w.Kept.V), Looks: []WatchLookView{}}
	env, err := s.Store.Environment(ctx, w.EnvironmentID)
	if err != nil {
		return v, err
	}
	c, err := s.Store.Change(ctx, w.ChangeID)
	if err != nil {
		return v, err
	}
	v.Environment, v.ChangeTitle = env.Name, c.Title
	if w.BackAt != nil {
		v.Back = &GoingBack{At: *w.BackAt, Why: w.BackWhy, Refused: w.BackRefused, Run: orZero(w.BackRunID)}
	}
	if w.NextID != nil {
		next, err := s.Store.Watch(ctx, *w.NextID)
		if err != nil {
			return v, err
		}
		v.TakenOverBy = next.ChangeID
	}
	looks, err := s.Store.WatchLooks(ctx, w.ID)
	for _, l := range looks {
		held := l.Held.V
		if held == nil {
			held = []watch.Late{}
		}
		v.Looks = append(v.Looks, WatchLookView{At: l.DueAt, For: l.Look.V.For, State: l.State, Why: l.Why, Run: orZero(l.RunID), StagingRun: orZero(l.StagingRunID), Held: held})
	}
	return v, err
}

func orZero(id *int64) int64 {
	if id == nil {
		return 0
	}
	return *id
}
