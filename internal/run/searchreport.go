package run

import (
	"context"
	"errors"

	"tidemarker/internal/core/culprit"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/store"
)

// CulpritReport is what a search found, as culprit-report.schema.json of the contract has it.
type CulpritReport struct {
	Verdict  string          `json:"verdict" enum:"found,not broken,not found,not checked"`
	Summary  string          `json:"summary"`
	Culprits []CulpritOfEdit `json:"culprits"`
	Innocent []string        `json:"innocent" doc:"Keys that were shown to break nothing."`
	Checks   int             `json:"checks" doc:"How often settings were put in force and looked at, controls included."`
	Seconds  float64         `json:"seconds"`
	Restored bool            `json:"restored" doc:"Staging was read back as it was before."`
}

// CulpritOfEdit is a smallest part of the change that breaks the site by itself.
type CulpritOfEdit struct {
	Edits      []ReportedEdit      `json:"edits"`
	Exclusions []ReportedExclusion `json:"exclusions,omitempty" doc:"The fewest that must be excluded so that these edits may stay; absent when no exclusion helps or none was looked for."`
	Cause      string              `json:"cause,omitempty"`
}

// ReportedExclusion is what has to be excluded by one setting.
type ReportedExclusion struct {
	Key      string   `json:"key" doc:"Setting with the exclusion list."`
	Patterns []string `json:"patterns"`
}

// ReportedEdit is an edit of a culprit, or some entries of a list.
type ReportedEdit struct {
	Key     string   `json:"key"`
	Value   any      `json:"value,omitempty"`
	Entries []string `json:"entries,omitempty" doc:"Only these entries of a list, when not the whole edit."`
}

// Searchable says why what a run found cannot be searched for, "" when it can be.
func (w *Runner) Searchable(ctx context.Context, of int64) (why string, err error) {
	_, _, err = searchOf(ctx, w.Store, of)
	if no, is := errors.AsType[*NoSearch](err); is {
		return no.Why, nil
	}
	return "", err
}

// ReportSearch is the report of a search, of what is known so far while it goes on.
func ReportSearch(ctx context.Context, s *store.Store, r store.Run) (CulpritReport, error) {
	x, err := s.Search(ctx, r.ID)
	if err != nil {
		return CulpritReport{}, err
	}
	answers, err := s.SearchAnswers(ctx, r.ID)
	if err != nil {
		return CulpritReport{}, err
	}
	found, err := findingsOf(ctx, s, x.OfRunID)
	if err != nil {
		return CulpritReport{}, err
	}
	step, parts := x.Step.V, x.Problem.V.Parts
	out := CulpritReport{Verdict: searchVerdict(r, step), Summary: r.Summary, Culprits: []CulpritOfEdit{}, Innocent: []string{}, Restored: r.Restored}
	cause := ""
	if len(found) > 0 {
		evidence.Sort(found)
		cause = found[0].Title
	}
	for i, set := range step.Culprits {
		c := CulpritOfEdit{Edits: reported(pick(parts, set))}
		if len(step.Culprits) == 1 {
			c.Cause = cause
		}
		for _, e := range x.Exclusions.V {
			var patterns []string
			for _, n := range e.Fewest {
				patterns = append(patterns, e.Candidates[n].Pattern)
			}
			if e.Culprit == i && len(patterns) > 0 {
				c.Exclusions = append(c.Exclusions, ReportedExclusion{e.Key, patterns})
			}
		}
		out.Culprits = append(out.Culprits, c)
	}
	bad := map[string]bool{}
	for i, p := range parts {
		if step.StateOf(i) != culprit.Innocent {
			bad[p.Key] = true
		}
	}
	last := ""
	for _, p := range parts {
		if !bad[p.Key] && p.Key != last {
			out.Innocent, last = append(out.Innocent, p.Key), p.Key
		}
	}
	for _, a := range answers {
		if a.FromRunID == nil && a.Rounds > 0 {
			out.Checks++
		}
	}
	if r.StartedAt != nil && r.FinishedAt != nil {
		out.Seconds = r.FinishedAt.Sub(*r.StartedAt).Seconds()
	}
	return out, nil
}

func searchVerdict(r store.Run, step culprit.Step) string {
	switch {
	case r.Verdict == evidence.VerdictNotChecked:
		return "not checked"
	case len(step.Culprits) > 0:
		return "found"
	case step.Clear:
		return "not broken"
	}
	return "not found"
}

// reported are parts as edits: entries of one list together.
func reported(parts []culprit.Part) []ReportedEdit {
	var out []ReportedEdit
	for _, p := range parts {
		switch n := len(out); {
		case p.Entry == "":
			out = append(out, ReportedEdit{Key: p.Key, Value: p.Value})
		case n > 0 && out[n-1].Key == p.Key:
			out[n-1].Entries = append(out[n-1].Entries, p.Entry)
		default:
			out = append(out, ReportedEdit{Key: p.Key, Entries: []string{p.Entry}})
		}
	}
	return out
}
