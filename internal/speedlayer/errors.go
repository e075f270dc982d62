package speedlayer

import (
	"fmt"
	"time"

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
// the site's side (5xx). Reading may be tried again; what a write came to is unknown.
type Unreachable struct {
	Base, Call string
	Cause      error
	Again      time.Duration // after which it asks to be asked again; 0 when it does not say
}

func (e *Unreachable) Error() string {
	return fmt.Sprintf("%s at %s brought no answer: %v. Check that the site is up and try again", e.Call, e.Base, e.Cause)
}

func (e *Unreachable) Unwrap() error { return e.Cause }

// NoAccess says why an environment's settings can be neither read nor changed.
type NoAccess struct{ Why string }

func (e *NoAccess) Error() string { return e.Why }
