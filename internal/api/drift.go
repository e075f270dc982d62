package api

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// DriftView is what somebody changed on an environment outside Tide Marker.
type DriftView struct {
	ID          int64            `json:"id"`
	Was         string           `json:"was" doc:"Fingerprint before."`
	Found       string           `json:"found" doc:"Fingerprint now."`
	FoundAt     time.Time        `json:"foundAt"`
	Differences []DifferenceView `json:"differences"`
}

func (s *Server) driftOperations(api huma.API) {
	tags := []string{"environments"}
	huma.Register(api, huma.Operation{OperationID: "accept-drift", Method: http.MethodPost, Path: "/drifts/{id}/accept", Summary: "Says that what was changed outside is meant",
		Description: "On production it takes somebody who may decide what goes there. 409 when it is settled already, or other settings have been found since.", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Found  string `json:"found" doc:"Fingerprint that the person looked at."`
				Reason string `json:"reason" minLength:"1" maxLength:"2000"`
			}
		}) (*output[SiteView], error) {
			return out(s.acceptDrift(ctx, in.ID, in.Body.Found, in.Body.Reason))
		})
	huma.Register(api, huma.Operation{OperationID: "revert-drift", Method: http.MethodPost, Path: "/drifts/{id}/revert", Summary: "Puts the environment back to what it had before, and proves it", Description: "On production it takes an approver, unless that is what it had before the latest promotion.", Tags: tags, DefaultStatus: http.StatusAccepted},
		func(ctx context.Context, in *ByID) (*output[RunSummary], error) {
			return out(s.revertDrift(ctx, in.ID))
		})
}

// driftViews are what is not settled on a site, by environment.
func (s *Server) driftViews(ctx context.Context, siteID int64) (map[int64]*DriftView, error) {
	open, err := s.Store.OpenDrifts(ctx, siteID)
	if err != nil {
		return nil, err
	}
	views := map[int64]*DriftView{}
	for _, d := range open {
		env, err := s.Store.Environment(ctx, d.EnvironmentID)
		if err != nil {
			return nil, err
		}
		was, err := s.Store.Revision(ctx, siteID, d.Was)
		if err != nil {
			return nil, err
		}
		found, err := s.Store.Revision(ctx, siteID, d.Found)
		if err != nil {
			return nil, err
		}
		cat := settings.Catalogue{}
		if env.Catalogue.V != nil {
			cat = *env.Catalogue.V
		}
		views[d.EnvironmentID] = &DriftView{d.ID, d.Was, d.Found, d.FoundAt, differenceViews(cat, was, found)}
	}
	return views, nil
}

// differenceViews are the differences between two revisions in the catalogue's words,
// the most risky first.
func differenceViews(cat settings.Catalogue, was, now settings.Values) []DifferenceView {
	views := []DifferenceView{}
	for _, d := range settings.Diff(was, now) {
		def, known := cat.Find(d.Key)
		if !known {
			def.Title = d.Key
		}
		views = append(views, DifferenceView{d.Key, def.Title, def.Group, d.From, d.To, def.Shown(d.From), def.Shown(d.To), def.Risk, def.Role.Risk()})
	}
	return byRisk(views)
}

// openDrift is a drift that can still be settled, and its environment.
func (s *Server) openDrift(ctx context.Context, id int64) (store.Drift, store.Environment, error) {
	d, err := s.Store.Drift(ctx, id)
	if err != nil {
		return d, store.Environment{}, err
	}
	env, err := s.Store.Environment(ctx, d.EnvironmentID)
	if err == nil && d.State != store.DriftOpen {
		err = huma.Error409Conflict(fmt.Sprintf("This is settled already: %s by %s.", d.State, d.SettledBy))
	}
	return d, env, err
}

func (s *Server) acceptDrift(ctx context.Context, id int64, seen, reason string) (SiteView, error) {
	d, env, err := s.openDrift(ctx, id)
	if err != nil {
		return SiteView{}, err
	}
	if role := callerOf(ctx).role; env.Role == site.Production && !role.May(people.Decide) {
		return SiteView{}, huma.Error403Forbidden((&people.Forbidden{Ability: people.Decide, Role: role}).Error())
	}
	ok, err := s.Store.AcceptDrift(ctx, id, seen, who(ctx), reason)
	if err != nil {
		return SiteView{}, err
	}
	if !ok {
		return SiteView{}, huma.Error409Conflict(env.Name + " has been changed again since you looked. Nothing was accepted; look at what it has now.")
	}
	if err := s.Store.Record(ctx, store.Event{SiteID: d.SiteID, EnvironmentID: &env.ID, Kind: "outside", Who: who(ctx),
		Text: fmt.Sprintf("Accepted what was changed outside on %s: %s", env.Name, reason)}); err != nil {
		return SiteView{}, err
	}
	if err := s.Store.Tell(ctx, store.Signal{Site: d.SiteID}); err != nil {
		return SiteView{}, err
	}
	return s.siteView(ctx, d.SiteID)
}

func (s *Server) revertDrift(ctx context.Context, id int64) (RunSummary, error) {
	d, env, err := s.openDrift(ctx, id)
	if err != nil {
		return RunSummary{}, err
	}
	if err := s.mayRestore(ctx, env, d.Was); err != nil {
		return RunSummary{}, err
	}
	marks, err := s.Store.Marks(ctx, env.ID, 50)
	if err != nil {
		return RunSummary{}, err
	}
	if len(marks) == 0 {
		return RunSummary{}, huma.Error409Conflict(env.Name + " has no mark, so that nothing could prove that it is reverted. Accept what was found, or undo it where it was changed.")
	}
	of := make([]release.MarkOf, len(marks))
	for i, m := range marks {
		of[i] = release.MarkOf{ID: m.ID, Fingerprint: m.Fingerprint}
	}
	mark, _, _ := release.ChooseMark(of, d.Was)
	return s.startRun(ctx, env.ID, release.RollBackRun, d.Was, &mark.ID)
}
