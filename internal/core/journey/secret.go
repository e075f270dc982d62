package journey

import (
	"net/url"
	"regexp"
	"slices"
	"strings"
)

// Untold stands where a secret value would.
const Untold = "•••"

// secretWords are what fields for passwords are called in some languages (common
// practice). A field that is called otherwise is known as one by its type, when it is
// filled in.
var secretWords = regexp.MustCompile(`(?i)pass[- ]?(word|phrase|code)|passwor[dt]|kennwort|mot de passe|contraseña|wachtwoord|lösenord|\bPIN\b|type=['"]?password`)

// MarkSensitive is the steps with every value secret that is put into a field named like one
// for a password; the steps given stay as they are.
func MarkSensitive(steps []Step) []Step {
	out := slices.Clone(steps)
	for i, s := range out {
		if s.Fill != nil && secretWords.MatchString(s.Fill.In.Label+" "+s.Fill.In.Name+" "+s.Fill.In.CSS) {
			out[i] = s.Kept()
		}
	}
	return out
}

// Kept is the step with what it fills in secret.
func (s Step) Kept() Step {
	if s.Fill != nil {
		s.Fill = &Input{s.Fill.In, s.Fill.Value, true}
	}
	return s
}

// Redacted is the steps without their secret values.
func Redacted(steps []Step) []Step {
	out := slices.Clone(steps)
	for i, s := range out {
		if s.Fill != nil && s.Fill.Secret {
			out[i].Fill = &Input{In: s.Fill.In, Secret: true}
		}
	}
	return out
}

// MapSecrets is the steps with each secret value as f makes it.
func MapSecrets(steps []Step, f func(string) (string, error)) ([]Step, error) {
	out := slices.Clone(steps)
	for i, s := range out {
		if s.Fill == nil || !s.Fill.Secret {
			continue
		}
		v, err := f(s.Fill.Value)
		if err != nil {
			return nil, err
		}
		out[i].Fill = &Input{s.Fill.In, v, true}
	}
	return out, nil
}

// WithSecretsFrom is the steps with the secret values that they lack taken from what the same
// fields were filled with before, first by first.
func WithSecretsFrom(steps, before []Step) []Step {
	values := map[Target][]string{}
	for _, s := range before {
		if s.Fill != nil && s.Fill.Secret {
			values[s.Fill.In] = append(values[s.Fill.In], s.Fill.Value)
		}
	}
	out := slices.Clone(steps)
	for i, s := range out {
		if s.Fill == nil || !s.Fill.Secret {
			continue
		}
		known := values[s.Fill.In]
		if len(known) == 0 {
			continue
		}
		values[s.Fill.In] = known[1:]
		if s.Fill.Value == "" {
			out[i].Fill = &Input{s.Fill.In, known[0], true}
		}
	}
	return out
}

// Lacking are the fields whose secret value is not known.
func Lacking(steps []Step) []string {
	var out []string
	for _, s := range steps {
		if s.Fill != nil && s.Fill.Secret && s.Fill.Value == "" {
			out = append(out, s.Fill.In.String())
		}
	}
	return out
}

// shortestSecret is how long a value has to be to be looked for in what a site sends:
// shorter ones are in everything.
const shortestSecret = 4

// Redact takes secret values out of a text, also as addresses write them.
func Redact(text string, secrets []string) string {
	for _, v := range secrets {
		if len(v) < shortestSecret {
			continue
		}
		for _, form := range []string{v, url.QueryEscape(v), url.PathEscape(v)} {
			text = strings.ReplaceAll(text, form, Untold)
		}
	}
	return text
}
