package api

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/act"
	"tidemarker/internal/changes"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/exclusions"
	"tidemarker/internal/inspect"
	"tidemarker/internal/run"
	"tidemarker/internal/scheduled"
	"tidemarker/internal/speedlayer"
	"tidemarker/internal/store"
	"tidemarker/internal/watching"
)

// problem turns an error into the problem details that a person can act on. What is
// nobody's doing but ours goes to the log, and not out.
func problem(err error) error {
	if err == nil {
		return nil
	}
	if _, ok := errors.AsType[huma.StatusError](err); ok {
		return err
	}
	for _, known := range []func(error) error{notThere, notNow, notRight, siteFault} {
		if p := known(err); p != nil {
			return p
		}
	}
	if errors.Is(err, context.Canceled) {
		return huma.Error503ServiceUnavailable("It was broken off before it was done.")
	}
	return failed(slog.Default(), "an operation failed", "why", err)
}

func notThere(err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return huma.Error404NotFound(err.Error())
	}
	return nil
}

// as tells whether an error is of a type.
func as[E error](err error) bool {
	_, ok := errors.AsType[E](err)
	return ok
}

// notNow is what cannot be done now, and why.
func notNow(err error) error {
	switch {
	case errors.Is(err, scheduled.ErrEdited), as[*release.NotAllowed](err), as[*release.NoMove](err), as[*changes.Conflict](err), as[*watching.Conflict](err), as[*act.Busy](err), as[*run.NotIdle](err), as[*run.NoSearch](err), as[*act.StillUnknown](err), as[*speedlayer.NoAccess](err):
		return huma.Error409Conflict(sentence(err))
	case as[*store.StillRecorded](err), errors.Is(err, store.ErrLastAdministrator), as[*site.RolesChanged](err):
		return huma.Error409Conflict("Nothing was changed: " + err.Error() + ".")
	}
	if none, is := errors.AsType[*inspect.NothingToPredict](err); is {
		return huma.Error409Conflict(none.Why)
	}
	if theirs, ok := errors.AsType[*changes.Edited](err); ok {
		return huma.Error409Conflict(theirs.Error(), &huma.ErrorDetail{Location: "body.version", Message: "It is another by now.", Value: theirs.Version})
	}
	if no, ok := errors.AsType[*run.NotAccepted](err); ok {
		if no.Lacking {
			return huma.Error422UnprocessableEntity(no.Why)
		}
		return huma.Error409Conflict(no.Why)
	}
	return nil
}

// notRight is what somebody gave that is not right.
func notRight(err error) error {
	switch {
	case as[*act.NotPossible](err), as[*changes.NotPatterns](err), as[*changes.NotRight](err), as[*scheduled.NotRight](err):
		return huma.Error422UnprocessableEntity(err.Error())
	case as[*site.MissingSecret](err):
		return huma.Error422UnprocessableEntity("Nothing was changed: " + err.Error() + ".")
	}
	if r, ok := errors.AsType[*exclusions.Refused](err); ok {
		return refusedInput(r.Where, r.Err)
	}
	if faults, ok := errors.AsType[exclusions.LineFaults](err); ok {
		var details []error
		for _, x := range faults[:min(len(faults), 100)] {
			details = append(details, &huma.ErrorDetail{Message: x.Error(), Location: fmt.Sprintf("body.text line %d", x.Line)})
		}
		return huma.Error422UnprocessableEntity(faults.Error(), details...)
	}
	if refused, ok := errors.AsType[settings.Refusals](err); ok {
		var details []error
		for _, e := range refused {
			details = append(details, &huma.ErrorDetail{Message: e.Why, Location: "body.edits." + e.Key})
		}
		return huma.Error422UnprocessableEntity("Nothing was saved: "+refused.Error(), details...)
	}
	if refused, ok := errors.AsType[*speedlayer.Refused](err); ok {
		var details []error
		for _, k := range refused.Keys {
			details = append(details, &huma.ErrorDetail{Message: k.Why, Location: "values." + k.Key})
		}
		return huma.Error422UnprocessableEntity(refused.Error(), details...)
	}
	return nil
}

func siteFault(err error) error {
	if as[*speedlayer.Unreachable](err) || as[*speedlayer.Unauthorised](err) || as[*speedlayer.NotAConnector](err) {
		return huma.Error502BadGateway(err.Error())
	}
	return nil
}

// sentence is an error as a sentence.
func sentence(err error) string {
	text := err.Error()
	first, size := utf8.DecodeRuneInString(text)
	text = string(unicode.ToUpper(first)) + text[size:]
	if strings.HasSuffix(text, ".") {
		return text
	}
	return text + "."
}
