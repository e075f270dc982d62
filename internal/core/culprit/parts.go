package culprit

import (
	"fmt"
	"slices"

	"tidemarker/internal/core/settings"
)

// Part is one part of a change that can be tried by itself: a setting's new value, or one entry
// that a list gains or loses.
type Part struct {
	Key     string `json:"key"`
	Value   any    `json:"value,omitempty"`   // the new value, where it is no entry
	Entry   string `json:"entry,omitempty"`   // of a list
	Removed bool   `json:"removed,omitempty"` // the list loses the entry
}

// String names a part in words: the setting, and the entry where it is one.
func (p Part) String() string {
	switch {
	case p.Entry == "":
		return p.Key + " = " + settings.Shown(p.Value)
	case p.Removed:
		return fmt.Sprintf("%s without %s", p.Key, p.Entry)
	}
	return fmt.Sprintf("%s with %s", p.Key, p.Entry)
}

// Parts are the parts of a change from one full set of values to another, in the order of the
// settings' keys.
func Parts(before, after settings.Values) []Part {
	var out []Part
	for _, d := range settings.Diff(before, after) {
		was, isList := entries(d.From)
		now, areList := entries(d.To)
		var list []Part
		if isList && areList {
			for _, e := range was {
				if !slices.Contains(now, e) {
					list = append(list, Part{Key: d.Key, Entry: e, Removed: true})
				}
			}
			for _, e := range now {
				if !slices.Contains(was, e) {
					list = append(list, Part{Key: d.Key, Entry: e})
				}
			}
		}
		if len(list) == 0 { // no list, or one in another order
			list = []Part{{Key: d.Key, Value: d.To}}
		}
		out = append(out, list...)
	}
	return out
}

// entries are those of a list of texts.
func entries(v any) ([]string, bool) {
	switch list := v.(type) {
	case []string:
		return list, true
	case []any:
		out := make([]string, len(list))
		for i, e := range list {
			text, is := e.(string)
			if !is {
				return nil, false
			}
			out[i] = text
		}
		return out, true
	}
	return nil, false
}

// Put is a full set of values with some parts of a change put in.
func Put(before settings.Values, parts []Part) settings.Values {
	out := before.Clone()
	for _, p := range parts {
		if p.Entry == "" {
			out[p.Key] = p.Value
			continue
		}
		list, _ := entries(out[p.Key])
		list = slices.DeleteFunc(slices.Clone(list), func(e string) bool { return e == p.Entry })
		if !p.Removed {
			list = append(list, p.Entry)
		}
		out[p.Key] = list
	}
	return out
}

// NeedsOf are, for each part, the others without which it cannot be put in force or is not meant:
// what it requires, what has to go before it may come, and the exclusions that came with it.
func NeedsOf(c settings.Catalogue, host settings.Host, before settings.Values, parts []Part) [][]int {
	out := make([][]int, len(parts))
	already := map[string]bool{}
	for _, q := range c.Consequences(before, host) {
		already[q.Text] = true
	}
	for i, p := range parts {
		need := func(n int) {
			if n != i && !slices.Contains(out[i], n) {
				out[i] = append(out[i], n)
			}
		}
		for _, q := range c.Consequences(Put(before, parts[i:i+1]), host) {
			if !q.Blocks || already[q.Text] {
				continue
			}
			for n, other := range parts {
				if other.Key == q.Other || other.Key == q.Key {
					need(n)
				}
			}
		}
		d, known := c.Find(p.Key)
		if !known || p.Entry != "" {
			continue
		}
		for n, other := range parts {
			o, known := c.Find(other.Key)
			if known && other.Entry != "" && !other.Removed && o.Role.Protects() && o.Role.Lead() == d.Role {
				need(n)
			}
		}
	}
	return out
}

// Without is what a change comes to when some of its parts are left out, with what cannot be put in
// force without them: a full set of values.
func Without(c settings.Catalogue, host settings.Host, before, after settings.Values, gone []Part) settings.Values {
	parts := Parts(before, after)
	needs := NeedsOf(c, host, before, parts)
	out := make([]bool, len(parts))
	for i, p := range parts {
		out[i] = slices.ContainsFunc(gone, func(g Part) bool { return g.Key == p.Key && g.Entry == p.Entry && g.Removed == p.Removed })
	}
	for again := true; again; {
		again = false
		for i := range parts {
			if !out[i] && slices.ContainsFunc(needs[i], func(n int) bool { return out[n] }) {
				out[i], again = true, true
			}
		}
	}
	var rest []Part
	for i, p := range parts {
		if !out[i] {
			rest = append(rest, p)
		}
	}
	return Put(before, rest)
}
