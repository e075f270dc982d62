package settings

import (
	"fmt"
	"slices"
)

// Wish is a value for whatever setting has a role.
type Wish struct {
	Role  Role `json:"role"`
	Value any  `json:"value"`
}

// Bundle is a named set of values by role, so that it fits any catalogue. Boldness
// orders those that ship with the product; a team's own have 0.
type Bundle struct {
	Name     string `json:"name"`
	Summary  string `json:"summary"`
	Boldness int    `json:"boldness"`
	Wishes   []Wish `json:"wishes"`
}

// Something is the wish for any value of a choice that does something and that the
// host can carry.
const Something = "something"

// Bundles ship with the product, from cautious to bold. Each says something of every
// role that the bolder ones touch, so that one can step down. (Common practice.)
var Bundles = func() []Bundle {
	steps := []struct {
		name, summary string
		on            []Wish
	}{
		{"Still water", "Pages are cached, and nothing else is touched. Where to start, and where to return to.",
			[]Wish{{"page-cache", true}, {"page-cache-logged-in", "bypass"}, {"add-dimensions", true}}},
		{"Slack tide", "What hardly ever breaks a page: compression, tight markup, browsers that keep files, lazy pictures.",
			[]Wish{{"compress", Something}, {"html-minify", true}, {"browser-cache", true}, {"css-minify", true}, {"js-minify", true}, {"lazy-images", true}, {"page-cache-not-modified", true}, {"preload-key-image", true}}},
		{"Running tide", "What breaks some pages and is worth it: deferred scripts, warm-up, lettering and pages fetched ahead.",
			[]Wish{{"js-defer", true}, {"warm", true}, {"page-cache-serve-stale", true}, {"font-self-host", true}, {"font-preload", true}, {"prefetch-links", true}, {"query-strip", true}}},
		{"Spring tide", "What breaks some sites. Try it in parts, and expect to exclude some.",
			[]Wish{{"css-async", true}, {"css-combine", true}, {"lazy-frames", true}, {"data-cache", true}, {"font-swap", true}}},
	}
	var out []Bundle
	for i, s := range steps {
		b := Bundle{Name: s.name, Summary: s.summary, Boldness: i + 1}
		for k, other := range steps {
			for _, w := range other.on {
				if k > i {
					w.Value = quiet(w.Value)
				}
				b.Wishes = append(b.Wishes, w)
			}
		}
		out = append(out, b)
	}
	return out
}()

// quiet is the wish that undoes another.
func quiet(v any) any {
	if _, is := v.(bool); is {
		return false
	}
	return nil // the default
}

// Unmet is a wish that a catalogue or a host cannot meet.
type Unmet struct {
	Role Role   `json:"role"`
	Why  string `json:"why"`
}

// Edits are what a bundle changes of values in force, and the wishes that cannot be
// met. What requires something else brings it along; what collides with what is there
// is left.
func (b Bundle) Edits(c Catalogue, now Values, h Host) (Values, []Unmet) {
	edits := Values{}
	unmet := []Unmet{}
	for _, w := range b.Wishes {
		defs := c.WithRole(w.Role)
		if len(defs) == 0 {
			if w.Value != false && w.Value != nil {
				unmet = append(unmet, Unmet{w.Role, "This site has no setting for it."})
			}
			continue
		}
		for _, d := range defs {
			value, why := d.fitting(w.Value, h)
			if why == "" && d.Active(value) {
				why = obstacle(c, now.With(edits), d, value, h)
			}
			if why != "" {
				unmet = append(unmet, Unmet{w.Role, fmt.Sprintf("%s: %s", d.Title, why)})
				continue
			}
			if !Equal(now[d.Key], value) {
				edits[d.Key] = value
			}
		}
	}
	return edits, unmet
}

// Level is the shipped bundle whose every wish that can be met is met by values in
// force, and the one a step more cautious; "" where there is none. Of bundles that a
// catalogue cannot tell apart it is the most cautious.
func Level(c Catalogue, v Values, h Host) (name, down string) {
	for i := range Bundles {
		if edits, _ := Bundles[i].Edits(c, v, h); len(edits) > 0 {
			continue
		}
		if i > 0 {
			down = Bundles[i-1].Name
		}
		return Bundles[i].Name, down
	}
	return "", ""
}

// fitting is the value of a setting that comes nearest to a wish; why is said when
// none does.
func (d Definition) fitting(wish any, h Host) (value any, why string) {
	carried := func(needs []string) bool {
		return !slices.ContainsFunc(needs, func(n string) bool { return !h.Facts[n] })
	}
	switch {
	case wish == nil:
		return d.Default, ""
	case d.Type == Choice && wish == Something:
		for _, o := range d.Choices {
			if o.Value != "off" && o.Value != "none" && !Equal(o.Value, d.Default) && carried(o.Needs) {
				return o.Value, ""
			}
		}
		return nil, "the host carries none of its choices."
	case (d.Type == Whole || d.Type == Seconds) && isNumber(wish):
		n := toNumber(wish)
		if d.Min != nil {
			n = max(n, float64(*d.Min))
		}
		if d.Max != nil {
			n = min(n, float64(*d.Max))
		}
		return n, ""
	}
	if refused := d.Refuses(wish); refused != "" {
		return nil, refused + "."
	}
	return wish, ""
}

func isNumber(v any) bool { _, ok := v.(float64); return ok }

func toNumber(v any) float64 { n, _ := v.(float64); return n }

// obstacle says what stands in the way of one value beside others.
func obstacle(c Catalogue, v Values, d Definition, value any, h Host) string {
	before := c.Consequences(v, h)
	for _, q := range c.Consequences(v.With(Values{d.Key: value}), h) {
		if q.Blocks && !slices.ContainsFunc(before, func(o Consequence) bool { return o.Text == q.Text }) {
			return q.Text
		}
	}
	return ""
}

// BundleOf makes a bundle of the values of a revision. Patterns and texts are a
// site's own and stay out of it; so does what deletes data, and what several settings
// share a role for.
func BundleOf(name, summary string, c Catalogue, v Values) Bundle {
	b := Bundle{Name: name, Summary: summary, Wishes: []Wish{}}
	for _, d := range c.Settings {
		if d.Type == Patterns || d.Type == Text || d.Irreversible || d.Role == "other" || d.Role == "tidy" || len(c.WithRole(d.Role)) > 1 {
			continue
		}
		b.Wishes = append(b.Wishes, Wish{d.Role, v[d.Key]})
	}
	return b
}
