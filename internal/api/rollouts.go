package api

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/release"
	"tidemarker/internal/core/rollout"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/rollouts"
	"tidemarker/internal/store"
)

// RolloutOffer is what a change would be on another site.
type RolloutOffer struct {
	Site   int64        `json:"site"`
	Name   string       `json:"name"`
	Labels []string     `json:"labels"`
	Fit    settings.Fit `json:"fit"`
	Why    string       `json:"why" doc:"Why it cannot be copied there; empty when it can."`
	In     int64        `json:"in,omitempty" doc:"A rollout that is not over, in which the site is."`
}

// RolloutRef names a rollout.
type RolloutRef struct {
	ID     int64         `json:"id"`
	Site   int64         `json:"site" doc:"On which the change settled."`
	Name   string        `json:"name" doc:"Of that site."`
	Change int64         `json:"change"`
	Title  string        `json:"title"`
	State  rollout.State `json:"state" enum:"open,going,stopped,ended"`
	Why    string        `json:"why" doc:"Why it stopped or ended; empty otherwise."`
	Sites  int           `json:"sites" doc:"How many sites it goes to."`
	MadeBy string        `json:"madeBy"`
	MadeAt time.Time     `json:"madeAt"`
}

// RolloutView is a change that goes from one site to others.
type RolloutView struct {
	RolloutRef
	Pace     rollout.Pace      `json:"pace" enum:"check,watch"`
	Measures bool              `json:"measures"`
	Reason   string            `json:"reason"`
	Wave     int               `json:"wave" doc:"That is promoted now, or next; 0 when all are through."`
	MayGo    bool              `json:"mayGo" doc:"Waves may be released."`
	WhyNot   string            `json:"whyNot" doc:"Why waves may not be released; empty when they may."`
	GoneBy   string            `json:"goneBy" doc:"Who let the waves go, last; empty when nobody did."`
	GoneAt   *time.Time        `json:"goneAt,omitempty"`
	Members  []RolloutSiteView `json:"members" doc:"By wave."`
}

// RolloutSiteView is a site of a rollout.
type RolloutSiteView struct {
	Site       int64            `json:"site"`
	Name       string           `json:"name"`
	Wave       int              `json:"wave"`
	Stage      rollout.Stage    `json:"stage" enum:"waiting,trying,not clear,tried,promoting,broken,there,settled,skipped,discarded,has it all"`
	Said       string           `json:"said" doc:"What it waits for; empty when for nothing."`
	Skipped    string           `json:"skipped" doc:"Why somebody skipped it; empty when nobody did."`
	Change     *ChangeOfRollout `json:"change,omitempty" doc:"The change started there."`
	Without    []settings.Unmet `json:"without" doc:"What was not copied, and why."`
	Staging    *RunSummary      `json:"staging,omitempty" doc:"The latest try there that is over."`
	Production *RunSummary      `json:"production,omitempty" doc:"The latest promotion there."`
	Measured   *RunSummary      `json:"measured,omitempty" doc:"What the change does to speed there, on staging."`
}

// ChangeOfRollout is a change that a rollout began.
type ChangeOfRollout struct {
	ID    int64         `json:"id"`
	State release.State `json:"state" enum:"drafted,trying,on staging,checked,promoting,promoted,marked,settled,rolling back,restored,rolled back,discarded"`
	Edits int           `json:"edits" doc:"How many settings it changes."`
}

// rolloutOperations registers how changes go to other sites. Long because it is a list: one registration after the other.
func (s *Server) rolloutOperations(api huma.API) {
	tags := []string{"rollouts"}
	huma.Register(api, huma.Operation{OperationID: "offer-change", Method: http.MethodGet, Path: "/changes/{id}/offers", Summary: "What a change would be on each of the other sites",
		Description: "Its edits are mapped by what the settings mean. Of lists of patterns it is what the change added and took away that is copied.", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[[]RolloutOffer], error) {
			all, err := s.Rollouts.Offers(ctx, in.ID)
			views := []RolloutOffer{}
			for _, o := range all {
				if o.Fit.Mapped == nil {
					o.Fit.Mapped, o.Fit.Without = []settings.Mapped{}, []settings.Unmet{}
				}
				views = append(views, RolloutOffer{o.SiteID, o.Name, append([]string{}, o.Labels.V...), o.Fit, o.Why, o.In})
			}
			return out(views, err)
		})
	huma.Register(api, huma.Operation{OperationID: "begin-rollout", Method: http.MethodPost, Path: "/changes/{id}/rollouts", Summary: "Takes a change that settled to other sites: copied, tried on each one's staging, promoted in waves once somebody says so",
		Description: "409 when the change has not settled, or a site cannot take it. Nothing is promoted before let-rollout-go.", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body rollouts.Terms
		}) (*output[RolloutView], error) {
			id, err := s.Rollouts.Begin(ctx, in.ID, in.Body, who(ctx))
			if err != nil {
				return nil, problem(err)
			}
			return out(s.rolloutView(ctx, id))
		})
	huma.Register(api, huma.Operation{OperationID: "list-rollouts", Method: http.MethodGet, Path: "/rollouts", Summary: "Rollouts, the latest first", Tags: tags},
		func(ctx context.Context, in *struct {
			Site   int64 `query:"site" doc:"Of changes of this site; 0 for all."`
			Change int64 `query:"change" doc:"Of this change: those that take it to others, and the one that brought it."`
		}) (*output[[]RolloutRef], error) {
			return out(s.rolloutRefs(ctx, in.Site, in.Change))
		})
	huma.Register(api, huma.Operation{OperationID: "get-rollout", Method: http.MethodGet, Path: "/rollouts/{id}", Summary: "A rollout, site by site", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[RolloutView], error) {
			return out(s.rolloutView(ctx, in.ID))
		})
	answer := func(ctx context.Context, id int64, err error) (*output[RolloutView], error) {
		if err != nil {
			return nil, problem(err)
		}
		return out(s.rolloutView(ctx, id))
	}
	huma.Register(api, huma.Operation{OperationID: "let-rollout-go", Method: http.MethodPost, Path: "/rollouts/{id}/go", Summary: "Lets the waves of a rollout go, for the first time or again after it stopped",
		Description: "Each site is promoted in the caller's name, by the rules that hold there: approvals, calendar, what was checked. A wave is followed by the next when all of it is clear; at the first site that is not it stops.", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[RolloutView], error) {
			return answer(ctx, in.ID, s.Rollouts.Go(ctx, in.ID, by(ctx)))
		})
	huma.Register(api, huma.Operation{OperationID: "stop-rollout", Method: http.MethodPost, Path: "/rollouts/{id}/stop", Summary: "Stops promoting a rollout until somebody releases it again", Description: "What is being promoted is promoted to its end.", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[RolloutView], error) {
			return answer(ctx, in.ID, s.Rollouts.Stop(ctx, in.ID, who(ctx)))
		})
	huma.Register(api, huma.Operation{OperationID: "end-rollout", Method: http.MethodPost, Path: "/rollouts/{id}/end", Summary: "Ends a rollout; changes that it began stay as they are", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[RolloutView], error) {
			return answer(ctx, in.ID, s.Rollouts.End(ctx, in.ID, who(ctx)))
		})
	huma.Register(api, huma.Operation{OperationID: "skip-rollout-site", Method: http.MethodPost, Path: "/rollouts/{id}/sites/{site}/skip", Summary: "Lets a rollout go on without a site, whose change stays as it is", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Site int64 `path:"site"`
			Body reasonBody
		}) (*output[RolloutView], error) {
			return answer(ctx, in.ID, s.Rollouts.Skip(ctx, in.ID, in.Site, in.Body.Reason, who(ctx)))
		})
}

func (s *Server) rolloutRefs(ctx context.Context, site, change int64) ([]RolloutRef, error) {
	var rows []store.Rollout
	var err error
	if change == 0 {
		rows, err = s.Store.Rollouts(ctx, site)
	} else if rows, err = s.Store.RolloutsOf(ctx, change); err == nil {
		brought, none := s.Store.RolloutFor(ctx, change)
		switch {
		case none == nil:
			rows = append(rows, brought)
		case !errors.Is(none, store.ErrNotFound):
			err = none
		}
	}
	views := []RolloutRef{}
	for _, r := range rows {
		members, err := s.Store.RolloutSites(ctx, r.ID)
		if err != nil {
			return views, err
		}
		v, err := s.rolloutRef(ctx, r, len(members))
		if err != nil {
			return views, err
		}
		views = append(views, v)
	}
	return views, err
}

func (s *Server) rolloutRef(ctx context.Context, r store.Rollout, sites int) (RolloutRef, error) {
	row, err := s.Store.Site(ctx, r.SiteID)
	return RolloutRef{ID: r.ID, Site: r.SiteID, Name: row.Name, Change: r.ChangeID, Title: r.Title, State: r.State, Why: r.Why, Sites: sites, MadeBy: r.MadeBy, MadeAt: r.MadeAt}, err
}

func (s *Server) rolloutView(ctx context.Context, id int64) (RolloutView, error) {
	r, plan, sites, err := s.Rollouts.Look(ctx, id)
	if err != nil {
		return RolloutView{}, err
	}
	v := RolloutView{Pace: r.Pace, Measures: r.Measures, Reason: r.Reason, Wave: plan.Wave(), WhyNot: rollout.MayGo(plan), GoneBy: r.GoneBy, GoneAt: r.GoneAt, Members: []RolloutSiteView{}}
	v.MayGo = v.WhyNot == "" && r.State != rollout.Going
	if v.RolloutRef, err = s.rolloutRef(ctx, r, len(sites)); err != nil {
		return v, err
	}
	for _, m := range sites {
		v.Members = append(v.Members, rolloutSite(m))
	}
	return v, nil
}

func rolloutSite(m rollouts.Site) RolloutSiteView {
	v := RolloutSiteView{Site: m.SiteID, Name: m.Name, Wave: m.Wave, Stage: m.Stage, Said: m.Said, Skipped: m.Skipped, Without: m.Without.V}
	if m.ChangeID != nil {
		v.Change = &ChangeOfRollout{m.Change.ID, m.Change.State, len(m.Change.Edits.V)}
	}
	of := func(r *store.Run, env string) *RunSummary {
		if r == nil {
			return nil
		}
		return new(runSummary(*r, env))
	}
	v.Staging, v.Production, v.Measured = of(m.Tried, m.Staging), of(m.Promoted, m.Production), of(m.Measured, m.Staging)
	return v
}
