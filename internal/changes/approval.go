package changes

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"tidemarker/internal/core/notice"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/store"
)

// Approvable says why a change cannot be approved, whoever wants to: what stands in the way of
// promoting it for longer than a run that is under way, or than the calendar says.
func Approvable(s release.Situation) error {
	s.Calendar, s.StagingBusy, s.ProductionBusy = "", "", ""
	_, err := release.Apply(s, eventOf(s))
	return err
}

func eventOf(s release.Situation) release.Event {
	if s.OnlyTidies {
		return release.Tidy
	}
	return release.Promote
}

// AskApproval asks for an approval of a change as it is, with a sentence about it.
func (d *Desk) AskApproval(ctx context.Context, id int64, by By, words string) error {
	return d.hold(ctx, id, func(x *held) error {
		if err := Approvable(x.situation); err != nil {
			return err
		}
		_, err := ask(ctx, x.Store, x.situation, x.c, by, words)
		return err
	})
}

func ask(ctx context.Context, s *store.Store, situation release.Situation, c store.Change, by By, words string) (store.Approval, error) {
	a := store.Approval{SiteID: c.SiteID, ChangeID: c.ID, State: release.Asked, Fingerprint: situation.Fingerprint, Production: situation.Production, Words: strings.TrimSpace(words), AskedBy: by.Who}
	var err error
	if a.ID, err = s.NewApproval(ctx, a); errors.Is(err, store.ErrAsked) {
		return a, &Conflict{"An approval of this change has been asked for. Wait for it, or withdraw it."}
	}
	if err != nil {
		return a, err
	}
	return a, approvalNote(ctx, s, store.Event{ChangeID: &c.ID, SiteID: c.SiteID, Who: by.Who, Topic: notice.Asked, Text: fmt.Sprintf("Asked for an approval of “%s”. %s", c.Title, a.Words)})
}

// approvalNote adds a line about approvals to the history, and tells who looks.
func approvalNote(ctx context.Context, s *store.Store, e store.Event) error {
	e.Kind, e.Text = "approval", strings.TrimSpace(e.Text)
	return errors.Join(s.Record(ctx, e), s.Tell(ctx, store.Signal{Site: e.SiteID, Change: *e.ChangeID}))
}

// Approve approves a change as it is; nobody needs to have asked. When it goes by itself it is promoted once the
// calendar lets it.
func (d *Desk) Approve(ctx context.Context, id int64, by By, reason string, goes bool) error {
	said := "Approved “%s”."
	if goes {
		said = "Approved “%s”; it is promoted automatically when the calendar allows it."
	}
	return d.hold(ctx, id, func(x *held) error {
		if err := Approvable(x.situation); err != nil {
			return err
		}
		wish, newest, err := x.Wish(ctx, x.c, by)
		if err != nil {
			return err
		}
		if why := wish.MayDecide(); why != "" {
			return &release.NotAllowed{Event: release.Event(release.Approve), State: x.c.State, Why: why}
		}
		if newest != nil && newest.State.Open() && wish.Approval.Moved(x.situation) != "" {
			return &Conflict{"What was asked for is not what it is now. " + wish.Approval.Moved(x.situation)}
		}
		a := store.Approval{}
		if newest != nil && newest.State.Open() {
			a = *newest
		} else if a, err = ask(ctx, x.Store, x.situation, x.c, by, ""); err != nil {
			return err
		}
		if a.State == release.Approved && a.Goes == goes {
			return &Conflict{"It is approved already."}
		}
		return decide(ctx, x.Store, x.c, a, release.Approve, by.Who, reason, goes, said)
	})
}

// decide makes a move of an approval and says it in the history.
func decide(ctx context.Context, s *store.Store, c store.Change, a store.Approval, e release.ApprovalEvent, who, reason string, goes bool, said string) error {
	from := a.State
	if from != release.Approved || e != release.Approve { // approving again says only whether it goes by itself
		to, err := release.ApplyApproval(from, e)
		if err != nil {
			return err
		}
		a.State = to
	}
	if a.Reason, a.Goes = strings.TrimSpace(reason), goes; e != release.Answer && e != release.Withdraw {
		a.DecidedBy = who
	}
	ok, err := s.MoveApproval(ctx, a, from)
	if err == nil && !ok {
		err = errMovedOn
	}
	if err != nil {
		return err
	}
	said = fmt.Sprintf(said+" %s", c.Title, a.Reason)
	if e == release.Answer { // who asked wants to know
		return approvalNote(ctx, s, store.Event{ChangeID: &c.ID, SiteID: c.SiteID, Who: who, Topic: notice.Decided, For: []string{people.Called(a.DecidedBy)}, Text: said})
	}
	return approvalNote(ctx, s, store.Event{ChangeID: &c.ID, SiteID: c.SiteID, Who: who, Topic: notice.Decided, For: []string{people.Called(a.AskedBy)}, Text: said})
}

// open is a change with its approval, of which something can still become.
func (d *Desk) open(ctx context.Context, id int64) (store.Change, store.Approval, error) {
	c, err := d.Store.Change(ctx, id)
	if err != nil {
		return c, store.Approval{}, err
	}
	a, err := d.Store.ApprovalOf(ctx, id)
	if errors.Is(err, store.ErrNotFound) || err == nil && !a.State.Open() {
		return c, a, &Conflict{"No approval of this change is asked for."}
	}
	return c, a, err
}

// Refuse refuses a change, or takes an approval back, for a reason.
func (d *Desk) Refuse(ctx context.Context, id int64, by By, reason string) error {
	return d.answer(ctx, id, by, release.Refuse, reason, "Refused “%s”.")
}

// AskQuestion asks something about a change before anything is decided; the question is a comment on it.
func (d *Desk) AskQuestion(ctx context.Context, id int64, by By, question string) error {
	return d.answer(ctx, id, by, release.AskQuestion, question, "Asked something before deciding about “%s”.")
}

func (d *Desk) answer(ctx context.Context, id int64, by By, e release.ApprovalEvent, reason, said string) error {
	if strings.TrimSpace(reason) == "" {
		return &NotRight{errors.New("say why, in a sentence")}
	}
	c, a, err := d.open(ctx, id)
	if err != nil {
		return err
	}
	return d.Store.Within(ctx, func(s *store.Store) error {
		if e == release.AskQuestion {
			if err := d.comment(ctx, s, store.Comment{SiteID: c.SiteID, ChangeID: &c.ID, Text: reason, Who: by.Who}); err != nil {
				return err
			}
		}
		return decide(ctx, s, c, a, e, by.Who, reason, false, said)
	})
}

// WithdrawApproval takes back that an approval is asked for, or one that was given.
func (d *Desk) WithdrawApproval(ctx context.Context, id int64, by By) error {
	c, a, err := d.open(ctx, id)
	if err != nil {
		return err
	}
	if !by.Decides && people.Called(a.AskedBy) != people.Called(by.Who) {
		return &Conflict{"It was asked for by " + a.AskedBy + ". They withdraw it, or an approver does."}
	}
	return d.Store.Within(ctx, func(s *store.Store) error {
		return decide(ctx, s, c, a, release.Withdraw, by.Who, "", false, "Withdrew the approval of “%s”.")
	})
}

// Comment adds what somebody says about a change, a run or a finding. On a change about which an approver has asked something it
// is the answer.
func (d *Desk) Comment(ctx context.Context, c store.Comment) error {
	return d.Store.Within(ctx, func(s *store.Store) error {
		if err := d.comment(ctx, s, c); err != nil || c.ChangeID == nil {
			return err
		}
		change, err := s.Change(ctx, *c.ChangeID)
		if err != nil {
			return err
		}
		a, err := s.ApprovalOf(ctx, change.ID)
		if errors.Is(err, store.ErrNotFound) || err == nil && (a.State != release.Questioned || people.Called(a.DecidedBy) == people.Called(c.Who)) {
			return nil
		}
		if err != nil {
			return err
		}
		return decide(ctx, s, change, a, release.Answer, c.Who, "", false, "Answered about “%s”.")
	})
}

func (d *Desk) comment(ctx context.Context, s *store.Store, c store.Comment) error {
	c.Text = strings.TrimSpace(c.Text)
	if c.Text == "" {
		return &NotRight{errors.New("the comment is empty")}
	}
	all, err := s.People(ctx)
	if err != nil {
		return err
	}
	var names []string
	for _, p := range all {
		if !p.Disabled {
			names = append(names, p.Name)
		}
	}
	c.Mentions.V = people.Mentioned(c.Text, names)
	if _, err := s.AddComment(ctx, c); err != nil {
		return err
	}
	if len(c.Mentions.V) > 0 {
		if err := s.Notify(ctx, store.Event{SiteID: c.SiteID, ChangeID: c.ChangeID, RunID: c.RunID, FindingID: c.FindingID, Topic: notice.Mentioned, For: c.Mentions.V, Who: c.Who,
			Text: fmt.Sprintf("%s wrote: %s", people.Called(c.Who), c.Text)}); err != nil {
			return err
		}
	}
	n := store.Signal{Site: c.SiteID}
	if c.ChangeID != nil {
		n.Change = *c.ChangeID
	}
	if c.RunID != nil {
		n.Run = *c.RunID
	}
	return s.Tell(ctx, n)
}

const (
	// mostGoing is how many approvals are followed up at once.
	mostGoing = 16
	// goingFor is for how long one of them may wait for its site to answer.
	goingFor = 20 * time.Second
)

// GoOut withdraws approvals whose change or production has moved, and promotes what was approved to go out by itself and may
// now. One site's trouble does not keep others waiting.
func (d *Desk) GoOut(ctx context.Context) error {
	open, err := d.Store.OpenApprovals(ctx, 0)
	if err != nil {
		return err
	}
	troubles := make([]error, len(open))
	var all sync.WaitGroup
	room := make(chan struct{}, mostGoing)
	for i, a := range open {
		room <- struct{}{}
		all.Go(func() {
			defer func() { <-room }()
			within, cancel := context.WithTimeout(ctx, goingFor)
			defer cancel()
			if err := d.follow(within, a); err != nil {
				troubles[i] = fmt.Errorf("the approval of change %d: %w", a.ChangeID, err)
			}
		})
	}
	all.Wait()
	return errors.Join(troubles...)
}

// follow follows one approval up.
func (d *Desk) follow(ctx context.Context, a store.Approval) error {
	situation, c, _, err := d.situation(ctx, a.ChangeID)
	if err != nil {
		return err
	}
	if why := (release.Approval{State: a.State, Fingerprint: a.Fingerprint, Production: a.Production}).Moved(situation); why != "" {
		return d.withdrawn(ctx, c, a, why)
	}
	if a.State != release.Approved || !a.Goes {
		return nil
	}
	if _, err := release.Apply(situation, eventOf(situation)); err != nil {
		return d.Store.ApprovalWaits(ctx, a.ID, err.Error())
	}
	err = d.reachProduction(ctx, a.ChangeID, eventOf(situation), By{Who: a.DecidedBy, Decides: true}, "")
	if why, waits := Waits(err); waits {
		return d.Store.ApprovalWaits(ctx, a.ID, why)
	}
	return err
}

// withdrawn takes an approval back since what it was for has moved.
func (d *Desk) withdrawn(ctx context.Context, c store.Change, a store.Approval, why string) error {
	return d.Store.Within(ctx, func(s *store.Store) error {
		now, err := s.TakeApproval(ctx, a.ID)
		if errors.Is(err, store.ErrNotFound) {
			return nil // somebody else is at it
		}
		if err != nil {
			return err
		}
		return decide(ctx, s, c, now, release.Withdraw, "Tide Marker", why, false, "Withdrew the approval of “%s”.")
	})
}
