package web

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
	"tidemarker/internal/work"
)

// ChangeView is a change with everything that is needed to decide about it.
type ChangeView struct {
	ID            int64                  `json:"id"`
	Site          int64                  `json:"site"`
	SiteName      string                 `json:"siteName"`
	Title         string                 `json:"title"`
	Reason        string                 `json:"reason"`
	Effect        string                 `json:"effect" doc:"What is expected to get better."`
	State         string                 `json:"state"`
	Explanation   string                 `json:"explanation"`
	Version       int                    `json:"version" doc:"Give it back when editing."`
	Base          string                 `json:"base" doc:"Production's fingerprint it was begun from."`
	Fingerprint   string                 `json:"fingerprint" doc:"Of the full set of values it would put in force."`
	Catalogue     settings.Catalogue     `json:"catalogue"`
	BaseValues    settings.Values        `json:"baseValues"`
	Edits         settings.Values        `json:"edits"`
	Differences   []DifferenceView       `json:"differences"`
	Consequences  []settings.Consequence `json:"consequences"`
	Refusals      []settings.Refusal     `json:"refusals"`
	Choices       []release.Choice       `json:"choices"`
	Lacking       map[string]string      `json:"lacking" doc:"Settings that the host cannot carry: why, and what would do instead; by key."`
	Series        []settings.Part        `json:"series" doc:"How a change that piles up risk could be split; empty when it does not."`
	Bundle        string                 `json:"bundle" doc:"The shipped bundle that it amounts to; empty when it is none."`
	StepDown      string                 `json:"stepDown" doc:"The bundle one step more cautious; empty when there is none."`
	Follows       *ChangeRef             `json:"follows" doc:"The change before it in a series."`
	EditedBy      string                 `json:"editedBy" doc:"Who edited it last; empty when only its maker did."`
	Exclusions    []ExclusionView        `json:"exclusions"`
	Runs          []RunSummary           `json:"runs"`
	StagingID     int64                  `json:"stagingId"`
	ProductionID  int64                  `json:"productionId"`
	Staging       string                 `json:"staging" doc:"Name of the environment it is tried on."`
	Production    string                 `json:"production"`
	StagingMark   *MarkView              `json:"stagingMark" doc:"Where staging goes back to."`
	ProductionAt  string                 `json:"productionAt" doc:"Production's fingerprint now."`
	StagingAt     string                 `json:"stagingAt"`
	CreatedBy     string                 `json:"createdBy"`
	CreatedAt     time.Time              `json:"createdAt"`
	UpdatedAt     time.Time              `json:"updatedAt"`
	ProductionURL string                 `json:"productionUrl"`
	StagingURL    string                 `json:"stagingUrl"`
}

// ChangeRef names a change.
type ChangeRef struct {
	ID    int64  `json:"id"`
	Title string `json:"title"`
	State string `json:"state"`
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

// ChangeWords is what a person says about a change.
type ChangeWords struct {
	Title  string `json:"title" minLength:"1" maxLength:"200"`
	Reason string `json:"reason" maxLength:"4000"`
	Effect string `json:"effect" maxLength:"4000"`
}

func (s *Server) changeOperations(api huma.API) {
	tags := []string{"changes"}
	huma.Register(api, huma.Operation{OperationID: "begin-change", Method: http.MethodPost, Path: "/sites/{id}/changes", Summary: "Begins a change from what is on production", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body ChangeWords
		}) (*output[ChangeView], error) {
			return out(s.beginChange(ctx, in.ID, in.Body))
		})
	huma.Register(api, huma.Operation{OperationID: "get-change", Method: http.MethodGet, Path: "/changes/{id}", Summary: "A change, what follows from it and what may be done", Tags: tags},
		func(ctx context.Context, in *ByID) (*output[ChangeView], error) {
			return out(s.changeView(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "edit-change", Method: http.MethodPut, Path: "/changes/{id}", Summary: "Edits a change", Description: "409 when somebody else edited it since the version given.", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				ChangeWords
				Version int             `json:"version"`
				Edits   settings.Values `json:"edits"`
			}
		}) (*output[ChangeView], error) {
			return out(s.editChange(ctx, in.ID, in.Body.Version, in.Body.ChangeWords, in.Body.Edits))
		})
	for _, act := range []struct {
		id, path, summary string
		do                func(context.Context, release.Situation, store.Change) error
	}{
		{"try-change", "try", "Tries it on staging: apply, purge, warm, check", s.tryChange},
		{"promote-change", "promote", "Puts on production exactly what was checked, and checks it there", s.promoteChange},
		{"tidy-change", "tidy", "Carries out on production, by itself, what deletes data and was checked", s.tidyChange},
		{"roll-back-change", "rollback", "Puts the environments back to their marks, and proves it", s.rollBackChange},
		{"rebase-change", "rebase", "Begins it again from what production has now, with the same edits", s.rebaseChange},
		{"split-change", "split", "Splits it into an ordered series of changes, the least risky first", s.splitChange},
		{"discard-change", "discard", "Discards it", s.discardChange},
		{"accept-change", "accept", "Accepts production as it is although its check left something to judge", s.acceptChange},
	} {
		huma.Register(api, huma.Operation{OperationID: act.id, Method: http.MethodPost, Path: "/changes/{id}/" + act.path, Summary: act.summary,
			Description: "409 with the reason when it is not allowed now.", Tags: tags, DefaultStatus: http.StatusAccepted},
			func(ctx context.Context, in *ByID) (*output[ChangeView], error) {
				situation, c, err := work.SituationOf(ctx, s.Store, in.ID)
				if err != nil {
					return nil, problem(err)
				}
				if err := act.do(ctx, situation, c); err != nil {
					return nil, problem(err)
				}
				return out(s.changeView(ctx, in.ID))
			})
	}
	huma.Register(api, huma.Operation{OperationID: "exclude", Method: http.MethodPost, Path: "/changes/{id}/exclusions", Summary: "Excludes something: adds a pattern to a setting of the change, with the reason", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Key     string `json:"key" doc:"A setting of type patterns."`
				Pattern string `json:"pattern" minLength:"1" maxLength:"500"`
				Reason  string `json:"reason" minLength:"1" maxLength:"2000"`
				Finding *int64 `json:"finding,omitempty" doc:"The finding that led to it."`
			}
		}) (*output[ChangeView], error) {
			return out(s.exclude(ctx, in.ID, store.Exclusion{Key: in.Body.Key, Pattern: in.Body.Pattern, Reason: in.Body.Reason, FindingID: in.Body.Finding}))
		})
}

func (s *Server) ends(ctx context.Context, siteID int64) (staging, production store.Environment, err error) {
	envs, err := s.Store.Environments(ctx, siteID)
	if err != nil {
		return staging, production, err
	}
	if len(envs) == 0 {
		return staging, production, errors.New("the site has no environment")
	}
	return envs[0], envs[len(envs)-1], nil
}

func (s *Server) beginChange(ctx context.Context, siteID int64, w ChangeWords) (ChangeView, error) {
	if _, err := s.Store.Site(ctx, siteID); err != nil {
		return ChangeView{}, err
	}
	staging, production, err := s.ends(ctx, siteID)
	if err != nil {
		return ChangeView{}, err
	}
	for _, e := range []store.Environment{staging, production} {
		_, _, err := s.Runner.Read(ctx, e.ID)
		if _, busy := errors.AsType[*work.Busy](err); busy && e.Fingerprint != "" {
			continue // whoever acts on it has read it
		}
		if err != nil {
			return ChangeView{}, err
		}
	}
	if production, err = s.Store.Environment(ctx, production.ID); err != nil {
		return ChangeView{}, err
	}
	id, err := s.Store.NewChange(ctx, store.Change{SiteID: siteID, Title: w.Title, Reason: w.Reason, Effect: w.Effect,
		Base: production.Fingerprint, Edits: store.JSON[settings.Values]{V: settings.Values{}}, CreatedBy: who(ctx)})
	if err != nil {
		return ChangeView{}, err
	}
	if err := s.Store.Record(ctx, store.Event{SiteID: siteID, ChangeID: &id, Kind: "change", Who: who(ctx), Text: "Began the change “" + w.Title + "”."}); err != nil {
		return ChangeView{}, err
	}
	return s.changeView(ctx, id)
}

func (s *Server) changeView(ctx context.Context, id int64) (ChangeView, error) {
	situation, c, err := work.SituationOf(ctx, s.Store, id)
	if err != nil {
		return ChangeView{}, err
	}
	row, err := s.Store.Site(ctx, c.SiteID)
	if err != nil {
		return ChangeView{}, err
	}
	staging, production, err := s.ends(ctx, c.SiteID)
	if err != nil {
		return ChangeView{}, err
	}
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
	v.Choices = permitted(v.Choices, callerOf(ctx).role)
	target := base.With(c.Edits.V)
	if cat := production.Catalogue.V; cat != nil {
		v.Catalogue = *cat
		v.describe(base, target, production)
	}
	if c.Follows != nil {
		before, err := s.Store.Change(ctx, *c.Follows)
		if err != nil {
			return v, err
		}
		v.Follows = &ChangeRef{before.ID, before.Title, string(before.State)}
	}
	ex, err := s.Store.Exclusions(ctx, id)
	if err != nil {
		return v, err
	}
	v.Exclusions = exclusionViews(ex)
	runs, err := s.Store.ChangeRuns(ctx, id)
	if err != nil {
		return v, err
	}
	names := map[int64]string{staging.ID: staging.Name, production.ID: production.Name}
	for _, r := range runs {
		v.Runs = append(v.Runs, runSummary(r, names[r.EnvironmentID]))
	}
	if m, err := s.Store.LatestMark(ctx, staging.ID); err == nil {
		v.StagingMark = &MarkView{ID: m.ID, Fingerprint: m.Fingerprint, Run: m.RunID, Reason: m.Reason, Who: m.Who, TakenAt: m.TakenAt}
	} else if !errors.Is(err, store.ErrNotFound) {
		return v, err
	}
	return v, nil
}

// operationOf is the operation that carries an event out.
var operationOf = map[release.Event]string{release.Edit: "edit-change", release.Try: "try-change", release.Promote: "promote-change", release.Tidy: "tidy-change",
	release.Accept: "accept-change", release.RollBack: "roll-back-change", release.Rebase: "rebase-change", release.Discard: "discard-change"}

// permitted says of each choice that the role lacks the ability for who has it.
func permitted(choices []release.Choice, role people.Role) []release.Choice {
	out := []release.Choice{}
	for _, c := range choices {
		if ability := needs[operationOf[c.Event]]; c.Allowed && !role.May(ability) {
			c.Allowed, c.Why = false, (&people.Forbidden{Ability: ability, Role: role}).Error()
		}
		out = append(out, c)
	}
	return out
}

func byRisk(views []DifferenceView) []DifferenceView {
	slices.SortStableFunc(views, func(a, b DifferenceView) int { return b.Risk - a.Risk })
	return views
}

// describe says what differs and what follows from it.
func (v *ChangeView) describe(base, target settings.Values, production store.Environment) {
	cat := v.Catalogue
	v.Differences = differenceViews(cat, base, target)
	host := settings.Host{}
	if production.About.V != nil {
		host = production.About.V.Facts.Host()
	}
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

func (s *Server) editChange(ctx context.Context, id int64, version int, w ChangeWords, edits settings.Values) (ChangeView, error) {
	situation, c, err := work.SituationOf(ctx, s.Store, id)
	if err != nil {
		return ChangeView{}, err
	}
	to, err := release.Apply(situation, release.Edit)
	if err != nil {
		return ChangeView{}, conflict(err)
	}
	_, production, err := s.ends(ctx, c.SiteID)
	if err != nil {
		return ChangeView{}, err
	}
	base, err := s.Store.Revision(ctx, c.SiteID, c.Base)
	if err != nil {
		return ChangeView{}, err
	}
	if cat := production.Catalogue.V; cat != nil {
		if refused, ok := errors.AsType[settings.Refusals](cat.Validate(base.With(edits))); ok {
			return ChangeView{}, refusalsOf(refused)
		}
	}
	c.Title, c.Reason, c.Effect, c.State, c.Edits.V, c.EditedBy = w.Title, w.Reason, w.Effect, to, settings.Edited(base, edits), who(ctx)
	ok, err := s.Store.EditChange(ctx, c, version)
	if err != nil {
		return ChangeView{}, err
	}
	if !ok {
		theirs, err := s.Store.Change(ctx, id)
		if err != nil {
			return ChangeView{}, err
		}
		return ChangeView{}, huma.Error409Conflict(fmt.Sprintf("%s edited this change since you opened it. Nothing was saved; load it again to see both.", theirs.EditedBy),
			&huma.ErrorDetail{Location: "body.version", Message: "It is another by now.", Value: theirs.Version})
	}
	if err := s.Store.Tell(ctx, store.Notice{Site: c.SiteID, Change: id}); err != nil {
		return ChangeView{}, err
	}
	return s.changeView(ctx, id)
}

func refusalsOf(r settings.Refusals) error {
	var details []error
	for _, e := range r {
		details = append(details, &huma.ErrorDetail{Message: e.Why, Location: "body.edits." + e.Key})
	}
	return huma.Error422UnprocessableEntity("Nothing was saved: "+r.Error(), details...)
}

// conflict makes an error of the rules a 409.
func conflict(err error) error {
	if no, ok := errors.AsType[*release.NotAllowed](err); ok {
		return huma.Error409Conflict(no.Why)
	}
	return huma.Error409Conflict(strings.ToUpper(err.Error()[:1]) + err.Error()[1:] + ".")
}

func (s *Server) exclude(ctx context.Context, id int64, e store.Exclusion) (ChangeView, error) {
	_, c, err := work.SituationOf(ctx, s.Store, id)
	if err != nil {
		return ChangeView{}, err
	}
	_, production, err := s.ends(ctx, c.SiteID)
	if err != nil {
		return ChangeView{}, err
	}
	if production.Catalogue.V == nil {
		return ChangeView{}, huma.Error409Conflict("The site's settings have not been read yet.")
	}
	def, known := production.Catalogue.V.Find(e.Key)
	if !known || def.Type != settings.Patterns {
		return ChangeView{}, huma.Error422UnprocessableEntity(fmt.Sprintf("%q is not a setting that takes patterns on this site.", e.Key))
	}
	base, err := s.Store.Revision(ctx, c.SiteID, c.Base)
	if err != nil {
		return ChangeView{}, err
	}
	list := base.With(c.Edits.V).Strings(e.Key)
	if !slices.Contains(list, e.Pattern) {
		list = append(list, e.Pattern)
	}
	edits := c.Edits.V.With(settings.Values{e.Key: list})
	if _, err := s.editChange(ctx, id, c.Version, ChangeWords{c.Title, c.Reason, c.Effect}, edits); err != nil {
		return ChangeView{}, err
	}
	e.SiteID, e.ChangeID, e.Role, e.Who = c.SiteID, &id, def.Role, who(ctx)
	if _, err := s.Store.AddExclusion(ctx, e); err != nil {
		return ChangeView{}, err
	}
	if err := s.Store.Record(ctx, store.Event{SiteID: c.SiteID, ChangeID: &id, Kind: "exclusion", Who: who(ctx),
		Text: fmt.Sprintf("Excluded by “%s”: %s. %s", def.Title, e.Pattern, e.Reason)}); err != nil {
		return ChangeView{}, err
	}
	return s.changeView(ctx, id)
}
