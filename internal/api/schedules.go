package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/schedule"
	"tidemarker/internal/store"
)

// ScheduleView is what is done on a site again and again by itself.
type ScheduleView struct {
	ID       int64             `json:"id"`
	Site     int64             `json:"site"`
	Version  int               `json:"version" doc:"Give it back when editing."`
	Schedule schedule.Schedule `json:"schedule"`
	Paused   bool              `json:"paused"`
	Next     *time.Time        `json:"next,omitempty" doc:"When it comes next; none while it is paused, or when it is over."`
	LastRun  *RunSummary       `json:"lastRun,omitempty"`
	Said     string            `json:"said" doc:"What it waits for, or what came of the last reading; empty when there is nothing to say."`
	MadeBy   string            `json:"madeBy"`
}

func (s *Server) scheduleOperations(api huma.API) {
	tags := []string{"schedules"}
	huma.Register(api, huma.Operation{OperationID: "list-schedules", Method: http.MethodGet, Path: "/sites/{id}/schedules", Summary: "What is done on a site again and again by itself", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[[]ScheduleView], error) {
			return out(s.scheduleViews(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "add-schedule", Method: http.MethodPost, Path: "/sites/{id}/schedules", Summary: "Has production checked, or all environments read, again and again",
		Description: "What was missed is caught up once. Its first time is the first after now.", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body schedule.Schedule
		}) (*output[ScheduleView], error) {
			if _, err := s.Store.Site(ctx, in.ID); err != nil {
				return nil, problem(err)
			}
			id, err := s.Scheduled.Add(ctx, in.ID, in.Body, who(ctx))
			if err != nil {
				return nil, problem(err)
			}
			return out(s.scheduleByID(ctx, id))
		})
	huma.Register(api, huma.Operation{OperationID: "edit-schedule", Method: http.MethodPut, Path: "/schedules/{id}", Summary: "Edits a schedule, or pauses it", Description: "409 when somebody else edited it since the version given.", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Version  int               `json:"version"`
				Schedule schedule.Schedule `json:"schedule"`
				Paused   bool              `json:"paused,omitempty"`
			}
		}) (*output[ScheduleView], error) {
			if err := s.Scheduled.Edit(ctx, in.ID, in.Body.Version, in.Body.Schedule, in.Body.Paused, who(ctx)); err != nil {
				return nil, problem(err)
			}
			return out(s.scheduleByID(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "remove-schedule", Method: http.MethodDelete, Path: "/schedules/{id}", Summary: "Ends a schedule", Tags: tags, DefaultStatus: http.StatusNoContent},
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			return nil, problem(s.Scheduled.Remove(ctx, in.ID, who(ctx)))
		})
}

func (s *Server) scheduleByID(ctx context.Context, id int64) (ScheduleView, error) {
	row, err := s.Store.Schedule(ctx, id)
	if err != nil {
		return ScheduleView{}, err
	}
	return s.scheduleView(ctx, row)
}

func (s *Server) scheduleViews(ctx context.Context, site int64) ([]ScheduleView, error) {
	if _, err := s.Store.Site(ctx, site); err != nil {
		return nil, err
	}
	rows, err := s.Store.Schedules(ctx, site)
	views := []ScheduleView{}
	for _, r := range rows {
		v, err := s.scheduleView(ctx, r)
		if err != nil {
			return views, err
		}
		views = append(views, v)
	}
	return views, err
}

func (s *Server) scheduleView(ctx context.Context, row store.Schedule) (ScheduleView, error) {
	v := ScheduleView{ID: row.ID, Site: row.SiteID, Version: row.Version, Schedule: row.Schedule.V, Paused: row.Paused, Said: row.Said, MadeBy: row.MadeBy}
	l, err := schedule.Read(row.Schedule.V, time.LoadLocation)
	if err != nil {
		v.Said = "It cannot be followed: " + err.Error() + "."
	} else if next, ok := l.Next(row.LastDue, s.Scheduled.Now()); ok && !row.Paused {
		v.Next = &next
	}
	if row.LastRun == nil {
		return v, nil
	}
	r, err := s.Store.Run(ctx, *row.LastRun)
	if err != nil {
		return v, err
	}
	env, err := s.Store.Environment(ctx, r.EnvironmentID)
	summary := runSummary(r, env.Name)
	v.LastRun = &summary
	return v, err
}
