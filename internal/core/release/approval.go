package release

import (
	"fmt"
	"slices"
)

// ApprovalState is where an approval stands.
type ApprovalState string

// The states of an approval.
const (
	Asked      ApprovalState = "asked"      // somebody wants the change on production
	Questioned ApprovalState = "questioned" // an approver wants to know something first
	Approved   ApprovalState = "approved"   // it may go out
	Refused    ApprovalState = "refused"    // it may not, for a reason
	Withdrawn  ApprovalState = "withdrawn"  // taken back, or what it was given for has moved
	Spent      ApprovalState = "spent"      // the promotion that it was for was begun
)

// ApprovalEvent is what can happen to an approval.
type ApprovalEvent string

// The events.
const (
	AskQuestion ApprovalEvent = "question"
	Answer      ApprovalEvent = "answer"
	Approve     ApprovalEvent = "approve"
	Refuse      ApprovalEvent = "refuse"
	Withdraw    ApprovalEvent = "withdraw"
	Spend       ApprovalEvent = "spend"
)

// ApprovalTable lists every move that an approval can make. One begins as asked.
var ApprovalTable = []struct {
	From  ApprovalState
	Event ApprovalEvent
	To    ApprovalState
}{
	{Asked, AskQuestion, Questioned},
	{Questioned, Answer, Asked},
	{Asked, Approve, Approved},
	{Questioned, Approve, Approved},
	{Asked, Refuse, Refused},
	{Questioned, Refuse, Refused},
	{Approved, Refuse, Refused},
	{Asked, Withdraw, Withdrawn},
	{Questioned, Withdraw, Withdrawn},
	{Approved, Withdraw, Withdrawn},
	{Approved, Spend, Spent},
}

// Open tells whether something can still become of it.
func (s ApprovalState) Open() bool { return s == Asked || s == Questioned || s == Approved }

// ApplyApproval returns the state after an event, or *[NotAllowed].
func ApplyApproval(s ApprovalState, e ApprovalEvent) (ApprovalState, error) {
	for _, m := range ApprovalTable {
		if m.From == s && m.Event == e {
			return m.To, nil
		}
	}
	return s, &NotAllowed{Event: Event(e), Why: fmt.Sprintf("The request for approval is %s by now. Load the change again.", s)}
}

// Approval is what somebody asked for and somebody decided: that these settings may go to a
// production that has those.
type Approval struct {
	State       ApprovalState
	Fingerprint string // of the change
	Production  string // of production when it was asked for
	DecidedBy   string // who said so, as people are called
}

// Moved says what it was given for that is no more as it was; "" while all is.
func (a Approval) Moved(s Situation) string {
	return first(
		when(s.Fingerprint != a.Fingerprint, "The change was edited since."),
		when(s.Production != a.Production && s.Production != a.Fingerprint, "Production has other settings since."))
}

// Wish is who wants a change to go out, and under which rule of the site.
type Wish struct {
	Who       string    // as people are called, without a token
	Decides   bool      // they may decide about production
	Makers    []string  // who made the change, as people are called
	ByAnother bool      // on this site whoever made a change does not approve it
	Approval  *Approval // the newest, nil when nobody asked
}

// made tells whether the rule of the site is about the one who wants it.
func (w Wish) made() bool { return w.ByAnother && slices.Contains(w.Makers, w.Who) }

// MayDecide says why somebody may not approve a change; "" when they may.
func (w Wish) MayDecide() string {
	return first(
		when(!w.Decides, "Approvers decide about production."),
		when(w.made(), "You made this change. On this site somebody else approves it."))
}

// MayPromote says why somebody may not put a change on production, beside what its situation says;
// "" when they may: who decides may by themselves, others with an approval that still holds.
func (w Wish) MayPromote(s Situation) string {
	if w.MayDecide() == "" {
		return ""
	}
	a := w.Approval
	switch {
	case a != nil && a.State == Approved && a.Moved(s) != "":
		return "It was approved by " + a.DecidedBy + ", but not as it is now. " + a.Moved(s) + " Ask again."
	case a != nil && a.State == Approved && w.ByAnother && slices.Contains(w.Makers, a.DecidedBy):
		return "Who approved it has made it, too. On this site somebody else approves it. Ask again."
	case a != nil && a.State == Approved:
		return ""
	case a != nil && a.State.Open():
		return "An approver has not approved it yet."
	case w.Decides:
		return "You made this change. On this site somebody else approves it. Ask for an approval."
	}
	return "An approver has to approve it first. Ask for an approval."
}
