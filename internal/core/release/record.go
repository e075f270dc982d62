package release

import "slices"

// ActKind says what an act on an environment's settings was for.
type ActKind string

// The kinds of acts.
const (
	ActTry      ActKind = "try"
	ActPromote  ActKind = "promote"
	ActRollBack ActKind = "roll back"
	ActRestore  ActKind = "restore" // a run brought back what it found
	ActControl  ActKind = "control" // a run looks with the settings from before; what it tried comes again
	ActSearch   ActKind = "search"  // a run looks with some parts of a change; it restores what it found
	ActTidy     ActKind = "tidy"    // what deletes data is switched off, and on again so that it deletes
	ActOutside  ActKind = "outside" // somebody else did it
	ActFirst    ActKind = "first"   // the first reading; nothing was changed
)

// Placed is one act that was applied to an environment: it brought the settings from
// one fingerprint to another.
type Placed struct {
	Change   int64 // 0 when it belongs to none
	Kind     ActKind
	From, To string
	Base     string // what the change was begun from, when known
}

// Standing is something in force on an environment, and what was in force before it.
type Standing struct {
	Change        int64 // 0 when it belongs to none: a run without a change, or something changed outside
	Before, After string
}

// Record reads from all acts that were applied to an environment, the oldest first,
// what is in force there now, one on top of the other. The last one's After is what the
// environment has; what it had at the first reading stands below all.
func Record(acts []Placed) []Standing {
	var out []Standing
	now, searching := "", false
	var off []Standing // what stood before a control, and stands again after it
	offAt := ""
	for _, a := range acts {
		if a.Kind == ActControl && off == nil {
			off, offAt = slices.Clone(out), a.From
		}
		again := off != nil && a.To == offAt && (a.Kind == ActTry || a.Kind == ActRestore)
		switch {
		case again:
			out = off
		case now == "" && len(out) == 0 && a.Kind == ActFirst:
		case a.Kind == ActTry || a.Kind == ActPromote:
			out = place(out, a)
		case a.From == a.To:
		case a.Kind == ActSearch || a.Kind == ActTidy:
			// What a run looks with (or tidies by) comes on top, whatever it had before itself; what the run found
			// comes back when it is over.
			if searching {
				a.From = out[len(out)-1].Before
				out = out[:len(out)-1]
			}
			if searching = a.From != a.To; searching {
				out = append(out, Standing{0, a.From, a.To})
			}
			now, off = a.To, nil
			continue
		default:
			out = goBack(out, a)
		}
		now, searching = a.To, false
		if again || a.Kind != ActControl {
			off = nil
		}
	}
	return out
}

// place puts a change on top. What is tried replaces whatever was tried since the
// environment had what the change was begun from: it does not contain that. The same
// change again, with nothing on top of it, keeps what was before it when it first came.
func place(s []Standing, a Placed) []Standing {
	if a.Kind == ActTry && a.Base != "" {
		for i := len(s) - 1; i >= 0; i-- {
			if s[i].Before == a.Base {
				s, a.From = s[:i], a.Base
				break
			}
		}
	}
	if a.From == a.To && (a.Change == 0 || InForce(s, a.Change)) {
		return s // otherwise the environment had already what the change asks for
	}
	if n := len(s); n > 0 && a.Change != 0 && s[n-1].Change == a.Change {
		s[n-1].After = a.To
		if s[n-1].Before == a.To {
			return s[:n-1]
		}
		return s
	}
	return append(s, Standing{a.Change, a.From, a.To})
}

// goBack takes off what was put on since the environment last had what it has now. What
// it never had on record comes on top, as somebody's whom the record does not know.
func goBack(s []Standing, a Placed) []Standing {
	if a.Kind == ActRollBack && a.Change != 0 {
		if i := lowest(s, a.Change); i >= 0 && s[i].Before == a.To {
			return s[:i]
		}
	}
	for i := len(s) - 1; i >= 0; i-- {
		if s[i].Before == a.To {
			return s[:i]
		}
	}
	if a.Kind == ActRollBack {
		return nil // to a mark from before all that is on record
	}
	return append(s, Standing{0, a.From, a.To})
}

func lowest(s []Standing, change int64) int {
	return slices.IndexFunc(s, func(x Standing) bool { return x.Change == change })
}

// InForce tells whether a change is in force.
func InForce(s []Standing, change int64) bool { return lowest(s, change) >= 0 }

// Way is where a rollback of a change goes.
type Way struct {
	To    string  // fingerprint of what was in force before the change came
	OnTop []int64 // other changes that would go with it, the latest last
	Other bool    // and something that belongs to no change
}

// Back is where rolling a change back goes: to what was in force before it came. ok is
// false when the change is not in force.
func Back(s []Standing, change int64) (w Way, ok bool) {
	i := lowest(s, change)
	if i < 0 {
		return Way{}, false
	}
	w.To = s[i].Before
	for _, x := range s[i:] {
		switch {
		case x.Change == change || slices.Contains(w.OnTop, x.Change):
		case x.Change == 0:
			w.Other = true
		default:
			w.OnTop = append(w.OnTop, x.Change)
		}
	}
	return w, true
}

// MarkOf is a mark as far as the choice of one is concerned.
type MarkOf struct {
	ID          int64
	Fingerprint string
}

// ChooseMark picks the mark to compare with when an environment goes back to a
// fingerprint: the latest of exactly these settings, else the latest of all, which
// exact tells. marks are the latest first; ok is false when there is none.
func ChooseMark(marks []MarkOf, fingerprint string) (m MarkOf, exact, ok bool) {
	if i := slices.IndexFunc(marks, func(m MarkOf) bool { return m.Fingerprint == fingerprint }); i >= 0 {
		return marks[i], true, true
	}
	if len(marks) == 0 {
		return MarkOf{}, false, false
	}
	return marks[0], false, true
}

// BeforeLatestPromotion is what an environment had before the promotion that came last, by all acts that were applied to it,
// the oldest first: as far as whoever does not decide about production may put it back. ok is false when nothing was promoted,
// or what was has gone again.
func BeforeLatestPromotion(acts []Placed) (fingerprint string, ok bool) {
	var latest int64
	for _, a := range acts {
		if a.Kind == ActPromote {
			latest = a.Change
		}
	}
	w, ok := Back(Record(acts), latest)
	if latest == 0 || !ok || len(w.OnTop) > 0 {
		return "", false
	}
	return w.To, true
}
