package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/calendar"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/words"
	"tidemarker/internal/store"
)

// ApprovalView is what was asked and decided about a change going to production, and what the one who looks may do about it.
type ApprovalView struct {
	State      release.ApprovalState `json:"state" enum:",asked,questioned,approved,refused,withdrawn,spent" doc:"Empty when nobody asked."`
	Words      string                `json:"words" doc:"Of who asked."`
	AskedBy    string                `json:"askedBy"`
	AskedAt    *time.Time            `json:"askedAt,omitempty"`
	DecidedBy  string                `json:"decidedBy"`
	DecidedAt  *time.Time            `json:"decidedAt,omitempty"`
	Reason     string                `json:"reason" doc:"Of who decided, or why it was withdrawn."`
	Goes       bool                  `json:"goes" doc:"It is promoted automatically when the calendar allows it."`
	Waits      string                `json:"waits" doc:"What it waits for that is to be promoted automatically."`
	Calendar   string                `json:"calendar" doc:"Why nothing may be promoted at this time; empty when it may."`
	Opens      *time.Time            `json:"opens,omitempty" doc:"When the calendar lets something go out next; none while it does now, or when that is not to come."`
	ByAnother  bool                  `json:"byAnother" doc:"On this site nobody approves a change of their own."`
	WhyNotAsk  string                `json:"whyNotAsk" doc:"Why no approval can be asked for; empty when it can."`
	WhyDecide  string                `json:"whyNotDecide" doc:"Why the one who looks cannot approve it; empty when they can."`
	MayDespite bool                  `json:"mayDespite" doc:"They may promote it despite the calendar."`
	Today      []GoingOut            `json:"today" doc:"What else goes out today, on all sites."`
}

// GoingOut is a change that goes out, or went, on a day.
type GoingOut struct {
	Site     int64     `json:"site"`
	SiteName string    `json:"siteName"`
	Change   int64     `json:"change"`
	Title    string    `json:"title"`
	Who      string    `json:"who"`
	At       time.Time `json:"at"`
	Done     bool      `json:"done" doc:"Its promotion was begun; otherwise it is approved to be promoted automatically."`
}

// by is who calls, with what they may decide.
func by(ctx context.Context) changes.By {
	return changes.By{Who: who(ctx), Decides: callerOf(ctx).role.May(people.Decide)}
}

// promoteBody is what may be said when something is promoted.
type promoteBody struct {
	Despite string `json:"despite,omitempty" maxLength:"2000" doc:"Why it is promoted against the calendar. Recorded in the history."`
}

// approvalOperations registers what leads to production. Long because it is a list: one registration after the other.
func (s *Server) approvalOperations(api huma.API) {
	tags := []string{"changes"}
	answer := func(ctx context.Context, id int64, err error) (*output[ChangeView], error) {
		if err != nil {
			return nil, problem(err)
		}
		return out(s.changeView(ctx, id))
	}
	for _, act := range []struct {
		id, path, summary string
		do                func(context.Context, int64, changes.By, string) error
	}{
		{"promote-change", "promote", "Puts on production exactly what was checked, and checks it there", s.Changes.Promote},
		{"tidy-change", "tidy", "Carries out on production, by itself, what deletes data and was checked", s.Changes.Tidy},
	} {
		huma.Register(api, huma.Operation{OperationID: act.id, Method: http.MethodPost, Path: "/changes/{id}/" + act.path, Summary: act.summary,
			Description: "Approvers by themselves; others with an approval that holds. 409 with the reason when it is not allowed now.", Tags: tags, DefaultStatus: http.StatusAccepted},
			func(ctx context.Context, in *struct {
				ByID
				Body *promoteBody `required:"false"`
			}) (*output[ChangeView], error) {
				despite := ""
				if in.Body != nil {
					despite = in.Body.Despite
				}
				return answer(ctx, in.ID, act.do(ctx, in.ID, by(ctx), despite))
			})
	}
	huma.Register(api, huma.Operation{OperationID: "ask-approval", Method: http.MethodPost, Path: "/changes/{id}/approval", Summary: "Asks for an approval of a change as it is", Tags: tags, DefaultStatus: http.StatusCreated},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Words string `json:"words" minLength:"1" maxLength:"1000" doc:"A sentence for the approver."`
			}
		}) (*output[ChangeView], error) {
			return answer(ctx, in.ID, s.Changes.AskApproval(ctx, in.ID, by(ctx), in.Body.Words))
		})
	huma.Register(api, huma.Operation{OperationID: "decide-approval", Method: http.MethodPost, Path: "/changes/{id}/approval/decision", Summary: "Approves a change, refuses it, or asks something first",
		Description: "An approval belongs to the change's settings and to production as it is; when either moves it is withdrawn. Nobody needs to have asked for it.", Tags: tags},
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Decision string `json:"decision" enum:"approve,refuse,question"`
				Reason   string `json:"reason" maxLength:"2000" doc:"Has to be given unless it is approved."`
				Goes     bool   `json:"goes,omitempty" doc:"Of an approved change: it is promoted automatically when the calendar allows it."`
			}
		}) (*output[ChangeView], error) {
			switch in.Body.Decision {
			case "approve":
				return answer(ctx, in.ID, s.Changes.Approve(ctx, in.ID, by(ctx), in.Body.Reason, in.Body.Goes))
			case "refuse":
				return answer(ctx, in.ID, s.Changes.Refuse(ctx, in.ID, by(ctx), in.Body.Reason))
			}
			return answer(ctx, in.ID, s.Changes.AskQuestion(ctx, in.ID, by(ctx), in.Body.Reason))
		})
	huma.Register(api, huma.Operation{OperationID: "withdraw-approval", Method: http.MethodDelete, Path: "/changes/{id}/approval", Summary: "Withdraws an approval, or that one is asked for", Tags: tags, DefaultStatus: http.StatusOK},
		func(ctx context.Context, in *ByID) (*output[ChangeView], error) {
			return answer(ctx, in.ID, s.Changes.WithdrawApproval(ctx, in.ID, by(ctx)))
		})
	huma.Register(api, huma.Operation{OperationID: "decide-promotions", Method: http.MethodPut, Path: "/sites/{id}/promotions", Summary: "Says what holds for a site's promotions", Tags: []string{"sites"}},
		func(ctx context.Context, in *struct {
			ByID
			Body site.Promotion
		}) (*output[site.Promotion], error) {
			return out(s.decidePromotions(ctx, in.ID, in.Body))
		})
	huma.Register(api, huma.Operation{OperationID: "get-promotions", Method: http.MethodGet, Path: "/sites/{id}/promotions", Summary: "What holds for a site's promotions", Tags: []string{"sites"}},
		func(ctx context.Context, in *ByID) (*output[site.Promotion], error) {
			row, err := s.Store.Site(ctx, in.ID)
			return out(row.Document.V.Promotes(), err)
		})
}

func (s *Server) decidePromotions(ctx context.Context, id int64, p site.Promotion) (site.Promotion, error) {
	row, err := s.Store.ChangeTestPlan(ctx, id, who(ctx), func(now site.Site) (site.Site, string, error) {
		was := now.Promotes()
		now.Promotion = &p
		if err := now.Check(); err != nil {
			return now, "", huma.Error422UnprocessableEntity("Nothing was changed: " + err.Error() + ".")
		}
		return now, promotionsSaid(was, p), nil
	})
	return row.Document.V.Promotes(), err
}

// promotionsSaid is what is new of what holds for promotions, "" when nothing is.
func promotionsSaid(was, now site.Promotion) string {
	var out []string
	switch {
	case now.ByAnother && !was.ByAnother:
		out = append(out, "From now on nobody approves a change of their own.")
	case was.ByAnother && !now.ByAnother:
		out = append(out, "From now on approvers may approve changes of their own.")
	}
	if now.Watched() != was.Watched() {
		if now.Watched() == 0 {
			out = append(out, "From now on promotions are not watched.")
		} else {
			out = append(out, "From now on each promotion is watched for "+words.Span(int(now.Watched().Seconds()))+".")
		}
	}
	if now.Text() != was.Text() {
		out = append(out, "From now on "+now.Text()+".")
	}
	return strings.Join(out, " ")
}

// keepsPromotions refuses a site file by which somebody who may not decide about promotions would change what holds for them.
func (s *Server) keepsPromotions(ctx context.Context, doc *site.Site) error {
	if callerOf(ctx).role.May(people.Decide) {
		return nil
	}
	row, err := s.Store.SiteNamed(ctx, doc.Name)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	if doc.Promotion == nil {
		doc.Promotion = row.Document.V.Promotion
	}
	if !reflect.DeepEqual(doc.Promotes(), row.Document.V.Promotes()) {
		return huma.Error403Forbidden("Nothing was changed: the file says something else about promotions than the site has, and approvers decide that. Take “promotion” out of the file.")
	}
	return nil
}

// approvalView says how a change stands on its way to production, for the one who looks.
func (s *Server) approvalView(ctx context.Context, c store.Change, situation release.Situation) (ApprovalView, error) {
	wish, a, err := s.Changes.Wish(ctx, c, by(ctx))
	if err != nil {
		return ApprovalView{}, err
	}
	v := ApprovalView{Calendar: situation.Calendar, ByAnother: wish.ByAnother, WhyDecide: wish.MayDecide(), MayDespite: wish.Decides && situation.Calendar != "", Today: []GoingOut{}}
	if a != nil {
		v.State, v.Words, v.AskedBy, v.AskedAt, v.DecidedBy, v.DecidedAt, v.Reason, v.Goes, v.Waits = a.State, a.Words, a.AskedBy, &a.AskedAt, a.DecidedBy, a.DecidedAt, a.Reason, a.Goes, a.Waits
		if moved := wish.Approval.Moved(situation); a.State.Open() && moved != "" { // withdrawn in a moment
			v.State, v.Reason, v.Goes = release.Withdrawn, moved, false
		}
	}
	if err := changes.Approvable(situation); err != nil {
		v.WhyNotAsk, v.WhyDecide = err.Error(), err.Error()
	} else if v.State.Open() {
		v.WhyNotAsk = "An approval of this change has been asked for."
	}
	if situation.Calendar != "" {
		lines, err := s.Store.Calendar(ctx, c.SiteID)
		if unread := as[*store.UnreadEntry](err); err != nil && !unread {
			return v, err
		}
		if at, ok := calendar.Opens(lines, s.Changes.Now()); ok && err == nil {
			v.Opens = &at
		}
	}
	if v.Today, err = s.goingOut(ctx, c.ID); err != nil {
		return v, fmt.Errorf("read what goes out today: %w", err)
	}
	return v, nil
}

// goingOut is what else is promoted today, by the day in which the server is, on all sites.
func (s *Server) goingOut(ctx context.Context, but int64) ([]GoingOut, error) {
	now := s.Changes.Now()
	rows, err := s.Store.GoingOut(ctx, time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location()))
	list := []GoingOut{}
	for _, r := range rows {
		if r.ChangeID != but {
			list = append(list, GoingOut{r.SiteID, r.SiteName, r.ChangeID, r.Title, r.Who, r.At, r.Done})
		}
	}
	return list, err
}
