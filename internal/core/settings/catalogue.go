package settings

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Type says what a setting's value looks like in JSON.
type Type string

// The types of the connector protocol. Their JSON forms are, in order: boolean,
// whole number, whole number of seconds, one of the choices' strings, array of
// strings, string.
const (
	Switch   Type = "switch"
	Whole    Type = "whole"
	Seconds  Type = "seconds"
	Choice   Type = "choice"
	Patterns Type = "patterns"
	Text     Type = "text"
)

// Role says what a setting means, whatever its key is called.
type Role string

// Option is one value that a [Choice] setting can take.
type Option struct {
	Value string   `json:"value"`
	Title string   `json:"title"`
	Needs []string `json:"needs,omitempty" doc:"Host abilities that this choice alone needs."`
}

// Condition names a value another setting has to have (requires) or must not have
// (conflicts).
type Condition struct {
	Key    string `json:"key"`
	Equals any    `json:"equals"`
	Why    string `json:"why,omitempty"`
}

// Definition describes one setting.
type Definition struct {
	Key          string      `json:"key"`
	Title        string      `json:"title"`
	Summary      string      `json:"summary"`
	Group        string      `json:"group"`
	Type         Type        `json:"type" enum:"switch,whole,seconds,choice,patterns,text"`
	Choices      []Option    `json:"choices,omitempty"`
	Min          *int64      `json:"min,omitempty"`
	Max          *int64      `json:"max,omitempty"`
	Default      any         `json:"default"`
	Role         Role        `json:"role"`
	Risk         int         `json:"risk" doc:"0 cannot break a page, 3 breaks some sites."`
	Requires     []Condition `json:"requires,omitempty"`
	Conflicts    []Condition `json:"conflicts,omitempty"`
	Needs        []string    `json:"needs,omitempty"`
	Irreversible bool        `json:"irreversible,omitempty" doc:"Applying it deletes data that no rollback brings back."`
	Records      *int        `json:"records,omitempty" doc:"How many records it would delete now, as far as the speed layer counts them."`
}

// Catalogue is every setting that a speed layer has.
type Catalogue struct {
	Settings []Definition `json:"settings"`
}

var keyForm = regexp.MustCompile(`^[a-z][a-zA-Z0-9]*(\.[a-z][a-zA-Z0-9]*)*$`)

// ParseCatalogue reads a catalogue as the connector serves it and checks that it
// can be worked with: keys well formed and unique, types known, choices present,
// limits in order, defaults valid. The error lists every fault found.
func ParseCatalogue(raw []byte) (Catalogue, error) {
	var c Catalogue
	if err := json.Unmarshal(raw, &c); err != nil {
		return Catalogue{}, fmt.Errorf("the catalogue is not the JSON that the connector protocol describes: %w", err)
	}
	var faults []string
	seen := map[string]bool{}
	for i, d := range c.Settings {
		for _, f := range d.faults() {
			faults = append(faults, fmt.Sprintf("setting %d (%q): %s", i+1, d.Key, f))
		}
		if seen[d.Key] {
			faults = append(faults, fmt.Sprintf("setting %d: the key %q is there twice", i+1, d.Key))
		}
		seen[d.Key] = true
	}
	if len(c.Settings) == 0 {
		faults = append(faults, "it lists no setting")
	}
	if len(faults) > 0 {
		return Catalogue{}, fmt.Errorf("the catalogue cannot be used: %s", strings.Join(faults, "; "))
	}
	return c, nil
}

func (d Definition) faults() []string {
	var out []string
	if !keyForm.MatchString(d.Key) {
		out = append(out, "the key is not dotted camelCase")
	}
	if d.Type == Choice && len(d.Choices) == 0 {
		out = append(out, "a choice without choices")
	}
	if d.Min != nil && d.Max != nil && *d.Min > *d.Max {
		out = append(out, fmt.Sprintf("min %d is above max %d", *d.Min, *d.Max))
	}
	if why := d.Refuses(d.Default); why != "" {
		out = append(out, "the default is refused: "+why)
	}
	return out
}

// Find returns the definition with this key.
func (c Catalogue) Find(key string) (Definition, bool) {
	i := slices.IndexFunc(c.Settings, func(d Definition) bool { return d.Key == key })
	if i < 0 {
		return Definition{}, false
	}
	return c.Settings[i], true
}

// WithRole returns the definitions that have this role, in catalogue order.
func (c Catalogue) WithRole(role Role) []Definition {
	var out []Definition
	for _, d := range c.Settings {
		if d.Role == role {
			out = append(out, d)
		}
	}
	return out
}

// Patterns collects the patterns of every setting with this role, in catalogue order.
func (c Catalogue) Patterns(v Values, role Role) []string {
	var out []string
	for _, d := range c.WithRole(role) {
		out = append(out, v.Strings(d.Key)...)
	}
	return out
}

// On tells whether any switch with this role is on.
func (c Catalogue) On(v Values, role Role) bool {
	return slices.ContainsFunc(c.WithRole(role), func(d Definition) bool { on, _ := v[d.Key].(bool); return on })
}

// Defaults returns the catalogue's default values, one for each key.
func (c Catalogue) Defaults() Values {
	v := make(Values, len(c.Settings))
	for _, d := range c.Settings {
		v[d.Key] = d.Default
	}
	return v.Clone()
}
