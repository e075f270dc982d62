package prediction

import (
	"slices"
	"strings"

	"tidemarker/internal/core/evidence"
)

// Outcome is what a run made of something predicted.
type Outcome string

// The outcomes.
const (
	Right   Outcome = "right"    // it came
	Wrong   Outcome = "wrong"    // it was looked for and did not come
	NotSeen Outcome = "not seen" // none of its places was looked at
)

// Held is something predicted and what became of it.
type Held struct {
	Prediction
	Outcome Outcome `json:"outcome" enum:"right,wrong,not seen"`
	Finding string  `json:"finding,omitempty" doc:"Title of the finding that says so."`
}

// Record is what was predicted of a change, held against a run of it.
type Record struct {
	Held   []Held   `json:"held"`
	Missed []string `json:"missed" doc:"What was found and not predicted, of what can be: the first finding of each cause."`
}

// Count is how many predictions had an outcome.
func (r Record) Count(o Outcome) int {
	n := 0
	for _, h := range r.Held {
		if h.Outcome == o {
			n++
		}
	}
	return n
}

// shows are the kinds of findings by which each kind of prediction shows; all when there are none.
var shows = map[Kind][]evidence.Kind{
	NotDefined: {evidence.ScriptErrorKind, evidence.JourneyKind, evidence.ContentKind, evidence.PictureKind},
	Jumps:      {evidence.ShiftKind},
	DrawnBare:  {evidence.ShiftKind, evidence.PictureKind, evidence.ContentKind},
	Small:      {evidence.PictureKind, evidence.ContentKind},
	Unstyled:   {evidence.PictureKind, evidence.JourneyKind, evidence.ContentKind, evidence.MissingKind, evidence.RequestKind, evidence.ShiftKind},
}

// predictable are the kinds of findings that scripts and styles make; what else is found was never
// to be predicted from them.
var predictable = []evidence.Kind{evidence.ScriptErrorKind, evidence.JourneyKind, evidence.PictureKind, evidence.ShiftKind, evidence.ContentKind, evidence.MissingKind, evidence.RequestKind}

// Hold holds what was predicted against what a run found. looked are the places that it looked at.
func Hold(predicted []Prediction, found []evidence.Finding, looked []evidence.Key) Record {
	out := Record{Held: []Held{}, Missed: []string{}}
	told := make([]bool, len(found))
	for _, p := range predicted {
		h := Held{Prediction: p, Outcome: NotSeen}
		for _, k := range looked {
			if slices.Contains(p.Places, Place{k.Page, k.Persona, k.Device}) {
				h.Outcome = Wrong
				break
			}
		}
		for i, f := range found {
			if !p.explains(f) {
				continue
			}
			told[i] = true
			if h.Outcome != Right {
				h.Outcome, h.Finding = Right, f.Title
			}
		}
		out.Held = append(out.Held, h)
	}
	explained := map[string]bool{}
	for i, f := range found {
		if told[i] {
			explained[f.Cause] = true
		}
	}
	for i, f := range found {
		weighs := f.Severity != evidence.Note && !f.Symptom && !f.Known && slices.Contains(predictable, f.Kind)
		if weighs && !told[i] && !explained[f.Cause] {
			explained[f.Cause] = true // once
			out.Missed = append(out.Missed, f.Title)
		}
	}
	return out
}

// explains tells whether a finding is what was predicted: on one of its pages, of a kind by which it shows,
// and naming what it is about where that is a name.
func (p Prediction) explains(f evidence.Finding) bool {
	if f.Severity == evidence.Note {
		return false
	}
	said := f.Title + "\n" + f.Detail + "\n" + f.Cause
	if p.Kind == Contradict {
		return f.Known && p.Title == f.Title
	}
	if p.Kind == Host {
		return strings.Contains(said, p.About)
	}
	if !slices.Contains(p.Pages(), f.Page) {
		return false
	}
	if kinds := shows[p.Kind]; kinds != nil && !slices.Contains(kinds, f.Kind) {
		return false
	}
	return p.Kind != NotDefined || strings.Contains(said, p.About)
}
