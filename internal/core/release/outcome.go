package release

import (
	"errors"
	"time"
)

// Outcome is how an act on a site ended: applied, not applied, or unknown. Nobody can
// look at one of the three without saying what becomes of the others: [Take] is the
// only way in. The zero value is unknown.
type Outcome struct {
	kind outcomeKind
	why  error
}

type outcomeKind int

const (
	unknown outcomeKind = iota
	applied
	notApplied
)

// Applied says that what was to be in force was read back.
func Applied() Outcome { return Outcome{kind: applied} }

// NotApplied says that it is known not to be in force, and why.
func NotApplied(why error) Outcome { return Outcome{notApplied, why} }

// Unknown says that nobody can tell what is in force, and why.
func Unknown(why error) Outcome { return Outcome{unknown, why} }

// Take takes an outcome apart.
func Take[T any](o Outcome, isApplied func() T, isNotApplied, isUnknown func(why error) T) T {
	switch o.kind {
	case applied:
		return isApplied()
	case notApplied:
		return isNotApplied(o.why)
	}
	if o.why == nil {
		o.why = errors.New("nobody said how the act ended")
	}
	return isUnknown(o.why)
}

// ActState is how an act on an environment stands in the record.
type ActState string

// The states of an act.
const (
	Intended      ActState = "intended"    // recorded, and about to be done
	ActApplied    ActState = "applied"     // read back
	ActNotApplied ActState = "not applied" // something else was read back
	ActUnknown    ActState = "unknown"     // nothing could be read back yet
)

// State is the outcome as it is recorded.
func (o Outcome) State() ActState {
	return Take(o, func() ActState { return ActApplied }, func(error) ActState { return ActNotApplied }, func(error) ActState { return ActUnknown })
}

// Settle says what came of an act by the fingerprint that was read back later. found is
// what is in force, to what the act would have brought in force, from what was before.
func Settle(to, from, found string) (ActState, string) {
	switch found {
	case to:
		return ActApplied, "Read back later: the settings are in force."
	case from:
		return ActNotApplied, "Read back later: the earlier settings are in force."
	}
	return ActNotApplied, "Read back later: neither these nor the earlier settings are in force."
}

// The pauses between two attempts at a site that does not answer (common practice: twice
// as long each time, up to a limit that a person would still wait for).
const (
	firstPause = 2 * time.Second
	mostPause  = 5 * time.Minute
)

// Pause is how long to wait after the given number of failed attempts, from 1. There is
// no last attempt: who needs a limit counts.
func Pause(failed int) time.Duration {
	p := firstPause
	for range failed - 1 {
		if p *= 2; p >= mostPause {
			return mostPause
		}
	}
	return p
}
