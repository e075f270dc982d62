package evidence

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"tidemarker/internal/core/sequential"
	"tidemarker/internal/core/words"
)

// FirstEarlierPass is the number of the first pass of looks with the earlier settings, before a promotion acts or in a control; later
// ones, of either side, count on.
const FirstEarlierPass = 3

// ControlOutcome says what looking with the earlier settings showed of a finding.
type ControlOutcome string

// The outcomes.
const (
	Gone    ControlOutcome = "gone"     // it comes with the change and goes with it
	Remains ControlOutcome = "remains"  // it is there with the earlier settings, too
	Random  ControlOutcome = "random"   // it comes and goes whatever the settings are
	Came    ControlOutcome = "came"     // it was not there just before the change came, and is now
	NotMade ControlOutcome = "not made" // there was no control
)

// Control is what looks with the earlier settings say of a finding's cause, next to those
// with the change.
type Control struct {
	Outcome   ControlOutcome `json:"outcome" enum:"gone,remains,random,came,not made"`
	With      int            `json:"with" doc:"Looks with the change that showed it."`
	WithOf    int            `json:"withOf" doc:"Looks with the change at what shows it."`
	Without   int            `json:"without" doc:"Looks with the earlier settings that showed it."`
	WithoutOf int            `json:"withoutOf" doc:"Looks with the earlier settings at what shows it."`
	Pass      int            `json:"pass,omitempty" doc:"The pass with the last look at this very thing with the earlier settings."`
	Why       string         `json:"why,omitempty" doc:"Why there was no control."`
	Witness   Witness        `json:"witness,omitempty" enum:"shows it,does not show it" doc:"What staging says of it, which had the same settings when the change was tried."`
	Text      string         `json:"text,omitempty" doc:"The same in words."`
}

// Witness is what another environment with the same settings says of a finding.
type Witness string

// What a witness can say.
const (
	ShowsIt     Witness = "shows it"
	DoesNotShow Witness = "does not show it"
)

// Witnessed adds what staging says, which had the same settings: there is the second witness
// where nobody can go back and forth.
func (c Control) Witnessed(f Finding, there []Finding) Control {
	c.Witness = DoesNotShow
	for _, g := range there {
		if g.Kind == f.Kind && g.Part == f.Part && g.Page == f.Page && g.Persona == f.Persona && g.Device == f.Device && g.Severity != Note {
			c.Witness = ShowsIt
		}
	}
	return c
}

// What a control is decided by. A difference that has nothing to do with the settings shows
// in half of all looks, which is where chance is hardest to tell; one that has shows in nearly
// all looks of one side and in hardly any of the other. Both errors are at most 5 %: after
// two looks with the change that show it, three without that do not are enough.
var controlTest = sequential.Test{Lower: 0.5, Upper: 0.98, Alpha: 0.05, Beta: 0.05}

// fewestControls is how many looks with the earlier settings there are at least.
const fewestControls = 3

// Seen counts one look.
func (c Control) Seen(withChange, shown bool) Control {
	n := map[bool]int{true: 1}[shown]
	if withChange {
		c.With, c.WithOf = c.With+n, c.WithOf+1
	} else {
		c.Without, c.WithoutOf = c.Without+n, c.WithoutOf+1
	}
	return c
}

// Decide sets the outcome as soon as what was seen is enough for one; decided is false
// until then.
func (c Control) Decide() (out Control, decided bool) {
	if c.WithoutOf < fewestControls {
		return c, false
	}
	comes := controlTest.Decide(c.With+c.WithoutOf-c.Without, c.WithOf-c.With+c.Without)
	stays := controlTest.Decide(c.With+c.Without, c.WithOf-c.With+c.WithoutOf-c.Without)
	switch {
	case comes == sequential.Upper:
		c.Outcome = Gone
	case stays == sequential.Upper:
		c.Outcome = Remains
	case comes == sequential.Lower && stays == sequential.Lower:
		c.Outcome = Random
	default:
		return c, false
	}
	return c, true
}

// DecideBefore is the outcome where nobody can go back: looks just before the change came
// are the control. What any of them shows was there before; what none shows came since,
// which is no proof of where it came from.
func (c Control) DecideBefore() Control {
	switch {
	case c.WithoutOf == 0:
	case c.Without > 0:
		c.Outcome = Remains
	default:
		c.Outcome = Came
	}
	return c
}

// GivenUp is the outcome when no more looks are made, for a reason or at the limit. Only what
// was seen to come and go is said to; looks that agree and are too few prove nothing.
func (c Control) GivenUp(why string) Control {
	agree := c.With == c.WithOf && (c.Without == 0 || c.Without == c.WithoutOf)
	if !agree && c.WithoutOf > 0 {
		c.Outcome = Random
		return c
	}
	c.Outcome, c.Why = NotMade, cmp.Or(why, "what shows it could not be looked at often enough")
	return c
}

// NeedsControl tells whether a finding is to be looked at with the earlier settings.
func (f Finding) NeedsControl() bool {
	return f.Severity != Note && f.Kind != NotCheckedKind && f.Kind != MetricKind && !f.Known && f.Pass == 0
}

// Shows tells whether findings of another look at the same thing have this one, too.
func (f Finding) Shows(others []Finding) bool {
	return slices.ContainsFunc(others, func(g Finding) bool {
		return (g.Severity != Note || g.NoLongerCached()) && f.agrees(g) // that a page is no longer cached weighs something only by the settings
	})
}

// Controlled says what a control makes of a finding. What is still there with the earlier
// settings is not the change's: it is noted when the site looks or reads otherwise than
// at the mark, and left for a person when something does not work there. What comes and
// goes at random is for a person, too.
func (f Finding) Controlled(c Control) Finding {
	c.Text = c.String()
	f.Control = &c
	switch c.Outcome {
	case Remains:
		f.Severity = Unsure
		if f.SiteMovedOn() {
			f.Severity = Note
		}
	case Random:
		f.Severity = Unsure
	case Came:
		// The two witnesses disagree: it may be news of the site that came just then.
		if c.Witness == DoesNotShow && slices.Contains(appearance, f.Kind) {
			f.Severity = Unsure
		}
	}
	return f
}

// Unprovoked is a finding where no setting was changed since the mark: that the site looks or
// reads otherwise is its own doing, and for a person to judge. What does not work is broken
// whoever broke it.
func (f Finding) Unprovoked() Finding {
	if slices.Contains(appearance, f.Kind) && f.Severity == Broken {
		f.Severity = Unsure
	}
	return f
}

// AsBefore says of a finding of a late look that things are as they were before the promotion, so that what differs from the mark
// since makes nobody worse off.
func (f Finding) AsBefore() Finding {
	f.Severity = Note
	f.Detail = strings.TrimSpace(f.Detail + " It is as it was before the promotion.")
	return f
}

// SiteMovedOn tells whether a finding is a difference that the site itself has made since
// the mark, which the mark's evidence can take in.
func (f Finding) SiteMovedOn() bool {
	if f.Control == nil || f.Control.Outcome != Remains {
		return false
	}
	return f.Kind == PictureKind || f.Kind == ContentKind || f.Kind == ShiftKind
}

// String says in words what the control showed.
func (c Control) String() string {
	switch c.Outcome {
	case Gone:
		return fmt.Sprintf("Gone with the earlier settings, %d of %d.", c.WithoutOf-c.Without, c.WithoutOf)
	case Came:
		said := fmt.Sprintf("Not there just before the change came, %d of %d.", c.WithoutOf-c.Without, c.WithoutOf)
		if c.Witness != "" {
			said += fmt.Sprintf(" Staging, with the same settings, %s.", c.Witness)
		}
		return said
	case Remains:
		return fmt.Sprintf("There with the earlier settings, too, %d of %d: it is not the change's.", c.Without, c.WithoutOf)
	case Random:
		return fmt.Sprintf("Comes and goes at random: in %d of %s with the change, in %d of %d with the earlier settings.", c.With, words.Count(c.WithOf, "look"), c.Without, c.WithoutOf)
	}
	return "Not looked at with the earlier settings: " + c.Why + "."
}
