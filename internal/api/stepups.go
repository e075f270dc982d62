package api

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/stepup"
	"tidemarker/internal/store"
)

// StepUpView is a step-up through the bundles, and its record.
type StepUpView struct {
	ID        int64         `json:"id"`
	Phase     stepup.Phase  `json:"phase" enum:",trying,searching,confirming,over"`
	Bundles   []string      `json:"bundles" doc:"From cautious to bold."`
	Level     int           `json:"level" doc:"Index of the bundle that is tried; -1 before the first."`
	Run       int64         `json:"run" doc:"The run that is under way for it; 0 when there is none."`
	Waits     string        `json:"waits" doc:"What it waits for; empty when for nothing but its run."`
	Looks     int           `json:"looks"`
	MostLooks int           `json:"mostLooks" doc:"0: as many as it takes."`
	Window    stepup.Window `json:"window"`
	Stopping  bool          `json:"stopping"`
	Steps     []StepUpStep  `json:"steps"`
	Summary   string        `json:"summary"`
	Who       string        `json:"who"`
	BeganAt   time.Time     `json:"beganAt"`
	OverAt    *time.Time    `json:"overAt"`
}

// StepUpStep is one line of a step-up's record, with the titles of its settings.
type StepUpStep struct {
	stepup.Step
	Titles map[string]string `json:"titles" doc:"Of the settings that the step names, by key."`
}

// stepUpOperations registers what is done to step-ups.
func (s *Server) stepUpOperations(api huma.API) {
	tags := []string{"changes"}
	huma.Register(api, huma.Operation{OperationID: "begin-step-up", Method: http.MethodPost, Path: "/sites/{id}/step-ups", Summary: "Starts a change that steps up through the bundles on staging and keeps what passes",
		Description: "It tries each bundle, finds the culprits of what breaks, and excludes what needs it or leaves the culprit out. It ends with one change that can be promoted. 409 while another step-up is running on the site.", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body changes.StepUpWish
		}) (*output[ChangeView], error) {
			id, err := s.Changes.BeginStepUp(ctx, in.ID, in.Body, who(ctx))
			if err != nil {
				return nil, problem(err)
			}
			return out(s.changeView(ctx, id))
		})
	huma.Register(api, huma.Operation{OperationID: "stop-step-up", Method: http.MethodPost, Path: "/changes/{id}/step-up/stop", Summary: "Ends a change's step-up with what is proven", Description: "The run that is under way for it is stopped.", Tags: tags, DefaultStatus: http.StatusAccepted},
		func(ctx context.Context, in *ByID) (*output[ChangeView], error) {
			if err := s.Changes.StopStepUp(ctx, in.ID); err != nil {
				return nil, problem(err)
			}
			return out(s.changeView(ctx, in.ID))
		})
}

// stepUpView is the step-up on a change, nil when there is none.
func (s *Server) stepUpView(ctx context.Context, change int64, cat settings.Catalogue) (*StepUpView, error) {
	row, err := s.Store.StepUpOf(ctx, change)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	c := row.StepUp.V
	v := &StepUpView{ID: row.ID, Phase: c.Phase, Level: c.Level, Run: c.Run, Waits: row.Waits, Looks: c.Looks(), MostLooks: row.MostLooks, Window: row.Opens.V, Stopping: row.StopAsked && row.OverAt == nil,
		Steps: []StepUpStep{}, Summary: c.Summary, Who: row.Who, BeganAt: row.CreatedAt, OverAt: row.OverAt}
	if c.Search != 0 {
		v.Run = c.Search
	}
	for _, b := range settings.Bundles {
		v.Bundles = append(v.Bundles, b.Name)
	}
	for _, step := range c.Steps {
		titles := map[string]string{}
		name := func(key string) {
			if d, known := cat.Find(key); known {
				titles[key] = d.Title
			}
		}
		for _, key := range step.Adds {
			name(key)
		}
		for _, x := range step.Dropped {
			name(x.Key)
		}
		for _, x := range step.Excluded {
			name(x.Key)
			name(x.For)
		}
		v.Steps = append(v.Steps, StepUpStep{step, titles})
	}
	return v, nil
}
