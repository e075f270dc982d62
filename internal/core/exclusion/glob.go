package exclusion

import "strings"

// Kind is how a pattern matches, by the role of the setting that has it.
type Kind string

// The kinds of matching that the connector protocol knows.
const (
	Path   Kind = "path"   // RFC 9309, path and query
	Name   Kind = "name"   // the whole of a cookie's or parameter's name
	Part   Kind = "part"   // a part of an address, or of an element's or query's text
	Agent  Kind = "agent"  // a part of a User-Agent, letter case ignored
	Exact  Kind = "exact"  // a role's name
	Select Kind = "select" // the whole text of a selector
)

// kinds is the protocol's table: which role's patterns match how.
var kinds = map[string]Kind{
	"path-exclude": Path, "always-refresh": Path,
	"cookie-exclude": Name, "query-ignore": Name, "query-vary": Name, "query-strip": Name,
	"agent-exclude": Agent, "role-exclude": Exact, "css-keep": Select,
	"css-exclude": Part, "js-exclude-minify": Part, "js-exclude-combine": Part, "js-exclude-defer": Part, "js-exclude-delay": Part,
	"lazy-exclude": Part, "asset-host-exclude": Part, "dimensions-exclude": Part, "prefetch-exclude": Part, "data-exclude": Part,
}

// KindOf is how the patterns of a role match; ok is false for a role that has none.
func KindOf(role string) (k Kind, ok bool) {
	k, ok = kinds[role]
	return k, ok
}

// Matches tells whether a pattern of a kind matches a text. An empty pattern matches
// nothing.
func Matches(k Kind, pattern, text string) bool {
	switch k {
	case Path:
		return MatchPath(pattern, text)
	case Agent:
		return MatchAgent(pattern, text)
	case Part:
		return MatchPart(pattern, text)
	case Exact:
		return pattern != "" && pattern == text
	}
	return MatchName(pattern, text)
}

// canonical is the text as a kind compares it.
func (k Kind) canonical(text string) string {
	switch k {
	case Path:
		return address(text)
	case Agent:
		return strings.ToLower(text)
	}
	return text
}

// wildcard stands for any octets in a [form]; all other values are octets.
const wildcard = -1

// form is a pattern as it is compiled: octets and wildcards, matched from beginning to
// end, never two wildcards in a row.
type form []int16

// formOf writes a pattern of any kind in the one form that automata are made of. An
// empty pattern has none.
func formOf(k Kind, pattern string) form {
	if pattern == "" {
		return nil
	}
	var f form
	star := func() {
		if len(f) == 0 || f[len(f)-1] != wildcard {
			f = append(f, wildcard)
		}
	}
	p, open := pattern, k == Part || k == Agent
	switch k {
	case Path:
		var anchored bool
		p, anchored = pathPattern(pattern)
		open = !anchored
	case Agent:
		p = strings.ToLower(pattern)
	}
	if k == Part || k == Agent {
		star()
	}
	for i := range len(p) {
		if p[i] == '*' && k != Exact {
			star()
		} else {
			f = append(f, int16(p[i]))
		}
	}
	if open {
		star()
	}
	if len(f) == 0 {
		return form{} // the empty text alone: "$"
	}
	return f
}

// may tells whether an octet can stand in a text of a kind at all, once it is
// canonical: after RFC 9309 §2.2.2 a path has no blanks and nothing beyond US-ASCII.
func (k Kind) may(c byte) bool {
	switch k {
	case Path:
		return c > ' ' && c < 0x7f && c != '*' && c != '$'
	case Agent:
		return c < 'A' || c > 'Z'
	}
	return true
}

// mayBegin tells whether a text of a kind can begin with an octet: a path begins with
// a slash.
func (k Kind) mayBegin(c byte) bool { return k != Path || c == '/' }
