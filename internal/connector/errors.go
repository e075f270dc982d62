package connector

import (
	"fmt"

	"tidemarker/internal/core/settings"
)

// ChangedElsewhere says that somebody else changed the settings since they were last
// read (412). Nothing was applied.
type ChangedElsewhere struct{ Base string }

func (e *ChangedElsewhere) Error() string {
	return fmt.Sprintf("the settings at %s were changed elsewhere since they were last read; nothing was applied. Read them again and look at what changed", e.Base)
}

// Refused says that the site does not accept some values (422). Nothing was applied.
type Refused struct {
	Base   string
	Detail string
	Keys   settings.Refusals
}

func (e *Refused) Error() string {
	if len(e.Keys) == 0 {
		return fmt.Sprintf("the site at %s refused the values and named no key: %s. Nothing was applied", e.Base, e.Detail)
	}
	return fmt.Sprintf("the site at %s refused the values; nothing was applied: %s", e.Base, e.Keys.Error())
}

// Unauthorised says that the token is missing or wrong (401, 403).
type Unauthorised struct {
	Base   string
	Status int
}

func (e *Unauthorised) Error() string {
	return fmt.Sprintf("the connector at %s does not accept the token (status %d). Check the token in the site file, or the environment variable it names", e.Base, e.Status)
}

// NotAConnector says that something answered that does not speak the protocol.
type NotAConnector struct {
	Base, Call, Why string
}

func (e *NotAConnector) Error() string {
	return fmt.Sprintf("%s at %s is not answered as the connector protocol says: %s. Check the connector's address in the site file", e.Call, e.Base, e.Why)
}

// Unreachable says that no answer came: refused, timed out, cut off, or a fault on
// the site's side (5xx). Reading may be tried again; for a write see [Uncertain].
type Unreachable struct {
	Base, Call string
	Cause      error
}

func (e *Unreachable) Error() string {
	return fmt.Sprintf("%s at %s brought no answer: %v. Check that the site is up and try again", e.Call, e.Base, e.Cause)
}

func (e *Unreachable) Unwrap() error { return e.Cause }

// Uncertain says that a write brought no answer and that reading back brought none
// either: the values may or may not be in force.
type Uncertain struct {
	Base  string
	Cause error
}

func (e *Uncertain) Error() string {
	return fmt.Sprintf("it is not known whether the settings at %s were applied: the connection was lost and reading back failed: %v. They will be read back when the site answers", e.Base, e.Cause)
}

func (e *Uncertain) Unwrap() error { return e.Cause }
