package evidence

import (
	"fmt"
	"strings"
)

// notReady is the cause of all that is not known because a persona could not be made
// ready.
func notReady(persona string) string { return string(JourneyKind) + ": getting ready as " + persona }

// CompareReady tells of a persona that can no longer be made ready: what it looks at is not
// checked then, and nothing is said of what it is shown.
func CompareReady(base Baseline, j JourneyLook) []Finding {
	why := j.NotReady()
	if why == nil {
		return nil
	}
	m, known := base.Look.journey(j.Key)
	if j.Missing != "" || known && m.NotReady() != nil {
		return []Finding{j.about(NotCheckedKind, Broken, "Nobody can be made ready as "+j.Persona).with("%s", why).dueTo(notReady(j.Persona))}
	}
	failed := j.Outcome.Failed()
	f := j.about(JourneyKind, Broken, fmt.Sprintf("Nobody can be made ready as %s: %s does not work", j.Persona, j.Outcome.Steps[failed].Step)).
		with("%s What %s would look at is not checked.", j.Outcome.Steps[failed].Why, j.Persona)
	if want, is := strings.CutPrefix(j.Outcome.Steps[failed].Step, "expect "); is {
		f.Title = fmt.Sprintf("Nobody can be made ready as %s: expected %s", j.Persona, want)
	}
	f.Step = &failed
	return []Finding{f.dueTo(notReady(j.Persona))}
}

// CompareJourney holds one run of a journey against the baseline.
func CompareJourney(base Baseline, j JourneyLook) []Finding {
	m, _ := base.Look.journey(j.Key)
	return append(hostFindings(j.Key, m.Requests, j.Requests), journeyFindings(base, j)...)
}

func journeyFindings(base Baseline, j JourneyLook) []Finding {
	if j.Missing != "" {
		f := j.about(NotCheckedKind, Broken, "The journey could not be taken").with("%s", j.Missing).caused(j.Missing)
		if j.Unready {
			f = f.dueTo(notReady(j.Persona))
		}
		return []Finding{f}
	}
	failed := j.Outcome.Failed()
	if failed < 0 {
		return nil
	}
	step := j.Outcome.Steps[failed]
	m, known := base.Look.journey(j.Key)
	if !known || m.Missing != "" {
		f := j.about(NotCheckedKind, Unsure, "The mark has no evidence of this journey").with("Take a new mark.")
		return []Finding{f.caused("no evidence in the mark")}
	}
	severity := Broken
	detail := step.Why
	if was := m.Outcome.Failed(); was >= 0 && was <= failed {
		severity = Note
		detail += " It failed here when the mark was taken, too."
	}
	f := j.about(JourneyKind, severity, fmt.Sprintf("%s: %s does not work", j.Journey, step.Step)).with("%s", detail)
	if strings.HasPrefix(step.Step, "expect ") {
		f.Title = fmt.Sprintf("%s: expected %s", j.Journey, strings.TrimPrefix(step.Step, "expect "))
	}
	f.Step = &failed
	return []Finding{f.caused(fmt.Sprintf("%s, step %d", j.Journey, failed+1))}
}

// Doubts are the journeys that did not work in either of two untouched looks, and the
// edits that did not show: what a mark cannot vouch for.
func Doubts(first, second Look) []Finding {
	var out []Finding
	for _, j := range first.Journeys {
		failed := j.Outcome.Failed()
		again, there := second.journey(j.Key)
		if failed < 0 || !there || again.Outcome.Failed() < 0 {
			continue
		}
		f := j.about(JourneyKind, Unsure, fmt.Sprintf("%s: %s does not work as it is written", j.Journey, j.Outcome.Steps[failed].Step)).
			with("%s", j.Outcome.Steps[failed].Why)
		f.Step = &failed
		out = append(out, f.caused(j.Journey))
	}
	for _, p := range first.Probes {
		if p.Kind != Published {
			continue
		}
		for _, f := range CompareProbe(Baseline{}, p) {
			f.Severity = Unsure
			out = append(out, f)
		}
	}
	return out
}
