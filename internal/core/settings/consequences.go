package settings

import (
	"fmt"
	"slices"
	"strconv"

	"tidemarker/internal/core/words"
)

// ConsequenceKind says what follows from a set of values.
type ConsequenceKind string

// What may follow.
const (
	Requires     ConsequenceKind = "requires"     // another setting must have a value it does not have
	Conflicts    ConsequenceKind = "conflicts"    // another setting has a value that it must not have
	Needs        ConsequenceKind = "needs"        // the host cannot do what is asked
	Collides     ConsequenceKind = "collides"     // another tool on the site does the same work, or works on the same thing
	Irreversible ConsequenceKind = "irreversible" // deletes data that no rollback brings back
)

// Consequence is one thing that stands in the way of a set of values, with the edit
// that would mend it where one is known.
type Consequence struct {
	Kind   ConsequenceKind `json:"kind" enum:"requires,conflicts,needs,collides,irreversible"`
	Key    string          `json:"key" doc:"The setting that asks for it."`
	Other  string          `json:"other,omitempty" doc:"The setting, the host ability or the other tool it is about."`
	Text   string          `json:"text"`
	Mend   *Edit           `json:"mend,omitempty" doc:"One edit that resolves it."`
	Blocks bool            `json:"blocks" doc:"The values cannot be applied while this stands."`
}

// Edit sets one key.
type Edit struct {
	Key   string `json:"key"`
	Value any    `json:"value"`
}

// Consequences lists what a full set of values needs and collides with on a host.
// A setting that is switched off (false, or its default where it is no switch) asks
// for nothing. The values must be valid; unknown keys are passed over.
func (c Catalogue) Consequences(v Values, host Host) []Consequence {
	var out []Consequence
	for _, d := range c.Settings {
		value, there := v[d.Key]
		if !there || !d.Active(value) {
			continue
		}
		out = append(out, c.conditionsOf(d, v)...)
		for _, need := range needsOf(d, value) {
			if !host.Facts[need] {
				out = append(out, Consequence{Kind: Needs, Key: d.Key, Other: need, Blocks: true,
					Text: fmt.Sprintf("%s needs %s, which this host does not have. %s", d.Title, Ability(need), c.instead(d, need, host)),
					Mend: &Edit{d.Key, off(d)}})
			}
		}
		out = append(out, host.collisions(d)...)
		if d.Irreversible {
			out = append(out, Consequence{Kind: Irreversible, Key: d.Key,
				Text: fmt.Sprintf("%s deletes data that no rollback brings back. It never rides along in a promotion.", d.Title)})
		}
	}
	return out
}

func (c Catalogue) conditionsOf(d Definition, v Values) []Consequence {
	var out []Consequence
	for _, cond := range d.Requires {
		other, known := c.Find(cond.Key)
		if known && !Equal(v[cond.Key], cond.Equals) && prepares(d, other, cond) {
			out = append(out, Consequence{Kind: Requires, Key: d.Key, Other: cond.Key,
				Text: sentence(fmt.Sprintf("%s is prepared: it does nothing until %s is %s", d.Title, other.Title, Shown(cond.Equals)), cond.Why),
				Mend: &Edit{cond.Key, cond.Equals}})
			continue
		}
		if known && !Equal(v[cond.Key], cond.Equals) {
			out = append(out, Consequence{Kind: Requires, Key: d.Key, Other: cond.Key, Blocks: true,
				Text: sentence(fmt.Sprintf("%s works only when %s is %s", d.Title, other.Title, Shown(cond.Equals)), cond.Why),
				Mend: &Edit{cond.Key, cond.Equals}})
		}
	}
	for _, cond := range d.Conflicts {
		other, known := c.Find(cond.Key)
		if known && Equal(v[cond.Key], cond.Equals) {
			out = append(out, Consequence{Kind: Conflicts, Key: d.Key, Other: cond.Key, Blocks: true,
				Text: sentence(fmt.Sprintf("%s collides with %s being %s", d.Title, other.Title, Shown(cond.Equals)), cond.Why),
				Mend: &Edit{cond.Key, away(other, cond.Equals)}})
		}
	}
	return out
}

// prepares tells whether a setting may be given a value while the action that it belongs to
// is off: a list or an option does nothing by itself. A careful person fills in what is to be
// excluded before the action is switched on.
func prepares(d, action Definition, cond Condition) bool {
	return d.Type != Switch && action.Type == Switch && Equal(cond.Equals, true)
}

func needsOf(d Definition, value any) []string {
	needs := slices.Clone(d.Needs)
	for _, o := range d.Choices {
		if o.Value == value {
			needs = append(needs, o.Needs...)
		}
	}
	slices.Sort(needs)
	return slices.Compact(needs)
}

// Active tells whether a value makes its setting do something: a switch that is on,
// or anything but the default for other types.
func (d Definition) Active(value any) bool {
	if on, ok := value.(bool); ok {
		return on
	}
	return !Equal(value, d.Default)
}

func off(d Definition) any {
	if d.Type == Switch {
		return false
	}
	return d.Default
}

// away is a value of d that is not the one given: the opposite of a switch, else the
// default, else another choice.
func away(d Definition, value any) any {
	if on, ok := value.(bool); ok {
		return !on
	}
	if !Equal(d.Default, value) {
		return d.Default
	}
	for _, o := range d.Choices {
		if !Equal(o.Value, value) {
			return o.Value
		}
	}
	return d.Default
}

func sentence(text, why string) string {
	if why == "" {
		return text + "."
	}
	return text + ": " + why
}

// Shown writes a value as a person reads it: on, off, 3 patterns, or its JSON.
func Shown(value any) string {
	switch x := value.(type) {
	case bool:
		if x {
			return "on"
		}
		return "off"
	case []any:
		if len(x) == 1 {
			return shown(x[0])
		}
		return fmt.Sprintf("%d patterns", len(x))
	case string:
		return x
	}
	return shown(value)
}

// Shown is [Shown] of a value of this setting: a time has its unit, a choice its title.
func (d Definition) Shown(value any) string {
	if d.Type == Seconds {
		if n, err := strconv.Atoi(Shown(value)); err == nil {
			return words.Span(n)
		}
	}
	for _, c := range d.Choices {
		if d.Type == Choice && Equal(c.Value, value) {
			return c.Title
		}
	}
	return Shown(value)
}

// Ability names a host ability in words.
func Ability(need string) string {
	switch need {
	case "memoryStore":
		return "a memory store"
	case "rewriteRules":
		return "rewrite rules"
	case "gzip":
		return "gzip compression"
	case "brotli":
		return "Brotli compression"
	case "http2":
		return "HTTP/2"
	case "notShared":
		return "hosting that is not shared"
	}
	return need
}

// Risk says in words what a setting of this role can break.
func (r Role) Risk() string {
	switch r {
	case "js-defer", "js-combine":
		return "Inline code that runs before its library: sliders, menus, anything scripts must start."
	case "js-delay":
		return "Anything that must answer the first touch: menus, tabs, add to cart."
	case "js-minify", "js-inline":
		return "Scripts that depend on their exact text."
	case "css-async", "css-combine":
		return "The look while the page loads, and rules that depend on their order."
	case "css-drop-unused":
		return "Whatever scripts open or mark later: menus, tabs, notices."
	case "css-minify", "html-minify":
		return "Spacing between words and inline elements."
	case "page-cache", "page-cache-logged-in", "page-cache-ttl", "page-cache-serve-stale":
		return "Carts, names and form tokens: one visitor may see another's page, or an old one."
	case "path-exclude", "cookie-exclude", "role-exclude", "agent-exclude", "always-refresh":
		return "Who is served a cached page: a missing pattern shows personal pages to visitors."
	case "query-ignore", "query-vary", "query-strip":
		return "Search and filter pages: two addresses may show one result."
	case "lazy-images", "lazy-frames", "lazy-skip-first":
		return "Pictures and players that appear late or jump into place."
	case "add-dimensions":
		return "Pictures that are stretched, or a layout that jumps without it."
	case "tidy":
		return "Data: what it deletes no rollback brings back."
	}
	return "Small differences in how pages look or load."
}

// Obstacles are what newly stands in the way of a set of values, in words.
func (c Catalogue) Obstacles(before, target Values, h Host) []string {
	already := map[string]bool{}
	for _, q := range c.Consequences(before, h) {
		already[q.Text] = true
	}
	var why []string
	for _, q := range c.Consequences(target, h) {
		if q.Blocks && !already[q.Text] {
			why = append(why, q.Text)
		}
	}
	return why
}
