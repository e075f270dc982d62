package api

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/andybalholm/cascadia"
	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/site"
	"tidemarker/internal/run"
	"tidemarker/internal/store"
)

// AcceptBody says that a finding is accepted, with what else and for how long, or that this
// is taken back.
type AcceptBody struct {
	Accepted bool   `json:"accepted"`
	Why      string `json:"why" maxLength:"2000"`
	Reach    string `json:"reach,omitempty" enum:"place,part,cause" doc:"This finding alone, when nothing is said; the same difference on every page, for everybody and on every device; all findings of the run that come of the same cause. Taken back, too, is what was accepted in the same act."`
	Lasts    string `json:"lasts,omitempty" enum:"run,change,day" doc:"For this run, when nothing is said; for all runs of its change; for all runs of the site until a day."`
	Day      string `json:"day,omitempty" format:"date" doc:"The last day, when it lasts until one."`
}

// MaskBody names a part of a page that may differ.
type MaskBody struct {
	Selector   string `json:"selector" minLength:"1" maxLength:"2000"`
	Everywhere bool   `json:"everywhere,omitempty" doc:"On every page of the test plan, not only on the finding's."`
	Why        string `json:"why" minLength:"1" maxLength:"2000"`
}

// DecisionView is a difference that somebody accepted for longer than one run.
type DecisionView struct {
	ID      int64             `json:"id"`
	Of      evidence.Accepted `json:"of"`
	Change  int64             `json:"change,omitempty" doc:"Only in runs of this change."`
	Until   string            `json:"until,omitempty" format:"date" doc:"Its last day."`
	Who     string            `json:"who"`
	Why     string            `json:"why"`
	MadeAt  time.Time         `json:"madeAt"`
	Run     int64             `json:"run,omitempty" doc:"The run that it was decided on."`
	Finding int64             `json:"finding,omitempty"`
	Holds   bool              `json:"holds"`
	EndedBy string            `json:"endedBy,omitempty"`
}

func (s *Server) decisionOperations(api huma.API) {
	findings, sites := []string{"runs"}, []string{"sites"}
	huma.Register(api, huma.Operation{OperationID: "accept-finding", Method: http.MethodPost, Path: "/findings/{id}/accept", Summary: "Accepts a finding as expected, or takes that back",
		Description: "What is accepted for longer than one run is accepted in later ones automatically, while it is the same difference and no worse. Private content shown to others can be accepted for one run only.", Tags: findings},
		func(ctx context.Context, in *struct {
			ByID
			Body AcceptBody
		}) (*output[RunView], error) {
			return out(s.acceptFinding(ctx, in.ID, in.Body))
		})
	huma.Register(api, huma.Operation{OperationID: "mask-finding", Method: http.MethodPost, Path: "/findings/{id}/mask", Summary: "Lets a part of a page differ from now on, and accepts the finding",
		Description: "422 when the selector is none, or would leave out most of the page.", Tags: findings},
		func(ctx context.Context, in *struct {
			ByID
			Body MaskBody
		}) (*output[RunView], error) {
			return out(s.maskFinding(ctx, in.ID, in.Body))
		})
	huma.Register(api, huma.Operation{OperationID: "get-decisions", Method: http.MethodGet, Path: "/sites/{id}/decisions", Summary: "Differences that were accepted for longer than one run, those that hold first", Tags: sites},
		func(ctx context.Context, in *ByID) (*output[[]DecisionView], error) {
			return out(s.decisions(ctx, in.ID))
		})
	huma.Register(api, huma.Operation{OperationID: "end-decision", Method: http.MethodPost, Path: "/decisions/{id}/end", Summary: "Ends a decision: the difference is found again from the next run on", Tags: sites},
		func(ctx context.Context, in *ByID) (*output[[]DecisionView], error) {
			return out(s.endDecision(ctx, in.ID))
		})
}

func (s *Server) acceptFinding(ctx context.Context, id int64, in AcceptBody) (RunView, error) {
	if !in.Accepted {
		runID, err := s.Runner.TakeBack(ctx, id, run.Reach(cmp.Or(in.Reach, string(run.Place))), who(ctx))
		if err != nil {
			return RunView{}, err
		}
		return s.runView(ctx, runID)
	}
	a := run.Acceptance{Reach: run.Reach(cmp.Or(in.Reach, string(run.Place))), Change: in.Lasts == "change", Why: strings.TrimSpace(in.Why), Who: who(ctx)}
	if in.Lasts == "day" {
		day, err := time.Parse(time.DateOnly, in.Day)
		if err != nil {
			return RunView{}, huma.Error422UnprocessableEntity("Say until which day it holds, such as 2026-12-31.")
		}
		a.Until = &day
	}
	runID, err := s.Runner.AcceptFinding(ctx, id, a)
	if err != nil {
		return RunView{}, err
	}
	return s.runView(ctx, runID)
}

// maskFinding adds a mask to the test plan and accepts the finding, with those of the same
// part when the mask is for every page.
func (s *Server) maskFinding(ctx context.Context, id int64, in MaskBody) (RunView, error) {
	e, err := s.evidenceOf(ctx, id)
	if err != nil {
		return RunView{}, err
	}
	doc := e.finding.Document.V
	if e.run.State != release.Done { // else the mask would be made and the finding not accepted
		return RunView{}, huma.Error409Conflict("The run has not come to a verdict; a part can be masked when it has.")
	}
	if doc.Kind != evidence.PictureKind && doc.Kind != evidence.ContentKind {
		return RunView{}, huma.Error422UnprocessableEntity("A mask leaves out how a part of a page looks and reads; this finding is about something else.")
	}
	selector := strings.TrimSpace(in.Selector)
	if _, err := cascadia.ParseGroup(selector); err != nil {
		return RunView{}, huma.Error422UnprocessableEntity(fmt.Sprintf("“%s” is no selector: %v.", selector, err))
	}
	key := evidence.Key{Page: doc.Page, Persona: doc.Persona, Device: doc.Device}
	if p := pageOf(e.now, key); slices.Contains([]string{"*", "html", "body", "main", ":root"}, strings.ToLower(selector)) || p != nil && p.MostOf(selector) {
		return RunView{}, huma.Error422UnprocessableEntity("That is most of the page: nothing would be left to check. Name the part that may differ.")
	}
	_, err = s.Store.ChangeTestPlan(ctx, e.run.SiteID, who(ctx), func(plan site.Site) (site.Site, string, error) {
		on := doc.Page
		if in.Everywhere {
			on = ""
		}
		plan, n := plan.WithMask(on, site.Mask{Selector: selector, Reason: in.Why})
		if n == 0 {
			return plan, "", nil
		}
		where := map[bool]string{true: "every page", false: doc.Page}[in.Everywhere]
		return plan, fmt.Sprintf("%s may differ on %s: %s (run %d).", selector, where, in.Why, e.run.ID), plan.Complete()
	})
	if err != nil {
		return RunView{}, problem(err)
	}
	reach := map[bool]string{true: string(run.Part), false: string(run.Place)}[in.Everywhere]
	return s.acceptFinding(ctx, id, AcceptBody{Accepted: true, Why: "Masked: " + in.Why, Reach: reach})
}

func (s *Server) decisions(ctx context.Context, siteID int64) ([]DecisionView, error) {
	rows, err := s.Store.Decisions(ctx, siteID)
	if err != nil {
		return nil, err
	}
	list := make([]DecisionView, 0, len(rows))
	today := time.Now().UTC().Truncate(24 * time.Hour)
	for _, d := range rows {
		v := DecisionView{ID: d.ID, Of: d.Difference.V, Who: d.Who, Why: d.Why, MadeAt: d.MadeAt, EndedBy: d.EndedBy, Holds: d.EndedAt == nil}
		if d.ChangeID != nil {
			v.Change = *d.ChangeID
		}
		if d.Until != nil {
			v.Until = d.Until.Format(time.DateOnly)
			v.Holds = v.Holds && !d.Until.Before(today)
		}
		if d.FindingID != nil {
			f, err := s.Store.Finding(ctx, *d.FindingID)
			if err != nil {
				return nil, err
			}
			v.Finding, v.Run = f.ID, f.RunID
		}
		list = append(list, v)
	}
	return list, nil
}

func (s *Server) endDecision(ctx context.Context, id int64) ([]DecisionView, error) {
	var siteID int64
	err := s.Store.Within(ctx, func(st *store.Store) error {
		d, err := st.EndDecision(ctx, id, who(ctx))
		if err != nil {
			return err
		}
		siteID = d.SiteID
		return st.Record(ctx, store.Event{SiteID: d.SiteID, ChangeID: d.ChangeID, Kind: "finding", Who: who(ctx), Text: "No longer accepted: " + d.Difference.V.Title})
	})
	if err != nil {
		return nil, problem(err)
	}
	return s.decisions(ctx, siteID)
}
