// Package release is the life of a change: in which states it can be, what may
// happen next, and what must hold first.
//
// [Table] lists every move; [Next] says for a change's [Situation] which moves are
// allowed and, for the others, why not; [Apply] makes one. Interface and API ask here
// instead of deciding themselves.
//
// The package acts on no site. It takes facts and returns what follows.
package release

import (
	"fmt"

	"tidemarker/internal/core/evidence"
)

// State is where a change stands.
type State string

// The states of a change.
const (
	Drafted    State = "drafted"     // being edited; no environment has it
	Trying     State = "trying"      // a staging run is under way
	OnStaging  State = "on staging"  // staging has it, but no check of it ended
	Checked    State = "checked"     // staging has it, and a check came to a verdict
	Promoting  State = "promoting"   // a promotion is under way
	Promoted   State = "promoted"    // production has it, but its check is not clear
	Marked     State = "marked"      // production has it, and a mark says that it works
	GoingBack  State = "going back"  // a rollback is under way
	RolledBack State = "rolled back" // the environments read back what they had before
	Discarded  State = "discarded"   // given up before any environment had it
)

// Event is what can happen to a change.
type Event string

// The events. The first group is what people do, the second what runs report.
const (
	Edit     Event = "edit"
	Try      Event = "try"
	Promote  Event = "promote"
	Tidy     Event = "tidy" // production gets what deletes data and nothing else
	RollBack Event = "roll back"
	Discard  Event = "discard"
	Rebase   Event = "rebase" // it is begun again from what production has now, with the same edits
	Accept   Event = "accept" // a production check that is not clear is taken as it is

	Ended       Event = "ended"       // the run came to a verdict
	Interrupted Event = "interrupted" // the run was stopped or failed after the environment had the change
	Undone      Event = "undone"      // the run ended with the environment as it was before
)

// Situation is what the guards need to know about a change.
type Situation struct {
	State State
	Edits int // settings that differ from what it started from

	Verdict           evidence.Verdict // of the last check on staging; "" when there is none
	Checked           string           // fingerprint that check looked at
	Fingerprint       string           // fingerprint of the change as it is now
	Staging           string           // fingerprint that staging last read back
	Production        string           // fingerprint that production last read back
	Base              string           // production's fingerprint that the change started from
	ProductionVerdict evidence.Verdict // of the last check on production
	Blocked           []string         // consequences that stand in the way, in words
	StagingHasMark    bool
	ProductionHasMark bool
	Busy              string // what is under way on its environments, "" when nothing is
	Irreversible      bool   // the change deletes data
	OnlyTidies        bool   // and does nothing else
	BackedUp          bool   // a backup of staging was recorded lately
	ProductionBacked  bool   // the same of production
	StagingDrift      string // what was changed outside on staging and is not settled, in words; "" when nothing is
	Follows           string // the change before it in a series that is not on production yet, in words; "" when none is
	ProductionDrift   string // the same of production
}

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
	{Promoting, Ended, Marked, func(s Situation) string {
		if s.ProductionVerdict != evidence.VerdictClear {
			return "The check of production is not clear."
		}
		return ""
	}},
	{Promoting, Interrupted, Promoted, nil},
	{Promoting, Undone, Checked, nil},
	{Promoted, Accept, Marked, func(s Situation) string {
		if s.ProductionVerdict == evidence.VerdictBroken || s.ProductionVerdict == evidence.VerdictNotChecked || s.ProductionVerdict == "" {
			return "The check of production is " + orNone(s.ProductionVerdict) + ". Check production again, or roll back."
		}
		return ""
	}},
	{Promoted, Promote, Promoting, mayPromote},
	{Promoted, Tidy, Promoting, mayTidy},

	{OnStaging, RollBack, GoingBack, mayGoBack},
	{Checked, RollBack, GoingBack, mayGoBack},
	{Promoted, RollBack, GoingBack, mayGoBack},
	{Marked, RollBack, GoingBack, mayGoBack},
	{GoingBack, Ended, RolledBack, nil},
	{GoingBack, Interrupted, OnStaging, nil}, // production does not have it
	{GoingBack, Undone, Promoted, nil},       // production still has it

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
	for _, e := range []Event{Edit, Rebase, Try, Promote, Tidy, Accept, RollBack, Discard} {
		m, ok := find(s.State, e)
		if !ok {
			continue
		}
		c := Choice{Event: e, Allowed: true}
		if m.Guard != nil {
			c.Why = m.Guard(s)
			c.Allowed = c.Why == ""
		}
		if e == Rebase && !c.Allowed && s.Base == s.Production {
			continue // nothing to be begun again from
		}
		if e == Tidy && !s.Irreversible || e == Promote && s.OnlyTidies {
			continue // a change is one or the other
		}
		c.Next = e == sensible(s)
		out = append(out, c)
	}
	return out
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
		if s.ProductionVerdict == evidence.VerdictUnsure {
			return Accept
		}
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
		return s.State, fmt.Errorf("a change that is %s cannot be told to %q", s.State, string(e))
	}
	if m.Guard != nil {
		if why := m.Guard(s); why != "" {
			return s.State, &NotAllowed{Event: e, State: s.State, Why: why}
		}
	}
	return m.To, nil
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

func idle(s Situation) string {
	if s.Busy != "" {
		return s.Busy
	}
	return ""
}

func mayTry(s Situation) string {
	switch {
	case s.Busy != "":
		return s.Busy
	case s.StagingDrift != "":
		return s.StagingDrift
	case s.Follows != "":
		return s.Follows
	case s.Edits == 0:
		return "Nothing differs from production yet. Change a setting first."
	case len(s.Blocked) > 0:
		return s.Blocked[0]
	case s.Irreversible && !s.BackedUp:
		return "It deletes data on staging, which no rollback brings back. Record a backup of staging first."
	case !s.StagingHasMark:
		return "Staging has no mark to compare with. Take one first."
	}
	return ""
}

func mayPromote(s Situation) string {
	if s.Irreversible {
		return "The change deletes data, which no rollback brings back. That never rides along in a promotion."
	}
	return mayReach(s)
}

func mayTidy(s Situation) string {
	switch {
	case !s.OnlyTidies:
		return "It changes more than what deletes data. A tidy is a change of its own; take the rest out."
	case !s.ProductionBacked:
		return "It deletes data on production, which no rollback brings back. Record a backup of production first."
	}
	return mayReach(s)
}

// mayReach says what stands in the way of production getting what was checked.
func mayReach(s Situation) string {
	switch {
	case s.Busy != "":
		return s.Busy
	case s.ProductionDrift != "":
		return s.ProductionDrift
	case s.StagingDrift != "":
		return s.StagingDrift
	case s.Verdict == "":
		return "It has not been checked on staging."
	case s.Fingerprint != s.Checked:
		return "It was edited after the check. Only what was checked can be promoted; try it again."
	case s.Verdict != evidence.VerdictClear:
		return fmt.Sprintf("The check on staging is %s. Only a clear one can be promoted.", s.Verdict)
	case s.Staging != s.Checked:
		return "Staging no longer has the settings that were checked. Try it again."
	case s.Production != s.Base && s.Production != s.Fingerprint:
		return "Production has been changed since this change was begun. Begin again from what it has now, and try it again."
	case !s.ProductionHasMark:
		return "Production has no mark to go back to. Take one first."
	}
	return ""
}

func mayRebase(s Situation) string {
	switch {
	case s.Busy != "":
		return s.Busy
	case s.ProductionDrift != "":
		return s.ProductionDrift
	case s.Base == s.Production || s.Production == s.Fingerprint:
		return "Production has what this change was begun from."
	}
	return ""
}

func mayGoBack(s Situation) string {
	switch {
	case s.Busy != "":
		return s.Busy
	case !s.StagingHasMark && !s.ProductionHasMark:
		return "There is no mark to go back to."
	}
	return ""
}

func orNone(v evidence.Verdict) string {
	if v == "" {
		return "missing"
	}
	return string(v)
}
