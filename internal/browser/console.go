package browser

import (
	"strings"

	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/core/evidence"
)

func (t *tab) threw(d *proto.RuntimeExceptionDetails) {
	msg := d.Text
	if d.Exception != nil && d.Exception.Description != "" {
		msg, _, _ = strings.Cut(d.Exception.Description, "\n")
	} else if d.Exception != nil && !d.Exception.Value.Nil() {
		msg += " " + d.Exception.Value.String()
	}
	source := d.URL
	if source == "" && d.StackTrace != nil && len(d.StackTrace.CallFrames) > 0 {
		source = d.StackTrace.CallFrames[0].URL
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.errors) < manyErrors {
		by := scriptsOn(d.StackTrace)
		for i := range by {
			by[i] = clip(by[i])
		}
		t.errors = append(t.errors, evidence.ScriptError{Message: clip(msg), Source: clip(source), Line: d.LineNumber + 1, By: by})
	}
}

func (t *tab) logged(e *proto.RuntimeConsoleAPICalled) {
	t.tooMuch(&t.lines, 1, mostLines, "wrote more than 20,000 lines to the console")
	if e.Type != proto.RuntimeConsoleAPICalledTypeError {
		return
	}
	var parts []string
	for _, a := range e.Args {
		if a.Description != "" {
			parts = append(parts, a.Description)
		} else {
			parts = append(parts, a.Value.String())
		}
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.console) < manyErrors {
		t.console = append(t.console, clip(strings.Join(parts, " ")))
	}
}
