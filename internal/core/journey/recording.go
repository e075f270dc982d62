package journey

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
)

// The open JSON format in which a browser's recorder panel keeps what somebody did, as the
// schema of the npm package @puppeteer/replay 3.1.3 has it. Read and written are navigate,
// click, hover, change, keyDown and keyUp, scroll, setViewport and waitForElement; what a
// recording cannot say of a journey goes into a customStep, which other programs pass over.

// mostRecorded is how many steps a recording may have.
const mostRecorded = 500

// recorded is one step of a recording, of any type.
type recorded struct {
	Type           string          `json:"type"`
	URL            string          `json:"url,omitempty"`
	Selectors      []selector      `json:"selectors,omitempty"`
	Value          *string         `json:"value,omitempty"`
	Key            string          `json:"key,omitempty"`
	OffsetX        *float64        `json:"offsetX,omitempty"`
	OffsetY        *float64        `json:"offsetY,omitempty"`
	Width          int             `json:"width,omitempty"`
	Height         int             `json:"height,omitempty"`
	Scale          float64         `json:"deviceScaleFactor,omitempty"`
	Mobile         *bool           `json:"isMobile,omitempty"`
	Touch          *bool           `json:"hasTouch,omitempty"`
	Landscape      *bool           `json:"isLandscape,omitempty"`
	Operator       string          `json:"operator,omitempty"`
	Count          *int            `json:"count,omitempty"`
	Visible        *bool           `json:"visible,omitempty"`
	Properties     json.RawMessage `json:"properties,omitempty"`
	Attributes     json.RawMessage `json:"attributes,omitempty"`
	Frame          []int           `json:"frame,omitempty"`
	Name           string          `json:"name,omitempty"`
	Parameters     *Step           `json:"parameters,omitempty"`
	AssertedEvents []struct {
		Type string `json:"type"`
		URL  string `json:"url,omitempty"`
	} `json:"assertedEvents,omitempty"`
}

// selector is one way to an element: a text, or one for each shadow root on the way.
type selector []string

// UnmarshalJSON reads a text or a list of them.
func (s *selector) UnmarshalJSON(raw []byte) error {
	var one string
	if json.Unmarshal(raw, &one) == nil {
		*s = selector{one}
		return nil
	}
	return json.Unmarshal(raw, (*[]string)(s))
}

// MarshalJSON writes it as recorders do.
func (s selector) MarshalJSON() ([]byte, error) { return json.Marshal([]string(s)) }

type recording struct {
	Title string     `json:"title"`
	Steps []recorded `json:"steps"`
}

// customName names the customStep that holds a step of ours.
const customName = "tide-marker"

// ReadRecording makes a journey of a recording. notes tell, step by step, of what it has that
// a journey has not. It fails on what is no recording and on one that leads nowhere.
func ReadRecording(raw []byte) (j Journey, notes []string, err error) {
	var r recording
	dec := json.NewDecoder(bytes.NewReader(raw))
	if err := dec.Decode(&r); err != nil {
		return j, nil, fmt.Errorf("this is no recording: %w", err)
	}
	switch {
	case strings.TrimSpace(r.Title) == "":
		return j, nil, errors.New("this is no recording: it has no title")
	case len(r.Steps) == 0:
		return j, nil, errors.New("the recording has no steps")
	case len(r.Steps) > mostRecorded:
		return j, nil, fmt.Errorf("the recording has %d steps; a journey has %d at most", len(r.Steps), mostRecorded)
	}
	rd := reading{journey: Journey{Name: strings.TrimSpace(r.Title)}}
	for i, s := range r.Steps {
		rd.at = i + 1
		if err := rd.step(s); err != nil {
			return j, nil, fmt.Errorf("step %d (%s): %w", i+1, s.Type, err)
		}
	}
	if !slices.ContainsFunc(rd.journey.Steps, func(s Step) bool { return s.Go != "" }) {
		return j, nil, errors.New("the recording goes to no page: record it from the address on")
	}
	return rd.journey, rd.notes, nil
}

// reading is a recording being read.
type reading struct {
	journey Journey
	host    string // of the first page
	notes   []string
	at      int
}

func (r *reading) note(text string, args ...any) {
	r.notes = append(r.notes, fmt.Sprintf("Step %d: ", r.at)+fmt.Sprintf(text, args...))
}

func (r *reading) add(s Step) { r.journey.Steps = append(r.journey.Steps, s) }

// Long because it has one case for each type of step.
func (r *reading) step(s recorded) error {
	if len(s.Frame) > 0 && s.Type != "scroll" {
		r.note("what is done in a frame inside the page is left out.")
		return nil
	}
	switch s.Type {
	case "setViewport":
		r.journey.Devices = []string{"desktop"}
		if s.Mobile != nil && *s.Mobile {
			r.journey.Devices = []string{"phone"}
		}
	case "navigate":
		return r.navigate(s)
	case "click", "doubleClick":
		if s.Type == "doubleClick" {
			r.note("it is clicked once instead of twice.")
		}
		return r.on(s, func(t Target) { r.add(Step{Click: &t}) })
	case "hover":
		return r.on(s, func(t Target) { r.add(Step{Hover: &t}) })
	case "change":
		return r.on(s, func(t Target) {
			in := Input{In: t}
			if s.Value != nil {
				in.Value = *s.Value
			}
			if in.Secret = secretField.MatchString(t.String()); in.Secret {
				r.note("the value is kept as a secret, since its field is one for passwords.")
			}
			r.add(Step{Fill: &in})
		})
	case "keyDown":
		if slices.Contains([]string{"Shift", "Control", "Alt", "Meta"}, strings.TrimSuffix(strings.TrimSuffix(s.Key, "Left"), "Right")) {
			r.note("%s is not held down.", s.Key)
			return nil
		}
		if s.Key == "" {
			return errors.New("it names no key")
		}
		r.add(Step{Press: strings.NewReplacer("\r", "Enter", "\n", "Enter").Replace(s.Key)})
	case "keyUp", "close":
	case "scroll":
		if len(s.Selectors) == 0 {
			return nil // pages are scrolled through anyway
		}
		return r.on(s, func(t Target) { r.add(Step{ScrollTo: &t}) })
	case "waitForElement":
		return r.waited(s)
	case "customStep":
		if s.Name == customName && s.Parameters != nil {
			r.add(*s.Parameters)
			return nil
		}
		r.note("“%s” is another program's own step and is left out.", s.Name)
	case "waitForExpression", "emulateNetworkConditions":
		r.note("%s is left out: a journey runs no code and keeps the line as it is.", s.Type)
	default:
		return errors.New("there is no such type of step")
	}
	r.asserted(s)
	return nil
}

// secretField tells fields for what nobody else may know.
var secretField = regexp.MustCompile(`(?i)passw|passcode|one-time|\bpin\b|\bcvc\b`)

func (r *reading) navigate(s recorded) error {
	u, err := url.Parse(s.URL)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		if s.URL == "about:blank" || strings.HasPrefix(s.URL, "chrome:") {
			return nil
		}
		return fmt.Errorf("%q is no address of a page", s.URL)
	}
	if r.host == "" {
		r.host = u.Host
	}
	if u.Host != r.host {
		r.note("%s is another host than %s; it is left out.", u.Host, r.host)
		return nil
	}
	path := u.RequestURI()
	if u.Fragment != "" {
		path += "#" + u.EscapedFragment()
	}
	r.add(Step{Go: path})
	return nil
}

// on does something with the target of a step, and adds what is asserted of it.
func (r *reading) on(s recorded, do func(Target)) error {
	t, err := targetOf(s.Selectors)
	if err != nil {
		return err
	}
	do(t)
	r.asserted(s)
	return nil
}

// asserted adds that a step has to lead to an address.
func (r *reading) asserted(s recorded) {
	for _, e := range s.AssertedEvents {
		u, err := url.Parse(e.URL)
		if e.Type != "navigation" || e.URL == "" || err != nil || u.Host != r.host || s.Type == "navigate" {
			continue
		}
		r.add(Step{Expect: &Expect{URL: u.RequestURI()}})
	}
}

func (r *reading) waited(s recorded) error {
	t, err := targetOf(s.Selectors)
	if err != nil {
		return err
	}
	if len(s.Properties) > 0 || len(s.Attributes) > 0 {
		r.note("its attributes and properties are not looked at.")
	}
	n := 1
	if s.Count != nil {
		n = *s.Count
	}
	there := s.Visible == nil || *s.Visible
	switch {
	case !there || s.Operator == "==" && n == 0 || s.Operator == "<=" && n == 0:
		r.add(Step{Expect: &Expect{Hidden: &t}})
	case s.Operator == "==" && s.Count != nil:
		r.add(Step{Expect: &Expect{Count: &Counted{Of: t, Is: n}}})
	default:
		if n > 1 || s.Operator == "<=" {
			r.note("it is looked for once; %s %d is not counted.", s.Operator, n)
		}
		r.add(Step{Expect: &Expect{Visible: &t}})
	}
	return nil
}

// aria takes the selector of an element by its accessible name apart.
var aria = regexp.MustCompile(`^aria/(.*?)(?:\[role="([^"]+)"\])?$`)

// targetOf names an element by the best of its selectors: by role and name, by text, by CSS.
func targetOf(list []selector) (Target, error) {
	best, rank := Target{}, 0
	for _, s := range list {
		if len(s) == 0 {
			continue
		}
		last := s[len(s)-1]
		t, is := Target{CSS: strings.TrimPrefix(strings.TrimPrefix(last, "css/"), "pierce/")}, 1
		switch m := aria.FindStringSubmatch(last); {
		case m != nil && m[1] != "":
			t, is = Target{Name: m[1], Role: m[2]}, 4
		case strings.HasPrefix(last, "text/"):
			t, is = Target{Text: strings.TrimPrefix(last, "text/")}, 3
		case strings.HasPrefix(last, "xpath/") || m != nil || strings.TrimSpace(last) == "":
			continue
		case strings.HasPrefix(t.CSS, "#"):
			is = 2
		}
		if is > rank {
			best, rank = t, is
		}
	}
	if rank == 0 {
		return best, errors.New("it names no element in a way that is known: by its accessible name, its text, or a CSS selector")
	}
	return best, nil
}
