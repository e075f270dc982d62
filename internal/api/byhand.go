package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/act"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// ManualTaskView is a checklist that a person carries out in a site's own
// administration.
type ManualTaskView struct {
	State   string           `json:"state" enum:"open,done,cancelled"`
	Items   []TaskItemView   `json:"items"`
	Patch   []map[string]any `json:"patch" doc:"JSON Patch (RFC 6902) from the exported file before to the one after; empty when no file proves it."`
	Proven  bool             `json:"proven" doc:"An exported file has exactly what was meant."`
	DoneBy  string           `json:"doneBy"`
	DoneAt  *time.Time       `json:"doneAt"`
	Waiting int              `json:"waiting" doc:"How many items are not ticked."`
}

// TaskItemView is one thing to be done by hand.
type TaskItemView struct {
	Key   string     `json:"key"`
	Title string     `json:"title"`
	Where string     `json:"where"`
	From  string     `json:"from"`
	To    string     `json:"to"`
	Done  bool       `json:"done"`
	Who   string     `json:"who"`
	At    *time.Time `json:"at"`
}

func (s *Server) handOperations(api huma.API) {
	tags := []string{"by hand"}
	huma.Register(api, huma.Operation{OperationID: "upload-export", Method: http.MethodPost, Path: "/environments/{id}/exports", Summary: "Takes the settings file that somebody exported from a site without a connector", Tags: tags, MaxBodyBytes: mostUpload, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				File string `json:"file" maxLength:"4500000" doc:"Any JSON, or lines of key and value."`
			}
		}) (*output[SiteView], error) {
			env, err := s.Acts.TakeExport(ctx, in.ID, []byte(in.Body.File), who(ctx))
			if err != nil {
				return nil, problem(err)
			}
			if err := s.Store.Tell(ctx, store.Signal{Site: env.SiteID}); err != nil {
				return nil, problem(err)
			}
			return out(s.siteView(ctx, env.SiteID))
		})
	huma.Register(api, huma.Operation{OperationID: "tick-task-item", Method: http.MethodPut, Path: "/runs/{id}/task/{item}", Summary: "Says of one item of a checklist whether it is done", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Item int `path:"item"`
			Body struct {
				Done bool `json:"done"`
			}
		}) (*output[RunView], error) {
			if err := s.Store.TickItem(ctx, in.ID, in.Item, in.Body.Done, who(ctx)); err != nil {
				return nil, handProblem(err)
			}
			if err := s.Store.Tell(ctx, store.Signal{Run: in.ID}); err != nil {
				return nil, problem(err)
			}
			return out(s.runView(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "complete-task", Method: http.MethodPost, Path: "/runs/{id}/task", Summary: "Completes a checklist, proven by an exported file where there is one; the run continues",
		Description: "422 with each setting that is not as it was meant.", Tags: tags, MaxBodyBytes: mostUpload, DefaultStatus: http.StatusAccepted},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				File string `json:"file,omitempty" maxLength:"4500000" doc:"The settings exported again. Without it every item has to be ticked."`
			}
		}) (*output[RunView], error) {
			if err := s.Runner.CompleteManualTask(ctx, in.ID, []byte(strings.TrimSpace(in.Body.File)), who(ctx)); err != nil {
				return nil, handProblem(err)
			}
			if err := s.Store.Tell(ctx, store.Signal{Run: in.ID}); err != nil {
				return nil, problem(err)
			}
			return out(s.runView(ctx, in.ID))
		})
}

func handProblem(err error) error {
	if errors.Is(err, store.ErrSettled) {
		return huma.Error409Conflict("The checklist is no longer open.")
	}
	if not, ok := errors.AsType[*act.NotAsExpected](err); ok {
		var details []error
		for _, d := range not.Differences {
			details = append(details, &huma.ErrorDetail{Location: "body.file" + d.Key, Message: "Is " + settings.Shown(d.To) + ", was to be " + settings.Shown(d.From) + "."})
		}
		return huma.Error422UnprocessableEntity(not.Error(), details...)
	}
	return problem(err)
}

func (s *Server) manualTaskView(ctx context.Context, runID int64) (*ManualTaskView, error) {
	h, err := s.Store.ManualTaskOf(ctx, runID)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	v := &ManualTaskView{State: h.State, Items: []TaskItemView{}, Patch: []map[string]any{}, DoneBy: h.DoneBy, DoneAt: h.DoneAt}
	for _, it := range h.Items.V {
		i := TaskItemView{Key: it.Key, Title: it.Title, Where: it.Where, Done: it.Done, Who: it.Who, At: it.At}
		if it.Key != "" {
			i.From, i.To = whole(it.From), whole(it.To)
		}
		if !it.Done {
			v.Waiting++
		}
		v.Items = append(v.Items, i)
	}
	if h.Proof.V != nil {
		v.Proven = true
		if err := json.Unmarshal(h.Proof.V.Patch, &v.Patch); err != nil {
			return nil, err
		}
	}
	return v, nil
}

// whole writes a value so that somebody can type it in.
func whole(v any) string {
	list, is := v.([]any)
	if !is {
		return settings.Shown(v)
	}
	var lines []string
	for _, x := range list {
		lines = append(lines, settings.Shown(x))
	}
	return strings.Join(lines, "\n")
}
