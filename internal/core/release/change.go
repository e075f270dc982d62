package release

import (
	"fmt"

	"tidemarker/internal/core/evidence"
)

// State is where a change stands.
type State string

// The states of a change.
const (
	Drafted     State = "drafted"      // being edited; no environment has it
	Trying      State = "trying"       // a run on staging is under way
	OnStaging   State = "on staging"   // staging has it, but no check of it ended
	Checked     State = "checked"      // staging has it, and a check came to a verdict
	Promoting   State = "promoting"    // a promotion is under way
	Promoted    State = "promoted"     // production has it, but its check is not clear
	Marked      State = "marked"       // production has it, and a mark says that it works
	Settled     State = "settled"      // its watch is over, and nothing was found that is this change's
	RollingBack State = "rolling back" // a rollback is under way
	Restored    State = "restored"     // the environments read back what they had before, but the check of that is not clear
	RolledBack  State = "rolled back"  // the environments read back what they had before, and the check of that is clear
	Discarded   State = "discarded"    // before any environment had it
)

// Event is what can happen to a change.
type Event string

// The events. The first group is what people do, the second what runs report.
const (
	Edit           Event = "edit"
	Try            Event = "try"
	Promote        Event = "promote"
	Tidy           Event = "tidy" // production gets what deletes data and nothing else
	RollBack       Event = "roll back"
	RollBackAll    Event = "roll back all" // with the changes that were promoted on top of it
	TakeOut        Event = "take out"      // a new change is begun that takes just this one's edits out
	DeclareSettled Event = "settle"        // a person says so, although its watch saw something or could not look
	Discard        Event = "discard"
	Rebase         Event = "rebase" // it is begun again from what production has now, with the same edits
	Accept         Event = "accept" // a check that is not clear is accepted as it is

	Ended       Event = "ended"       // the run came to a verdict
	Interrupted Event = "interrupted" // the run was stopped or failed while the environment has the change
	Undone      Event = "undone"      // the run ended with the environment as it was before
	WasRestored Event = "restored"    // the environments have what they had before, and the check of it is not clear
	Watched     Event = "watched"     // its watch is over, and all was clear
	Removed     Event = "removed"     // production went back to before it, or another change took it out
)

// Move is one line of the table.
type Move struct {
	From  State
	Event Event
	To    State
	// Guard says what must hold first, in words, or "" when it does.
	Guard func(Situation) string
}

// Table lists every move that a change can make.
var Table = []Move{
	{Drafted, Edit, Drafted, idle},
	{OnStaging, Edit, OnStaging, idle},
	{Checked, Edit, Checked, idle},

	{Drafted, Try, Trying, mayTry},
	{OnStaging, Try, Trying, mayTry},
	{Checked, Try, Trying, mayTry},
	{RolledBack, Try, Trying, mayTry},
	{RolledBack, Edit, Drafted, idle},

	{Drafted, Rebase, Drafted, mayRebase},
	{OnStaging, Rebase, OnStaging, mayRebase},
	{Checked, Rebase, Checked, mayRebase},
	{RolledBack, Rebase, RolledBack, mayRebase},

	{Trying, Ended, Checked, nil},
	{Trying, Interrupted, OnStaging, nil},
	{Trying, Undone, Drafted, nil},

	{Checked, Promote, Promoting, mayPromote},
	{Checked, Tidy, Promoting, mayTidy},
	{Promoting, Ended, Marked, nil},
	{Promoting, Interrupted, Promoted, nil},
	{Promoting, Undone, Checked, nil},
	{Promoted, Accept, Marked, mayAccept},
	{Promoted, Promote, Promoting, mayPromote},
	{Promoted, Tidy, Promoting, mayTidy},

	{OnStaging, RollBack, RollingBack, mayRollBack},
	{Checked, RollBack, RollingBack, mayRollBack},
	{Promoted, RollBack, RollingBack, mayRollBack},
	{Marked, RollBack, RollingBack, mayRollBack},
	{Restored, RollBack, RollingBack, idle},
	{Promoted, RollBackAll, RollingBack, mayRollBackAll},
	{Marked, RollBackAll, RollingBack, mayRollBackAll},
	{Settled, RollBack, RollingBack, mayRollBack},
	{Settled, RollBackAll, RollingBack, mayRollBackAll},
	{Settled, TakeOut, Settled, mayTakeOut},
	{Marked, DeclareSettled, Settled, maySettle},
	{Marked, Watched, Settled, nil},
	{Promoted, TakeOut, Promoted, mayTakeOut},
	{Marked, TakeOut, Marked, mayTakeOut},
	{RollingBack, Ended, RolledBack, nil},
	{RollingBack, WasRestored, Restored, nil},
	{RollingBack, Interrupted, OnStaging, nil}, // production does not have it
	{RollingBack, Undone, Promoted, nil},       // production still has it
	{Restored, Accept, RolledBack, mayAcceptRestored},

	{Promoted, Removed, RolledBack, nil},
	{Marked, Removed, RolledBack, nil},
	{Settled, Removed, RolledBack, nil},

	{Drafted, Discard, Discarded, idle},
	{RolledBack, Discard, Discarded, idle},
}

// Choice is one thing a person may want to do with a change.
type Choice struct {
	Event   Event  `json:"event"`
	Allowed bool   `json:"allowed"`
	Why     string `json:"why,omitempty" doc:"What must hold first, when it is not allowed."`
	Next    bool   `json:"next" doc:"The sensible next step."`
}

// Next lists what people can do with a change, the sensible next step marked.
func Next(s Situation) []Choice {
	var out []Choice
	for _, e := range []Event{Edit, Rebase, Try, Promote, Tidy, Accept, DeclareSettled, RollBack, RollBackAll, TakeOut, Discard} {
		m, ok := find(s.State, e)
		if !ok {
			continue
		}
		c := Choice{Event: e, Allowed: true}
		if m.Guard != nil {
			c.Why = m.Guard(s)
			c.Allowed = c.Why == ""
		}
		if beside(s, c) {
			continue
		}
		c.Next = e == sensible(s)
		out = append(out, c)
	}
	return out
}

// beside tells whether a choice has nothing to do with a change as it is.
func beside(s Situation, c Choice) bool {
	switch c.Event {
	case Rebase:
		return !c.Allowed && s.Base == s.Production // nothing to be begun again from
	case Tidy:
		return !s.Irreversible // a change is one or the other
	case Promote:
		return s.OnlyTidies
	case RollBackAll, TakeOut:
		return len(s.OnTop) == 0
	case DeclareSettled:
		return !s.WatchWaits
	}
	return false
}

func sensible(s Situation) Event {
	switch s.State {
	case Drafted, OnStaging:
		if mayRebase(s) == "" {
			return Rebase
		}
		if s.Edits == 0 {
			return Edit
		}
		return Try
	case Checked:
		switch {
		case mayRebase(s) == "":
			return Rebase
		case s.Fingerprint != s.Checked:
			return Try
		case s.Verdict == evidence.VerdictBroken:
			return RollBack
		case s.Verdict == evidence.VerdictClear && s.OnlyTidies:
			return Tidy
		case s.Verdict == evidence.VerdictClear:
			return Promote
		}
		return Try
	case Promoted:
		switch {
		case s.ProductionVerdict == evidence.VerdictUnsure:
			return Accept
		case len(s.OnTop) > 0:
			return RollBackAll
		}
		return RollBack
	case Marked:
		if s.WatchWaits {
			return DeclareSettled
		}
	case Restored:
		return RollBack
	case RolledBack:
		if mayRebase(s) == "" {
			return Rebase
		}
		return Edit
	}
	return ""
}

// Apply returns the state after an event, or an error that says why it cannot be.
func Apply(s Situation, e Event) (State, error) {
	m, ok := find(s.State, e)
	if !ok {
		return s.State, &NoMove{Event: e, State: s.State}
	}
	if m.Guard != nil {
		if why := m.Guard(s); why != "" {
			return s.State, &NotAllowed{Event: e, State: s.State, Why: why}
		}
	}
	return m.To, nil
}

// After is the state after what a run reports, which nothing guards; ok is false when
// it means nothing to a change in this state.
func After(s State, e Event) (to State, ok bool) {
	m, ok := find(s, e)
	if !ok || m.Guard != nil {
		return s, false
	}
	return m.To, true
}

// NoMove is the error of an event that means nothing to a change in its state.
type NoMove struct {
	Event Event
	State State
}

func (e *NoMove) Error() string {
	return fmt.Sprintf("a change that is %s cannot be told to %q", e.State, string(e.Event))
}

// NotAllowed is the error of a move whose guard does not hold.
type NotAllowed struct {
	Event Event
	State State
	Why   string
}

func (e *NotAllowed) Error() string { return e.Why }

func find(s State, e Event) (Move, bool) {
	for _, m := range Table {
		if m.From == s && m.Event == e {
			return m, true
		}
	}
	return Move{}, false
}
