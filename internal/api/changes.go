package api

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/exclusions"
	"tidemarker/internal/store"
)

// ChangeView is a change with everything that is needed to decide about it.
type ChangeView struct {
	ID            int64                      `json:"id"`
	Site          int64                      `json:"site"`
	SiteName      string                     `json:"siteName"`
	Title         string                     `json:"title"`
	Reason        string                     `json:"reason"`
	Effect        string                     `json:"effect" doc:"What is expected to get better."`
	Expected      *ExpectedView              `json:"expected,omitempty" doc:"The same in figures, and its result."`
	State         string                     `json:"state"`
	Explanation   string                     `json:"explanation"`
	Version       int                        `json:"version" doc:"Give it back when editing."`
	Base          string                     `json:"base" doc:"Production's fingerprint it started from."`
	Fingerprint   string                     `json:"fingerprint" doc:"Of the full set of values it would put in force."`
	Catalogue     settings.Catalogue         `json:"catalogue"`
	BaseValues    settings.Values            `json:"baseValues"`
	Edits         settings.Values            `json:"edits"`
	Differences   []DifferenceView           `json:"differences"`
	Risk          RiskView                   `json:"risk"`
	Consequences  []settings.Consequence     `json:"consequences"`
	Refusals      []settings.Refusal         `json:"refusals"`
	Choices       []release.Choice           `json:"choices"`
	Approval      ApprovalView               `json:"approval"`
	Lacking       map[string]string          `json:"lacking" doc:"Settings that the host cannot support: why, and what would do instead; by key."`
	Series        []settings.Part            `json:"series" doc:"How a change that piles up risk could be split; empty when it does not."`
	Bundle        string                     `json:"bundle" doc:"The shipped bundle that it amounts to; empty when it is none."`
	StepDown      string                     `json:"stepDown" doc:"The bundle one step more cautious; empty when there is none."`
	Follows       *changes.ChangeRef         `json:"follows" doc:"The change before it in a series."`
	EditedBy      string                     `json:"editedBy" doc:"Who edited it last; empty when only its maker did."`
	Exclusions    []exclusions.ExclusionView `json:"exclusions"`
	Watch         *WatchView                 `json:"watch,omitempty" doc:"How its promotion is watched, or was."`
	StepUp        *StepUpView                `json:"stepUp,omitempty" doc:"The step-up through the bundles it comes from."`
	Runs          []RunSummary               `json:"runs"`
	StagingID     int64                      `json:"stagingId"`
	ProductionID  int64                      `json:"productionId"`
	Staging       string                     `json:"staging" doc:"Name of the environment it is tried on."`
	Production    string                     `json:"production"`
	StagingMark   *MarkView                  `json:"stagingMark" doc:"Where staging rolls back to."`
	ProductionAt  string                     `json:"productionAt" doc:"Production's fingerprint now."`
	StagingAt     string                     `json:"stagingAt"`
	CreatedBy     string                     `json:"createdBy"`
	CreatedAt     time.Time                  `json:"createdAt"`
	UpdatedAt     time.Time                  `json:"updatedAt"`
	ProductionURL string                     `json:"productionUrl"`
	StagingURL    string                     `json:"stagingUrl"`
}

// Excluded is one pattern for one setting.
type Excluded struct {
	Key     string `json:"key" doc:"A setting of type patterns."`
	Pattern string `json:"pattern" minLength:"1" maxLength:"500"`
}

// DifferenceView is one setting that would change, and what that can break.
type DifferenceView struct {
	Key      string `json:"key"`
	Title    string `json:"title"`
	Group    string `json:"group"`
	From     any    `json:"from"`
	To       any    `json:"to"`
	FromText string `json:"fromText"`
	ToText   string `json:"toText"`
	Risk     int    `json:"risk" doc:"0 to 3."`
	RiskText string `json:"riskText" doc:"What it can break."`
}

// changeOperations registers what is done to a change. Long because it is a list: one registration after the other.
func (s *Server) changeOperations(api huma.API) {
	tags := []string{"changes"}
	huma.Register(api, huma.Operation{OperationID: "begin-change", Method: http.MethodPost, Path: "/sites/{id}/changes", Summary: "Starts a change from what is on production", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				changes.Words
				Edits settings.Values `json:"edits,omitempty" doc:"Settings that it changes from the start."`
			}
		}) (*output[ChangeView], error) {
			id, err := s.Changes.Begin(ctx, in.ID, in.Body.Words, in.Body.Edits, who(ctx))
			if err != nil {
				return nil, problem(err)
			}
			return out(s.changeView(ctx, id))
		})
	huma.Register(api, huma.Operation{OperationID: "get-change", Method: http.MethodGet, Path: "/changes/{id}", Summary: "A change, its effects and what may be done", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[ChangeView], error) {
			return out(s.changeView(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "describe-change", Method: http.MethodPut, Path: "/changes/{id}/words", Summary: "Sets a change's title, reason and expected effect, in any state", Description: "409 when somebody else edited it since the version given.", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				changes.Words
				Version int `json:"version"`
			}
		}) (*output[ChangeView], error) {
			if err := s.Changes.Describe(ctx, in.ID, in.Body.Version, in.Body.Words, who(ctx)); err != nil {
				return nil, problem(err)
			}
			return out(s.changeView(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "edit-change", Method: http.MethodPut, Path: "/changes/{id}", Summary: "Edits a change", Description: "409 when somebody else edited it since the version given.", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				changes.Words
				Version int             `json:"version"`
				Edits   settings.Values `json:"edits"`
			}
		}) (*output[ChangeView], error) {
			if err := s.Changes.Edit(ctx, in.ID, in.Body.Version, in.Body.Words, in.Body.Edits, who(ctx)); err != nil {
				return nil, problem(err)
			}
			return out(s.changeView(ctx, in.ID))
		})
	for _, act := range []struct {
		id, path, summary string
		do                func(context.Context, int64, string) error
	}{
		{"try-change", "try", "Tries it on staging: apply, purge, warm, check", s.Changes.Try},
		{"rebase-change", "rebase", "Rebases it on what production has now, with the same edits", s.Changes.Rebase},
		{"split-change", "split", "Splits it into an ordered series of changes, the least risky first", s.Changes.Split},
		{"discard-change", "discard", "Discards it", s.Changes.Discard},
		{"accept-change", "accept", "Accepts an environment as it is although its check left something to judge", s.Changes.Accept},
	} {
		huma.Register(api, huma.Operation{OperationID: act.id, Method: http.MethodPost, Path: "/changes/{id}/" + act.path, Summary: act.summary,
			Description: "409 with the reason when it is not allowed now.", Tags: tags, DefaultStatus: http.StatusAccepted},
			func(ctx context.Context, in *ByID) (*output[ChangeView], error) {
				if err := act.do(ctx, in.ID, who(ctx)); err != nil {
					return nil, problem(err)
				}
				return out(s.changeView(ctx, in.ID))
			})
	}
	s.approvalOperations(api)
	s.rollbackOperations(api)
	huma.Register(api, huma.Operation{OperationID: "exclude", Method: http.MethodPost, Path: "/changes/{id}/exclusions", Summary: "Excludes something: adds patterns to settings of the change, all or none, with the reason", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Exclude []Excluded `json:"exclude" minItems:"1" maxItems:"100"`
				Reason  string     `json:"reason" minLength:"1" maxLength:"2000"`
				Finding *int64     `json:"finding,omitempty" doc:"The finding that led to it."`
			}
		}) (*output[ChangeView], error) {
			all := make([]store.Exclusion, len(in.Body.Exclude))
			for i, e := range in.Body.Exclude {
				all[i] = store.Exclusion{Key: e.Key, Pattern: e.Pattern, Reason: in.Body.Reason, FindingID: in.Body.Finding, Who: who(ctx)}
			}
			if err := s.Changes.Exclude(ctx, in.ID, all); err != nil {
				return nil, problem(err)
			}
			return out(s.changeView(ctx, in.ID))
		})
}

func (s *Server) changeView(ctx context.Context, id int64) (ChangeView, error) {
	situation, c, err := s.Changes.Situation(ctx, id)
	if err != nil {
		return ChangeView{}, err
	}
	row, err := s.Store.Site(ctx, c.SiteID)
	if err != nil {
		return ChangeView{}, err
	}
	envs, err := s.Store.EnvironmentsByRole(ctx, c.SiteID)
	if err != nil {
		return ChangeView{}, err
	}
	staging, production := envs.Staging, envs.Production
	base, err := s.Store.Revision(ctx, c.SiteID, c.Base)
	if err != nil {
		return ChangeView{}, err
	}
	v := ChangeView{ID: c.ID, Site: c.SiteID, SiteName: row.Name, Title: c.Title, Reason: c.Reason, Effect: c.Effect, State: string(c.State),
		Explanation: c.Explanation, Version: c.Version, Base: c.Base, Fingerprint: situation.Fingerprint, BaseValues: base, Edits: c.Edits.V,
		Differences: []DifferenceView{}, Consequences: []settings.Consequence{}, Refusals: []settings.Refusal{}, Choices: release.Next(situation),
		StagingID: staging.ID, ProductionID: production.ID, Staging: staging.Name, Production: production.Name, StagingAt: staging.Fingerprint, ProductionAt: production.Fingerprint,
		StagingURL: staging.URL, ProductionURL: production.URL,
		Lacking: map[string]string{}, Series: []settings.Part{}, EditedBy: c.EditedBy,
		CreatedBy: c.CreatedBy, CreatedAt: c.CreatedAt, UpdatedAt: c.UpdatedAt, Runs: []RunSummary{}}
	if v.Choices, err = s.permitted(ctx, c, situation, v.Choices); err != nil {
		return v, err
	}
	if v.Approval, err = s.approvalView(ctx, c, situation); err != nil {
		return v, err
	}
	target := base.With(c.Edits.V)
	if cat := production.Catalogue.V; cat != nil {
		v.Catalogue = *cat
		bundles, err := s.bundles(ctx)
		if err != nil {
			return v, err
		}
		v.describe(base, target, production, bundles)
	}
	err = s.withRecord(ctx, &v, c, situation, map[int64]string{staging.ID: staging.Name, production.ID: production.Name})
	return v, err
}

// withRecord adds to a change what is recorded beside it: what it follows, exclusions, its step-up, its runs and where staging goes back to.
func (s *Server) withRecord(ctx context.Context, v *ChangeView, c store.Change, situation release.Situation, names map[int64]string) error {
	if c.Follows != nil {
		before, err := s.Store.Change(ctx, *c.Follows)
		if err != nil {
			return err
		}
		v.Follows = &changes.ChangeRef{ID: before.ID, Title: before.Title, State: string(before.State)}
	}
	ex, err := s.Store.Exclusions(ctx, c.ID)
	if err != nil {
		return err
	}
	v.Exclusions = exclusions.ViewsOf(ex)
	if v.StepUp, err = s.stepUpView(ctx, c.ID, v.Catalogue); err != nil {
		return err
	}
	runs, err := s.Store.ChangeRuns(ctx, c.ID)
	if err != nil {
		return err
	}
	if v.Expected, err = s.expectedView(ctx, c, situation.Fingerprint, runs); err != nil {
		return err
	}
	for _, r := range runs {
		if r.Kind != release.RecheckRun { // these stand with the watch
			v.Runs = append(v.Runs, runSummary(r, names[r.EnvironmentID]))
		}
	}
	if v.Watch, err = s.watchOf(ctx, c.ID); err != nil {
		return err
	}
	v.StagingMark, err = s.newestMark(ctx, v.StagingID)
	return err
}

// newestMark is an environment's newest mark, nil when it has none.
func (s *Server) newestMark(ctx context.Context, env int64) (*MarkView, error) {
	m, err := s.Store.LatestMark(ctx, env)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	return &MarkView{ID: m.ID, Fingerprint: m.Fingerprint, Run: m.RunID, Reason: m.Reason, Who: m.Who, TakenAt: m.TakenAt}, err
}

// operationOf is the operation that carries an event out.
var operationOf = map[release.Event]string{release.Edit: "edit-change", release.Try: "try-change", release.Promote: "promote-change", release.Tidy: "tidy-change",
	release.Accept: "accept-change", release.RollBack: "roll-back-change", release.RollBackAll: "roll-back-change", release.TakeOut: "take-out-change", release.Rebase: "rebase-change", release.Discard: "discard-change", release.DeclareSettled: "settle-change"}

// permitted says of each choice that the person lacks the ability for who has it.
func (s *Server) permitted(ctx context.Context, c store.Change, situation release.Situation, choices []release.Choice) ([]release.Choice, error) {
	wish, _, err := s.Changes.Wish(ctx, c, by(ctx))
	role, out := callerOf(ctx).role, []release.Choice{}
	for _, c := range choices {
		if ability := needs[operationOf[c.Event]]; c.Allowed && !role.May(ability) {
			c.Allowed, c.Why = false, (&people.Forbidden{Ability: ability, Role: role}).Error()
		}
		if c.Allowed && (c.Event == release.Promote || c.Event == release.Tidy) {
			c.Why = wish.MayPromote(situation)
			c.Allowed = c.Why == ""
		}
		out = append(out, c)
	}
	s.permittedBack(ctx, c.ID, out)
	return out, err
}

func byRisk(views []DifferenceView) []DifferenceView {
	slices.SortStableFunc(views, func(a, b DifferenceView) int { return b.Risk - a.Risk })
	return views
}

// describe says what differs and what follows from it.
func (v *ChangeView) describe(base, target settings.Values, production store.Environment, bundles []BundleView) {
	cat := v.Catalogue
	v.Differences = differenceViews(cat, base, target)
	host := settings.Host{}
	if production.About.V != nil {
		host = production.About.V.Facts.Host()
	}
	v.Risk = riskOf(cat, base, target, host, bundles)
	v.Lacking = cat.Lacking(host)
	v.Bundle, v.StepDown = settings.Level(cat, target, host)
	if cat.Piled(v.Edits) {
		v.Series = cat.Split(v.Edits)
	}
	deletes := cat.Deletes(base, target)
	for _, q := range cat.Consequences(target, host) {
		if q.Kind != settings.Irreversible || slices.Contains(deletes, q.Key) {
			v.Consequences = append(v.Consequences, q)
		}
	}
	if refused, ok := errors.AsType[settings.Refusals](cat.Validate(target)); ok {
		v.Refusals = refused
	}
}
