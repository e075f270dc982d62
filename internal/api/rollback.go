package api

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/settings"
)

// RollBackPlan is what rolling a change back comes to.
type RollBackPlan struct {
	Backs     []BackView          `json:"backs" doc:"Where each environment is rolled back to, production first."`
	OnTop     []changes.ChangeRef `json:"onTop" doc:"Changes that were promoted on top of it and would go with it, the latest last."`
	Other     bool                `json:"other" doc:"Something that belongs to no change is on top, too."`
	TakesOut  []DifferenceView    `json:"takesOut" doc:"What a change that takes just this one's edits out would set."`
	Conflicts []ConflictView      `json:"conflicts" doc:"Settings that were set again since; a person decides each."`
}

// BackView is where an environment goes back to.
type BackView struct {
	Environment string           `json:"environment"`
	To          string           `json:"to" doc:"Fingerprint of what was in force before the change came."`
	Mark        int64            `json:"mark" doc:"The mark that it is compared with."`
	MarkedAt    time.Time        `json:"markedAt"`
	Exact       bool             `json:"exact" doc:"That mark is of exactly these settings."`
	Differences []DifferenceView `json:"differences" doc:"From what it has now."`
}

// ConflictView is a setting that a later change set again.
type ConflictView struct {
	Key    string `json:"key"`
	Title  string `json:"title"`
	Before string `json:"before" doc:"Before the change."`
	After  string `json:"after" doc:"As the change set it."`
	Now    string `json:"now" doc:"As it was set since."`
}

func (s *Server) rollbackOperations(api huma.API) {
	tags := []string{"changes"}
	huma.Register(api, huma.Operation{OperationID: "plan-roll-back", Method: http.MethodGet, Path: "/changes/{id}/rollback", Summary: "Where rolling it back goes, and what would go with it", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[RollBackPlan], error) {
			return out(s.rollBackPlan(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "roll-back-change", Method: http.MethodPost, Path: "/changes/{id}/rollback", Summary: "Puts the environments back to what they had before it, and proves it",
		Description: "A maintainer puts production back to what it had before the latest promotion; anything further takes an approver. 409 with the reason when it is not allowed now: so, while other changes were promoted on top of it and nobody said that they go with it.", Tags: tags, DefaultStatus: http.StatusAccepted},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				All bool `json:"all,omitempty" doc:"The changes that were promoted on top of it go with it."`
			}
		}) (*output[ChangeView], error) {
			if err := s.mayRollBack(ctx, in.ID); err != nil {
				return nil, problem(err)
			}
			if err := s.Changes.RollBack(ctx, in.ID, in.Body.All, who(ctx)); err != nil {
				return nil, problem(err)
			}
			return out(s.changeView(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "take-out-change", Method: http.MethodPost, Path: "/changes/{id}/take-out", Summary: "Starts a change that takes just this one's edits out and leaves what was promoted on top",
		Description: "422 with the settings that were set again since and are not decided.", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Restore map[string]bool `json:"restore,omitempty" doc:"For each setting that was set again since: whether it goes back to what it was before the change."`
			}
		}) (*output[ChangeView], error) {
			id, err := s.Changes.TakeOut(ctx, in.ID, in.Body.Restore, who(ctx))
			if err != nil {
				return nil, undecided(err)
			}
			return out(s.changeView(ctx, id))
		})
}

// undecided names the settings that a person has to decide about.
func undecided(err error) error {
	open, ok := errors.AsType[*changes.Undecided](err)
	if !ok {
		return problem(err)
	}
	var details []error
	for _, c := range open.Conflicts {
		details = append(details, &huma.ErrorDetail{Location: "body.restore." + c.Key, Message: "Was " + settings.Shown(c.Before) + " before the change, and is " + settings.Shown(c.Now) + " now."})
	}
	return huma.Error422UnprocessableEntity(open.Error()+".", details...)
}

func (s *Server) rollBackPlan(ctx context.Context, id int64) (RollBackPlan, error) {
	v := RollBackPlan{Backs: []BackView{}, OnTop: []changes.ChangeRef{}, TakesOut: []DifferenceView{}, Conflicts: []ConflictView{}}
	c, err := s.Store.Change(ctx, id)
	if err != nil {
		return v, err
	}
	p, err := s.Changes.PlanRollBack(ctx, id)
	if err != nil {
		return v, err
	}
	v.Other = p.Other
	cat := settings.Catalogue{}
	for _, b := range p.Backs {
		if b.Environment.Catalogue.V != nil {
			cat = *b.Environment.Catalogue.V
		}
		now, err := s.Store.Revision(ctx, c.SiteID, b.Environment.Fingerprint)
		if err != nil {
			return v, err
		}
		then, err := s.Store.Revision(ctx, c.SiteID, b.Way.To)
		if err != nil {
			return v, err
		}
		v.Backs = append(v.Backs, BackView{b.Environment.Name, b.Way.To, b.Mark.ID, b.Mark.TakenAt, b.Exact, differenceViews(cat, now, then)})
	}
	for _, o := range p.OnTop {
		v.OnTop = append(v.OnTop, changes.ChangeRef{ID: o.ID, Title: o.Title, State: string(o.State)})
	}
	if len(p.OnTop) > 0 {
		now, err := s.Store.Revision(ctx, c.SiteID, p.Backs[0].Environment.Fingerprint)
		if err != nil {
			return v, err
		}
		v.TakesOut = differenceViews(cat, now, now.With(p.Edits))
	}
	for _, x := range p.Conflicts {
		def, _ := cat.Find(x.Key)
		v.Conflicts = append(v.Conflicts, ConflictView{x.Key, def.Title, def.Shown(x.Before), def.Shown(x.After), def.Shown(x.Now)})
	}
	return v, nil
}
