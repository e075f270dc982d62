package api

import (
	"context"
	"maps"
	"net/http"
	"slices"
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
	Usual    *int              `json:"usual,omitempty" doc:"Of a tidy: how many records are usual by now, since the last time; none while that is not known yet."`
	Backup   *BackupWanted     `json:"backup,omitempty" doc:"Of a tidy that is due: where a backup is to be made, and recorded, before it is carried out."`
	Said     string            `json:"said" doc:"What it waits for, or what came of the last reading; empty when there is nothing to say."`
	MadeBy   string            `json:"madeBy"`
}

func (s *Server) scheduleOperations(api huma.API) {
	tags := []string{"schedules"}
	huma.Register(api, huma.Operation{OperationID: "list-schedules", Method: http.MethodGet, Path: "/sites/{id}/schedules", Summary: "What is scheduled on a site", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[[]ScheduleView], error) {
			return out(s.scheduleViews(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "add-schedule", Method: http.MethodPost, Path: "/sites/{id}/schedules", Summary: "Schedules a check of production, a reading of all environments, or a tidy",
		Description: "What was missed is caught up once. Its first time is the first after now. A tidy is an approver's decision: each time its records are counted, a backup of production of the last day is waited for, and when far more or fewer would go than usual it is paused.", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body schedule.Schedule
		}) (*output[ScheduleView], error) {
			if _, err := s.Store.Site(ctx, in.ID); err != nil {
				return nil, problem(err)
			}
			id, err := s.Scheduled.Add(ctx, in.ID, in.Body, by(ctx))
			if err != nil {
				return nil, problem(err)
			}
			return out(s.scheduleByID(ctx, id))
		})
	huma.Register(api, huma.Operation{OperationID: "list-tidies", Method: http.MethodGet, Path: "/sites/{id}/tidies", Summary: "What deleted data on production once, and can be carried out again",
		Description: "Changes that only delete data and were found clear on production.", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[[]TidyView], error) {
			return out(s.tidyViews(ctx, in.ID))
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
			if err := s.Scheduled.Edit(ctx, in.ID, in.Body.Version, in.Body.Schedule, in.Body.Paused, by(ctx)); err != nil {
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
		return v, nil
	}
	if next, ok := l.Next(row.LastDue, s.Scheduled.Now()); ok && !row.Paused {
		v.Next = &next
	}
	if row.Schedule.V.What == schedule.Tidy {
		if err := s.ofTidy(ctx, &v, l, row); err != nil {
			return v, err
		}
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

// BackupWanted is an environment of which a backup is waited for.
type BackupWanted struct {
	Environment int64  `json:"environment"`
	Name        string `json:"name"`
}

// ofTidy adds what is usual, and the backup that it waits for.
func (s *Server) ofTidy(ctx context.Context, v *ScheduleView, l schedule.Line, row store.Schedule) error {
	past, err := s.Store.Carried(ctx, row.ID, row.EditedAt)
	if err != nil {
		return err
	}
	now := s.Scheduled.Now()
	if n, known := schedule.Usual(past, now); known {
		v.Usual = &n
	}
	if _, due := l.Due(row.LastDue, now); !due || row.Paused {
		return nil
	}
	envs, err := s.Store.EnvironmentsByRole(ctx, row.SiteID)
	if err != nil {
		return err
	}
	backed, err := s.Store.BackedUp(ctx, envs.Production.ID)
	if err == nil && !backed {
		v.Backup = &BackupWanted{envs.Production.ID, envs.Production.Name}
	}
	return err
}

// TidyView is a change that deleted data on production and may recur.
type TidyView struct {
	Change  int64       `json:"change"`
	Title   string      `json:"title"`
	Counted []TidyCount `json:"counted" doc:"What it would delete now; empty when that is not known."`
	Why     string      `json:"why" doc:"Why it cannot recur; empty when it can."`
}

// TidyCount is how many records a setting deletes.
type TidyCount struct {
	Key     string `json:"key"`
	Title   string `json:"title"`
	Records int    `json:"records"`
}

func (s *Server) tidyViews(ctx context.Context, site int64) ([]TidyView, error) {
	if _, err := s.Store.Site(ctx, site); err != nil {
		return nil, err
	}
	all, err := s.Scheduled.Tidies(ctx, site)
	views := []TidyView{}
	for _, t := range all {
		v := TidyView{Change: t.Change.ID, Title: t.Change.Title, Counted: []TidyCount{}, Why: t.Why}
		for _, k := range slices.Sorted(maps.Keys(t.Counts)) {
			v.Counted = append(v.Counted, TidyCount{k, t.Titles[k], t.Counts[k]})
		}
		views = append(views, v)
	}
	return views, err
}
