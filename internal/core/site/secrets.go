package site

import (
	"fmt"
	"slices"
	"strings"

	"tidemarker/internal/core/journey"
)

// eachRow is the site with every row of steps changed; whose says where a row stands.
// The site given stays as it is.
func (s Site) eachRow(change func(whose string, steps []journey.Step) []journey.Step) Site {
	s.Personas, s.Journeys, s.Publishing = slices.Clone(s.Personas), slices.Clone(s.Journeys), slices.Clone(s.Publishing)
	to := func(steps *[]journey.Step, format, name string) {
		if *steps != nil {
			*steps = change(fmt.Sprintf(format, name), *steps)
		}
	}
	for i := range s.Personas {
		p := &s.Personas[i]
		to(&p.Prepare, "getting ready as %s", p.Name)
		to(&p.SignOut, "signing out as %s", p.Name)
	}
	for i := range s.Journeys {
		to(&s.Journeys[i].Steps, "the journey “%s”", s.Journeys[i].Name)
	}
	for i := range s.Publishing {
		to(&s.Publishing[i].Steps, "publishing “%s”", s.Publishing[i].Name)
		to(&s.Publishing[i].Undo, "taking back “%s”", s.Publishing[i].Name)
	}
	return s
}

// MarkSensitive is the site with every value secret that goes into a field for a password.
func (s Site) MarkSensitive() Site {
	return s.eachRow(func(_ string, steps []journey.Step) []journey.Step { return journey.MarkSensitive(steps) })
}

// WithoutTokens is the site without what opens its connectors.
func (s Site) WithoutTokens() Site {
	s.Environments = slices.Clone(s.Environments)
	for i, e := range s.Environments {
		if e.Connector != nil {
			c := *e.Connector
			c.Token = ""
			s.Environments[i].Connector = &c
		}
	}
	return s
}

// Redacted is the site as it may be shown and go out: without tokens, and without the
// secret values that its steps fill in.
func (s Site) Redacted() Site {
	return s.WithoutTokens().eachRow(func(_ string, steps []journey.Step) []journey.Step { return journey.Redacted(steps) })
}

// MapSecrets is the site with each secret value that its steps fill in as f makes it.
func (s Site) MapSecrets(f func(string) (string, error)) (Site, error) {
	var failed error
	out := s.eachRow(func(whose string, steps []journey.Step) []journey.Step {
		mapped, err := journey.MapSecrets(steps, f)
		if err != nil && failed == nil {
			failed = fmt.Errorf("%s: %w", whose, err)
		}
		return mapped
	})
	return out, failed
}

// WithSecretsFrom is the site with the secret values that it lacks taken from how it was
// before: what goes out without them comes in again. A password is only ever taken from
// the steps of the same name, and not at all when it could reach a host that it did not go
// to before.
func (s Site) WithSecretsFrom(before Site) Site {
	for _, e := range s.Environments {
		if was, _, known := before.Environment(e.Name); !known || was.URL != e.URL || !within(e.Hosts, was.Hosts) {
			return s
		}
	}
	rows := map[string][]journey.Step{}
	before.eachRow(func(whose string, steps []journey.Step) []journey.Step {
		rows[whose] = steps
		return steps
	})
	return s.eachRow(func(whose string, steps []journey.Step) []journey.Step {
		return journey.WithSecretsFrom(steps, rows[whose])
	})
}

func within(few, many []string) bool {
	return !slices.ContainsFunc(few, func(h string) bool { return !slices.Contains(many, h) })
}

// MissingSecret is the error of a site whose steps have secret values that nobody knows.
type MissingSecret struct{ Fields []string }

func (e *MissingSecret) Error() string {
	return "these are not told by what came in, and not known here: " + strings.Join(e.Fields, "; ") + ". Fill them in"
}

// Complete fails with [MissingSecret] when a secret value is not known.
func (s Site) Complete() error {
	var lacking []string
	s.eachRow(func(whose string, steps []journey.Step) []journey.Step {
		for _, field := range journey.Lacking(steps) {
			lacking = append(lacking, fmt.Sprintf("%s, %s", field, whose))
		}
		return steps
	})
	if len(lacking) > 0 {
		return &MissingSecret{lacking}
	}
	return nil
}
