package settings

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"reflect"
	"slices"
	"strings"

	"github.com/gowebpki/jcs"
)

// Values is one full set of values: one for each key of a catalogue. The values are
// what encoding/json yields: bool, float64, string, []any of string.
type Values map[string]any

// ParseValues reads a JSON object of values. A key that stands twice is an error.
func ParseValues(raw []byte) (Values, error) {
	var v Values
	dec := json.NewDecoder(bytes.NewReader(raw))
	if err := dec.Decode(&v); err != nil {
		return nil, fmt.Errorf("the values are not a JSON object: %w", err)
	}
	if _, err := dec.Token(); !errors.Is(err, io.EOF) {
		return nil, errors.New("there is something behind the JSON object of the values")
	}
	if v == nil {
		return nil, errors.New("the values are null; a JSON object is wanted")
	}
	return v, nil
}

// Clone returns a deep copy in the form that encoding/json yields, whatever Go
// numbers and slices went in. Of no values it is an empty set.
func (v Values) Clone() Values {
	raw, err := json.Marshal(v)
	if err != nil {
		return maps.Clone(v)
	}
	out := Values{}
	if v == nil {
		return out
	}
	if json.Unmarshal(raw, &out) != nil {
		return maps.Clone(v)
	}
	return out
}

// With returns a copy with these edits laid over it.
func (v Values) With(edits Values) Values {
	out := v.Clone()
	maps.Copy(out, edits.Clone())
	return out
}

// Strings returns a patterns value as strings; nothing when it is of another type.
func (v Values) Strings(key string) []string {
	var out []string
	switch list := v[key].(type) {
	case []string:
		return slices.Clone(list)
	case []any:
		for _, e := range list {
			if s, ok := e.(string); ok {
				out = append(out, s)
			}
		}
	}
	return out
}

// Whole is the whole number under a key, 0 when there is none.
func (v Values) Whole(key string) int {
	switch n := v[key].(type) {
	case float64:
		return int(n)
	case int:
		return n
	case int64:
		return int(n)
	}
	return 0
}

// Fingerprint returns the lower-case hexadecimal SHA-256 of the canonical JSON
// (RFC 8785) of the values. It fails when a value has no JSON form.
func (v Values) Fingerprint() (string, error) {
	raw, err := json.Marshal(v)
	if err != nil {
		return "", fmt.Errorf("no fingerprint: the values have no JSON form: %w", err)
	}
	canonical, err := jcs.Transform(raw)
	if err != nil {
		return "", fmt.Errorf("no fingerprint: the values have no canonical form: %w", err)
	}
	sum := sha256.Sum256(canonical)
	return hex.EncodeToString(sum[:]), nil
}

// Refusal is one key whose value cannot be applied, and why.
type Refusal struct {
	Key string `json:"key"`
	Why string `json:"why"`
}

// Refusals are all the keys refused at once; it is the error of [Catalogue.Validate].
type Refusals []Refusal

func (r Refusals) Error() string {
	parts := make([]string, len(r))
	for i, e := range r {
		parts[i] = e.Key + ": " + e.Why
	}
	return strings.Join(parts, "; ")
}

// Validate checks a full set of values: every key there, none unknown, each of its
// type and within its limits. It returns nil or [Refusals] sorted by key.
func (c Catalogue) Validate(v Values) error {
	var out Refusals
	for _, d := range c.Settings {
		value, there := v[d.Key]
		if !there {
			out = append(out, Refusal{d.Key, "the value is missing"})
			continue
		}
		if why := d.Refuses(value); why != "" {
			out = append(out, Refusal{d.Key, why})
		}
	}
	for key := range v {
		if _, known := c.Find(key); !known {
			out = append(out, Refusal{key, "this site has no setting of that name" + c.nearest(key)})
		}
	}
	if len(out) == 0 {
		return nil
	}
	slices.SortFunc(out, func(a, b Refusal) int { return strings.Compare(a.Key, b.Key) })
	return out
}

// nearest suggests the key that differs from this one only in letter case or in
// the part before its last dot.
func (c Catalogue) nearest(key string) string {
	last := key[strings.LastIndex(key, ".")+1:]
	for _, d := range c.Settings {
		if strings.EqualFold(d.Key, key) || strings.EqualFold(d.Key[strings.LastIndex(d.Key, ".")+1:], last) {
			return fmt.Sprintf(" (did you mean %s?)", d.Key)
		}
	}
	return ""
}

// Refuses says why a value cannot be one of this setting's, or "" when it can.
func (d Definition) Refuses(value any) string {
	switch d.Type {
	case Switch:
		if _, ok := value.(bool); !ok {
			return "must be true or false, not " + shown(value)
		}
	case Whole, Seconds:
		return d.refusesNumber(value)
	case Choice:
		s, ok := value.(string)
		if ok && slices.ContainsFunc(d.Choices, func(o Option) bool { return o.Value == s }) {
			return ""
		}
		names := make([]string, len(d.Choices))
		for i, o := range d.Choices {
			names[i] = o.Value
		}
		return "must be one of " + strings.Join(names, ", ") + ", not " + shown(value)
	case Patterns:
		return refusesPatterns(value)
	case Text:
		if _, ok := value.(string); !ok {
			return "must be a text, not " + shown(value)
		}
	default:
		return fmt.Sprintf("the type %q is not one of the protocol's", d.Type)
	}
	return ""
}

func (d Definition) refusesNumber(value any) string {
	var n float64
	switch x := value.(type) {
	case float64:
		n = x
	case int:
		n = float64(x)
	case int64:
		n = float64(x)
	default:
		return "must be a whole number, not " + shown(value)
	}
	unit := ""
	if d.Type == Seconds {
		unit = " seconds"
	}
	switch {
	case n != math.Trunc(n) || math.Abs(n) > 1<<53:
		return "must be a whole number, not " + shown(value)
	case d.Min != nil && n < float64(*d.Min):
		return fmt.Sprintf("must be at least %d%s, not %s", *d.Min, unit, shown(value))
	case d.Max != nil && n > float64(*d.Max):
		return fmt.Sprintf("must be at most %d%s, not %s", *d.Max, unit, shown(value))
	}
	return ""
}

func refusesPatterns(value any) string {
	if _, ok := value.([]string); ok {
		return ""
	}
	list, ok := value.([]any)
	if !ok {
		return "must be a list of patterns, not " + shown(value)
	}
	for i, e := range list {
		s, ok := e.(string)
		if !ok {
			return fmt.Sprintf("pattern %d must be a text, not %s", i+1, shown(e))
		}
		if s == "" {
			return fmt.Sprintf("pattern %d is empty; it would match everything or nothing", i+1)
		}
	}
	return ""
}

func shown(value any) string {
	raw, err := json.Marshal(value)
	if err != nil {
		return fmt.Sprint(value)
	}
	if len(raw) > 60 {
		raw = append(raw[:57:57], "…"...)
	}
	return string(raw)
}

// Difference is one key whose value differs between two sets. A side on which the
// key is missing is nil with its Has flag false.
type Difference struct {
	Key     string `json:"key"`
	From    any    `json:"from"`
	To      any    `json:"to"`
	HasFrom bool   `json:"-"`
	HasTo   bool   `json:"-"`
}

// Diff lists the keys that differ between two sets, sorted by key.
func Diff(from, to Values) []Difference {
	a, b := from.Clone(), to.Clone()
	keys := slices.Collect(maps.Keys(a))
	for k := range b {
		if _, there := a[k]; !there {
			keys = append(keys, k)
		}
	}
	slices.Sort(keys)
	var out []Difference
	for _, k := range keys {
		x, hasX := a[k]
		y, hasY := b[k]
		if hasX != hasY || !reflect.DeepEqual(x, y) {
			out = append(out, Difference{k, x, y, hasX, hasY})
		}
	}
	return out
}

// Equal tells whether two values are the same in JSON.
func Equal(a, b any) bool {
	return len(Diff(Values{"v": a}, Values{"v": b})) == 0
}

// Edited keeps of edits what differs from a base: an edit to what is there is none.
func Edited(base, edits Values) Values {
	kept := Values{}
	for _, d := range Diff(base, base.With(edits)) {
		kept[d.Key] = d.To
	}
	return kept
}
