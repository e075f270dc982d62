package exclusion

import (
	"strings"
)

// MatchPath tells whether an RFC 9309 pattern matches a path with its query. The
// pattern matches from the start; `*` stands for any characters, and a final `$`
// anchors the end. Both sides are first normalised as RFC 9309 §2.2.2 says.
func MatchPath(pattern, pathAndQuery string) bool {
	if pattern == "" {
		return false
	}
	p, anchored := pathPattern(pattern)
	if !anchored {
		p += "*"
	}
	return glob(p, address(pathAndQuery))
}

// pathPattern is a normalised pattern without the "$" that anchors its end. One that
// stands elsewhere is an octet like any other.
func pathPattern(pattern string) (p string, anchored bool) {
	p, anchored = strings.CutSuffix(normalise(pattern), "$")
	return strings.ReplaceAll(p, "$", "%24"), anchored
}

// address is a normalised path with its query. What would mean something in a pattern
// is compared in its encoded form (RFC 9309 §2.2.3).
func address(pathAndQuery string) string { return special.Replace(normalise(pathAndQuery)) }

var special = strings.NewReplacer("*", "%2A", "$", "%24")

// PathOctets is the length of a normalised path pattern in octets: where two rules
// compete for one address, the one with more octets decides (RFC 9309 §2.2.2).
func PathOctets(pattern string) int { return len(normalise(pattern)) }

// MatchName tells whether a pattern matches the whole of a cookie's or parameter's
// name, letter case counting; `*` stands for any characters.
func MatchName(pattern, name string) bool { return pattern != "" && glob(pattern, name) }

// MatchPart tells whether a pattern matches any part of an address or text, letter
// case counting; `*` stands for any characters.
func MatchPart(pattern, text string) bool { return pattern != "" && glob("*"+pattern+"*", text) }

// MatchAgent tells whether a pattern matches a part of a User-Agent, letter case
// ignored; `*` stands for any characters.
func MatchAgent(pattern, agent string) bool {
	return MatchPart(strings.ToLower(pattern), strings.ToLower(agent))
}

// glob matches a pattern with `*` against a whole string in time proportional to
// the product of their lengths at worst, without recursion.
func glob(pattern, s string) bool {
	p, i := 0, 0
	star, back := -1, 0
	for i < len(s) {
		switch {
		case p < len(pattern) && pattern[p] == '*':
			star, back = p, i
			p++
		case p < len(pattern) && pattern[p] == s[i]:
			p++
			i++
		case star >= 0:
			back++
			p, i = star+1, back
		default:
			return false
		}
	}
	for p < len(pattern) && pattern[p] == '*' {
		p++
	}
	return p == len(pattern)
}

// normalise writes a path the one way that RFC 9309 §2.2.2 compares: octets outside
// US-ASCII and those that RFC 3986 reserves nothing for are percent-encoded with
// upper-case digits; an encoded unreserved octet is decoded.
func normalise(s string) string {
	const upper = "0123456789ABCDEF"
	var b strings.Builder
	b.Grow(len(s))
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c == '%' && i+2 < len(s) && isHex(s[i+1]) && isHex(s[i+2]) {
			v := unhex(s[i+1])<<4 | unhex(s[i+2])
			if unreserved(v) {
				b.WriteByte(v)
			} else {
				b.WriteByte('%')
				b.WriteByte(upper[v>>4])
				b.WriteByte(upper[v&15])
			}
			i += 2
			continue
		}
		if c <= ' ' || c >= 0x7f {
			b.WriteByte('%')
			b.WriteByte(upper[c>>4])
			b.WriteByte(upper[c&15])
			continue
		}
		b.WriteByte(c)
	}
	return b.String()
}

func isHex(c byte) bool {
	return '0' <= c && c <= '9' || 'a' <= c && c <= 'f' || 'A' <= c && c <= 'F'
}

func unhex(c byte) byte {
	switch {
	case c <= '9':
		return c - '0'
	case c >= 'a':
		return c - 'a' + 10
	}
	return c - 'A' + 10
}

// unreserved is RFC 3986 §2.3.
func unreserved(c byte) bool {
	return 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' || strings.IndexByte("-._~", c) >= 0
}
