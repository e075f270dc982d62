package release

import (
	"fmt"
	"strings"

	"tidemarker/internal/core/evidence"
)

// Situation is what the guards need to know about a change. What stands in the way is
// given in words, "" when nothing does.
type Situation struct {
	State State
	Edits int // settings that differ from what it started from

	Verdict     evidence.Verdict // of the last check on staging; "" when there is none
	Checked     string           // fingerprint that check looked at
	Fingerprint string           // fingerprint of the change as it is now
	Base        string           // production's fingerprint that the change started from
	Blocked     []string         // consequences that stand in the way
	Calendar    string           // why nothing may be promoted at this time
	Follows     string           // the change before it in a series that is not on production yet

	Staging           string // fingerprint that staging last read back, or that what is under way there will leave
	StagingBusy       string // what is under way there
	StagingHasMark    bool
	StagingHasChange  bool   // by the record of acts
	StagingDrift      string // what was changed outside there and is not settled
	StagingUnknown    string // why nobody can tell what is in force there
	Production        string
	ProductionBusy    string
	ProductionHasMark bool
	ProductionChange  bool // production has the change, by the record of acts
	ProductionDrift   string
	ProductionUnknown string
	ProductionVerdict evidence.Verdict // of the last check on production

	WatchWaits bool // its watch is over, and a person has to say what follows

	OnTop []string // titles of other changes that were promoted on top of it
	Other bool     // and something on top that belongs to no change

	Irreversible     bool // the change deletes data
	OnlyTidies       bool // and does nothing else
	BackedUp         bool // a backup of staging was recorded lately
	ProductionBacked bool // the same of production
}

// first is the first of several reasons that is one.
func first(reasons ...string) string {
	for _, r := range reasons {
		if r != "" {
			return r
		}
	}
	return ""
}

func when(holds bool, why string) string {
	if holds {
		return why
	}
	return ""
}

func idle(s Situation) string { return first(s.StagingBusy, s.ProductionBusy) }

func mayTry(s Situation) string {
	blocked := ""
	if len(s.Blocked) > 0 {
		blocked = s.Blocked[0]
	}
	return first(s.StagingBusy, s.StagingUnknown, s.StagingDrift, s.Follows,
		when(s.Edits == 0, "Nothing differs from production yet. Change a setting first."),
		blocked,
		when(s.Irreversible && !s.BackedUp, "It deletes data on staging, which no rollback restores. Record a backup of staging first."),
		when(!s.StagingHasMark, "Staging has no mark to compare with. Take one first."))
}

func mayPromote(s Situation) string {
	if s.Irreversible {
		return "The change deletes data, which no rollback restores. That never rides along in a promotion."
	}
	return mayReach(s)
}

func mayTidy(s Situation) string {
	return first(
		when(!s.OnlyTidies, "It changes more than what deletes data. A tidy is a change of its own; take the rest out."),
		when(!s.ProductionBacked, "It deletes data on production, which no rollback restores. Record a backup of production first."),
		mayReach(s))
}

// mayReach says what stands in the way of production getting what was checked.
func mayReach(s Situation) string {
	return first(s.ProductionBusy, s.ProductionUnknown, s.StagingUnknown, s.ProductionDrift, s.StagingDrift,
		when(s.Verdict == "", "It has not been checked on staging."),
		when(s.Fingerprint != s.Checked, "It was edited after the check. Only what was checked can be promoted; try it again."),
		when(s.Verdict != evidence.VerdictClear, fmt.Sprintf("The check on staging is %s. Only a clear one can be promoted.", s.Verdict)),
		when(s.Staging != s.Checked, "Staging no longer has the settings that were checked. Try it again."),
		when(s.Production != s.Base && s.Production != s.Fingerprint, "Production has changed since this change was started. Rebase it on production, then try it again."),
		when(!s.ProductionHasMark, "Production has no mark to roll back to. Take one first."),
		when(s.Production != s.Fingerprint, s.Calendar))
}

func mayRebase(s Situation) string {
	return first(idle(s), s.ProductionUnknown, s.ProductionDrift,
		when(s.Base == s.Production || s.Production == s.Fingerprint, "Production has what this change started from."))
}

func mayAccept(s Situation) string {
	return first(s.ProductionBusy, s.ProductionUnknown,
		when(!s.ProductionChange, "Production no longer has it."),
		notAcceptable(s.ProductionVerdict, "production", "Check production again, or roll back."))
}

// NotByItself is why a change does not go back by itself, "" when it may: what deleted data never does, and what others were
// promoted on top of is for a person.
func NotByItself(s Situation) string {
	return first(when(s.Irreversible, "It deletes data, and that is never rolled back automatically."), when(!s.ProductionChange, "Production no longer has it."),
		when(len(s.OnTop) > 0 || s.Other, "Something else was brought to production after it. A person has to decide."), s.ProductionDrift)
}

func maySettle(s Situation) string {
	return first(when(!s.WatchWaits, "It is being watched, or was not."), when(!s.ProductionChange, "Production no longer has it."))
}

func mayAcceptRestored(s Situation) string {
	const again = "Roll back again: it is checked once more."
	if s.ProductionVerdict == "" && s.Verdict == "" {
		return first(idle(s), notAcceptable("", "it", again))
	}
	return first(idle(s), s.ProductionUnknown, s.StagingUnknown,
		when(s.ProductionVerdict != "", notAcceptable(s.ProductionVerdict, "production", again)),
		when(s.Verdict != "", notAcceptable(s.Verdict, "staging", again)))
}

func notAcceptable(v evidence.Verdict, where, instead string) string {
	return when(v == evidence.VerdictBroken || v == evidence.VerdictNotChecked || v == "",
		fmt.Sprintf("The check of %s is %s. %s", where, orNone(v), instead))
}

// mayGoBack says what stands in the way of any rollback. Production does not wait for what is under way on staging, which goes back
// when that is over.
func mayGoBack(s Situation) string {
	return first(s.ProductionBusy, when(!s.ProductionChange, s.StagingBusy),
		when(s.ProductionChange, s.ProductionUnknown), when(s.StagingHasChange, s.StagingUnknown),
		when(!s.StagingHasChange && !s.ProductionChange, "Neither staging nor production has it any more, so there is nothing to roll back."),
		when(!s.StagingHasMark && !s.ProductionHasMark, "There is no mark to prove a rollback with. Take one first."))
}

func mayRollBack(s Situation) string {
	return first(mayGoBack(s), when(len(s.OnTop) > 0 && s.ProductionChange,
		fmt.Sprintf("%s promoted on top of it: %s. Roll all of them back, or take out just this one's edits with a new change.", wasWere(len(s.OnTop)), named(s.OnTop))))
}

func mayRollBackAll(s Situation) string {
	return first(mayGoBack(s), when(len(s.OnTop) == 0, "Nothing was promoted on top of it. Roll it back by itself."))
}

func mayTakeOut(s Situation) string {
	return first(s.ProductionUnknown, when(!s.ProductionChange, "Production no longer has it, so there is nothing to take out."),
		when(len(s.OnTop) == 0, "Nothing was promoted on top of it. Roll it back."))
}

func wasWere(n int) string {
	if n == 1 {
		return "Another change was"
	}
	return fmt.Sprintf("%d other changes were", n)
}

func named(titles []string) string {
	quoted := make([]string, len(titles))
	for i, t := range titles {
		quoted[i] = "“" + t + "”"
	}
	return strings.Join(quoted, ", ")
}

func orNone(v evidence.Verdict) string {
	if v == "" {
		return "missing"
	}
	return string(v)
}
