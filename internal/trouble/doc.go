// Package trouble names the points of a process's work at which it is killed on purpose, to see what is left behind.
//
// A program as it is released holds none of this: [At] does nothing unless it was built with the tag trouble, as the soak
// builds it (internal/soak).
package trouble

// The points, in the order of a run's life. Phases of a run are points, too: "phase " and the name.
const (
	Begun      = "a run was begun"
	Intending  = "before an intent is kept"
	Intended   = "an intent was kept"
	Told       = "the site was told"
	ReadBack   = "settings were read back"
	ActEnded   = "an act's outcome was kept"
	Purged     = "pages were purged"
	Warmed     = "pages were warmed"
	Editing    = "a test edit is about to be published"
	Published  = "a test edit was published"
	TakenBack  = "a test edit was taken back"
	LookKept   = "a look was kept"
	LoadKept   = "a load was kept"
	AnswerKept = "a search's answer was kept"
	Ending     = "before a run's end is kept"
	Ended      = "a run's end was kept"
	HandedIn   = "a run was handed in"
	SteppingUp = "a step-up went a step"
	Committing = "before a transaction is committed"
	Committed  = "a transaction was committed"
)

// Variable names, in the environment, the point at which a process kills itself, and at which passing of it: "an intent was kept#2". LogVariable
// is the file to which it says so before.
const (
	Variable    = "TIDEMARKER_TROUBLE_AT"
	LogVariable = "TIDEMARKER_TROUBLE_LOG"
)

// Points are all of them but the phases.
func Points() []string {
	return []string{Begun, Intending, Intended, Told, ReadBack, ActEnded, Purged, Warmed, Editing, Published, TakenBack, LookKept, LoadKept, AnswerKept, Ending, Ended,
		HandedIn, SteppingUp, Committing, Committed}
}

// Phase is the point at which a run comes into a phase.
func Phase(name string) string { return "phase " + name }
