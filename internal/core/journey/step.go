package journey

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"
)

// Target names an element: the first match in document order that is visible.
// Exactly as in a site file it is a CSS selector, or members that all have to hold.
type Target struct {
	CSS   string `json:"css,omitempty"`
	Role  string `json:"role,omitempty"`
	Name  string `json:"name,omitempty" doc:"Accessible name."`
	Label string `json:"label,omitempty" doc:"Text of a form control's label."`
	Text  string `json:"text,omitempty" doc:"Visible text of the element."`
}

// UnmarshalJSON reads a target that is a selector's text or an object.
func (t *Target) UnmarshalJSON(raw []byte) error {
	var css string
	if json.Unmarshal(raw, &css) == nil {
		*t = Target{CSS: css}
		return nil
	}
	type plain Target
	return json.Unmarshal(raw, (*plain)(t))
}

func (t Target) String() string {
	var parts []string
	if t.Role != "" {
		parts = append(parts, t.Role)
	}
	if t.Name != "" {
		parts = append(parts, fmt.Sprintf("“%s”", t.Name))
	}
	if t.Label != "" {
		parts = append(parts, fmt.Sprintf("the field “%s”", t.Label))
	}
	if t.Text != "" {
		parts = append(parts, fmt.Sprintf("the text “%s”", t.Text))
	}
	if t.CSS != "" {
		parts = append(parts, t.CSS)
	}
	return strings.Join(parts, " ")
}

// Input is a target and a value put into it.
type Input struct {
	In     Target `json:"in"`
	Value  string `json:"value"`
	Secret bool   `json:"secret,omitempty" doc:"The value is never told: not in evidence, and not in what goes out."`
}

// Containing is a target and a text looked for in it.
type Containing struct {
	In       Target `json:"in"`
	Contains string `json:"contains"`
}

// Counted is how many visible elements match a target.
type Counted struct {
	Of Target `json:"of"`
	Is int    `json:"is"`
}

// Pause waits for a stated time: for something that only time brings, such as a
// token growing old.
type Pause struct {
	Milliseconds int    `json:"milliseconds"`
	Why          string `json:"why,omitempty"`
}

// Expect is what must be true; every member that is there has to hold.
type Expect struct {
	Visible *Target     `json:"visible,omitempty"`
	Hidden  *Target     `json:"hidden,omitempty"`
	Text    *Containing `json:"text,omitempty"`
	NoText  *Containing `json:"noText,omitempty"`
	Count   *Counted    `json:"count,omitempty"`
	URL     string      `json:"url,omitempty" doc:"Path and query; * any characters."`
	Status  int         `json:"status,omitempty" doc:"HTTP status of the last document."`
	Request string      `json:"request,omitempty" doc:"Path and query of a request that must have been answered since the last document; * any characters."`
	Mail    string      `json:"mail,omitempty" doc:"Text that a mail has, in its recipient, subject or text, that came to the environment's outbox since the first step."`
	Payment string      `json:"payment,omitempty" doc:"The same of a payment: its reference, amount or outcome."`
}

// Step is one thing a persona does, or one thing that must be true. Exactly one
// member is set.
type Step struct {
	Go       string  `json:"go,omitempty"`
	Click    *Target `json:"click,omitempty"`
	Hover    *Target `json:"hover,omitempty"`
	ScrollTo *Target `json:"scrollTo,omitempty"`
	Press    string  `json:"press,omitempty"`
	Fill     *Input  `json:"fill,omitempty"`
	Choose   *Input  `json:"choose,omitempty"`
	Wait     *Pause  `json:"wait,omitempty"`
	Expect   *Expect `json:"expect,omitempty"`
}

// String says the step as a person would.
func (s Step) String() string {
	switch {
	case s.Go != "":
		return "go to " + s.Go
	case s.Click != nil:
		return "click " + s.Click.String()
	case s.Hover != nil:
		return "point at " + s.Hover.String()
	case s.ScrollTo != nil:
		return "scroll to " + s.ScrollTo.String()
	case s.Press != "":
		return "press " + s.Press
	case s.Fill != nil:
		value := s.Fill.Value
		if s.Fill.Secret {
			value = Untold
		}
		return fmt.Sprintf("fill %s with “%s”", s.Fill.In, value)
	case s.Choose != nil:
		return fmt.Sprintf("choose “%s” in %s", s.Choose.Value, s.Choose.In)
	case s.Wait != nil:
		d := time.Duration(s.Wait.Milliseconds) * time.Millisecond
		if s.Wait.Why != "" {
			return fmt.Sprintf("wait %s: %s", d, s.Wait.Why)
		}
		return "wait " + d.String()
	case s.Expect != nil:
		return "expect " + s.Expect.String()
	}
	return "nothing"
}

func (e Expect) String() string {
	var parts []string
	if e.Visible != nil {
		parts = append(parts, e.Visible.String()+" to be visible")
	}
	if e.Hidden != nil {
		parts = append(parts, e.Hidden.String()+" to be hidden")
	}
	if e.Text != nil {
		parts = append(parts, fmt.Sprintf("“%s” in %s", e.Text.Contains, e.Text.In))
	}
	if e.NoText != nil {
		parts = append(parts, fmt.Sprintf("no “%s” in %s", e.NoText.Contains, e.NoText.In))
	}
	if e.Count != nil {
		parts = append(parts, fmt.Sprintf("%d × %s", e.Count.Is, e.Count.Of))
	}
	if e.URL != "" {
		parts = append(parts, "the address to be "+e.URL)
	}
	if e.Status != 0 {
		parts = append(parts, fmt.Sprintf("status %d", e.Status))
	}
	if e.Request != "" {
		parts = append(parts, "a request for "+e.Request)
	}
	if e.Mail != "" {
		parts = append(parts, fmt.Sprintf("a mail with “%s” to be delivered", e.Mail))
	}
	if e.Payment != "" {
		parts = append(parts, fmt.Sprintf("a payment with “%s” to be made", e.Payment))
	}
	return strings.Join(parts, ", ")
}

// Journey is a named row of steps.
type Journey struct {
	Name    string   `json:"name"`
	Persona string   `json:"persona,omitempty"`
	Devices []string `json:"devices,omitempty"`
	Where   []string `json:"where,omitempty" doc:"Environments it may run on; all when absent."`
	Steps   []Step   `json:"steps"`
}

// RunsOn tells whether the journey may run on an environment.
func (j Journey) RunsOn(environment string) bool {
	if len(j.Where) == 0 {
		return true
	}
	for _, w := range j.Where {
		if w == environment {
			return true
		}
	}
	return false
}

// StartPage is the path of the first page the journey opens, "/" when it opens none.
func (j Journey) StartPage() string {
	for _, s := range j.Steps {
		if s.Go != "" {
			return s.Go
		}
	}
	return "/"
}

// PageAt is the path of the page that the journey last went to at a step.
func (j Journey) PageAt(step int) string {
	page := j.StartPage()
	for _, s := range j.Steps[:min(step+1, len(j.Steps))] {
		if s.Go != "" {
			page = s.Go
		}
	}
	return page
}

// StepOutcome is what came of one step.
type StepOutcome struct {
	Step    string  `json:"step" doc:"The step in words."`
	Passed  bool    `json:"passed" doc:"It was done, or what was expected was so."`
	Why     string  `json:"why,omitempty" doc:"What was seen instead."`
	At      string  `json:"at,omitempty" doc:"Path and query of the page after the step."`
	Took    float64 `json:"took" doc:"Milliseconds."`
	Picture string  `json:"picture,omitempty" doc:"SHA-256 of the picture taken after it."`
}

// Outcome is what came of one run of a journey: the steps up to the first that did
// not hold.
type Outcome struct {
	Steps []StepOutcome `json:"steps"`
}

// Failed is the index of the step that did not hold, or -1.
func (o Outcome) Failed() int {
	for i, s := range o.Steps {
		if !s.Passed {
			return i
		}
	}
	return -1
}
