package release

import (
	"fmt"

	"tidemarker/internal/core/evidence"
)

// RunKind says what a run is for.
type RunKind string

// The kinds of runs.
const (
	MarkRun      RunKind = "mark"
	TryRun       RunKind = "try"
	PromoteRun   RunKind = "promote"
	RollBackRun  RunKind = "roll back"
	CheckRun     RunKind = "check"          // looks at an environment as it is
	IsolationRun RunKind = "isolation test" // asks for pages as everybody, without looking at them
	RecheckRun   RunKind = "recheck"        // looks at what grew old since another run
	CulpritRun   RunKind = "culprit search" // finds what in a change breaks the site
	MeasureRun   RunKind = "measure"        // loads pages with a change and without it, in turns
	TidyRun      RunKind = "tidy"           // deletes again what a change deleted once, and looks at production
)

// RestoresWhenItFails tells whether a run that cannot be finished brings back what it
// found. A rollback does not: where it goes to is the safer side.
func (k RunKind) RestoresWhenItFails() bool { return k == TryRun || k == PromoteRun }

// RunState says how far a run has come.
type RunState string

// The states of a run.
const (
	Queued    RunState = "queued"
	Waiting   RunState = "waiting" // for the run before it
	Running   RunState = "running"
	ByHand    RunState = "by hand" // a person is to carry something out
	Unsettled RunState = "unknown" // it acted, and nothing could be read back yet
	Done      RunState = "done"
	Stopped   RunState = "stopped" // by a person
	Failed    RunState = "failed"
)

// Over tells whether a run has ended.
func (s RunState) Over() bool { return s == Done || s == Stopped || s == Failed }

// OpenRuns are the states of runs that have not ended.
var OpenRuns = []RunState{Queued, Waiting, Running, ByHand, Unsettled}

// MostAttempts is how often a run is begun before it is given up.
const MostAttempts = 5

// RunEvent is what can happen to a run.
type RunEvent string

// The events of a run.
const (
	RunBegins   RunEvent = "begins"   // a worker takes it up
	RunReleased RunEvent = "released" // the run before it ended clear
	RunRests    RunEvent = "rests"    // until a person has carried something out
	RunLost     RunEvent = "lost"     // what its act came to is not known
	RunResumes  RunEvent = "resumes"  // what it waited for is known
	RunFinished RunEvent = "finished" // it came to a verdict
	RunFailed   RunEvent = "failed"   // it could not come to one
	RunStopped  RunEvent = "stopped"  // a person stopped it
	RunSkipped  RunEvent = "skipped"  // the run before it did not end clear
)

// RunMove is one line of the table of runs.
type RunMove struct {
	From  RunState
	Event RunEvent
	To    RunState
}

// RunTable lists every move that a run can make. A run that is cut off stays running;
// whoever finds that nobody works on it begins it again.
var RunTable = []RunMove{
	{Waiting, RunReleased, Queued},
	{Waiting, RunStopped, Stopped},
	{Waiting, RunSkipped, Stopped},

	{Queued, RunBegins, Running},
	{Queued, RunStopped, Stopped},

	{Running, RunBegins, Running},
	{Running, RunRests, ByHand},
	{Running, RunLost, Unsettled},
	{Running, RunFinished, Done},
	{Running, RunFailed, Failed},
	{Running, RunStopped, Stopped},

	{ByHand, RunResumes, Queued},
	{Unsettled, RunResumes, Queued},
}

// ApplyRun returns a run's state after an event, or an error that says that it cannot be.
func ApplyRun(s RunState, e RunEvent) (RunState, error) {
	for _, m := range RunTable {
		if m.From == s && m.Event == e {
			return m.To, nil
		}
	}
	return s, fmt.Errorf("a run that is %s cannot be told that it %s", s, string(e))
}

// StopsAtOnce tells whether a run in this state ends when a person stops it. In every
// other open state somebody is at work, or has to find out first what is in force; then
// the wish is kept and carried out as soon as that is known.
func (s RunState) StopsAtOnce() bool { return s == Queued || s == Waiting }

// RunEnd is how a run ended, as far as its change is concerned.
type RunEnd struct {
	Kind         RunKind
	Verdict      evidence.Verdict
	Finished     bool // it came to a verdict
	OnStaging    bool // staging has the change now
	OnProduction bool // production has it
}

// Event is what the end of a run means to its change; ok is false when it means nothing.
func (e RunEnd) Event() (Event, bool) {
	clear := e.Finished && e.Verdict == evidence.VerdictClear
	switch e.Kind {
	case TryRun:
		switch {
		case e.Finished && e.OnStaging:
			return Ended, true
		case e.OnStaging:
			return Interrupted, true
		}
		return Undone, true
	case PromoteRun:
		switch {
		case clear && e.OnProduction:
			return Ended, true
		case e.OnProduction:
			return Interrupted, true
		}
		return Undone, true
	case RollBackRun:
		switch {
		case e.OnProduction:
			return Undone, true
		case e.OnStaging:
			return Interrupted, true
		case clear:
			return Ended, true
		}
		return WasRestored, true
	}
	return "", false
}
