package watch

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/words"
)

// State is how far a watch has come.
type State string

// The states of a watch.
const (
	Watching  State = "watching"
	Waits     State = "waits for a person" // it is over, and not all was clear
	Settled   State = "settled"
	Ended     State = "ended"      // production has the change no more, or a person ended it
	TakenOver State = "taken over" // by the watch of a later promotion
)

// Over tells whether nothing more follows by itself.
func (s State) Over() bool { return s == Settled || s == Ended || s == TakenOver }

// LookState is what became of a look.
type LookState string

// The states of a look.
const (
	Planned    LookState = "planned"
	Under      LookState = "under way"
	Clear      LookState = "clear"
	News       LookState = "news"        // what differs is news of the site
	Found      LookState = "found"       // what differs may be the change's
	NotChecked LookState = "not checked" // it could not be made; it is tried again
	Joined     LookState = "joined"      // it was due with a later one, which was made for both
	Skipped    LookState = "skipped"     // it was not made: production had other settings, or the watch was over
)

// MostTries is how often a look is tried that cannot be made, and Pause how long it waits in between: twice as long each time.
const MostTries = 4

// Pause is for how long a look waits that could not be made.
func Pause(tries int) time.Duration { return 5 * time.Minute << min(max(0, tries-1), 4) }

// Result is what a look came to: the verdict of its run as it is now, with what people accepted, and what its findings come of.
func Result(v evidence.Verdict, held []Late) LookState {
	switch v {
	case evidence.VerdictClear:
		return Clear
	case evidence.VerdictBroken, evidence.VerdictUnsure:
		if len(held) > 0 && !slices.ContainsFunc(held, func(h Late) bool { return h.Blame != OfSite }) {
			return News
		}
		return Found
	}
	return NotChecked
}

// Conclude says what a watch is in whose looks came to this. now over tells that its period has ended.
func Conclude(looks []LookState, over bool) (State, string) {
	count := map[LookState]int{}
	for _, l := range looks {
		count[l]++
	}
	if !over || count[Planned]+count[Under] > 0 {
		return Watching, ""
	}
	var why []string
	if n := count[Found]; n > 0 {
		why = append(why, fmt.Sprintf("%s found something that may be the change’s", words.Count(n, "look")))
	}
	if n := count[NotChecked] + count[Skipped]; n > 0 {
		why = append(why, fmt.Sprintf("%s could not be made", words.Count(n, "look")))
	}
	if len(why) == 0 {
		if n := count[News]; n > 0 {
			return Settled, fmt.Sprintf("%s, nothing that is the change’s; %d saw news of the site.", words.Count(len(looks), "look"), n)
		}
		return Settled, words.Count(len(looks), "look") + ", all clear."
	}
	return Waits, strings.Join(why, "; ") + "."
}

// Due tells whether a change goes back by itself for what a look found, and for which finding. class gives a page's class;
// before are what the look before it found.
func Due(r site.GoBack, now, before []Late, class func(page string) string) (Late, bool) {
	if !r.On {
		return Late{}, false
	}
	for _, h := range now {
		switch {
		case h.Weight != evidence.Broken || h.Blame == OfSite || h.Kind == evidence.NotCheckedKind:
		case len(r.Kinds) > 0 && !slices.Contains(r.Kinds, string(h.Kind)):
		case len(r.Classes) > 0 && !slices.Contains(r.Classes, class(h.Page)):
		case r.Proof == site.ByTwice:
			if slices.ContainsFunc(before, func(b Late) bool {
				return b.Page == h.Page && b.Kind == h.Kind && b.Title == h.Title && b.Weight == evidence.Broken
			}) {
				return h, true
			}
		case h.Blame == OfChange:
			return h, true
		}
	}
	return Late{}, false
}
