package httpcache

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Seen is what was observed of an exchange beside its fields.
type Seen struct {
	Served  Served
	Differs []string        // request fields, in lower case, on which the page depends
	Token   time.Duration   // age of the form token in the page; 0 when there is none
	Expires time.Duration   // for how long the site takes such a token; 0 when not known
	Cookies map[string]bool // names of cookies that mark one person
}

// ContradictionKind says in what a site contradicts itself.
type ContradictionKind string

// The contradictions.
const (
	CookieCached  ContradictionKind = "cookie-cached"  // a cached page hands out somebody's cookie
	PrivateCached ContradictionKind = "private-cached" // it must not be kept, and was
	VaryMissing   ContradictionKind = "vary-missing"   // the page depends on a field that Vary does not name
	PastLife      ContradictionKind = "past-life"      // it was served longer than it may be
	TokenOld      ContradictionKind = "token-old"      // its form can no longer be sent
)

// Contradiction is one thing that cannot both be so.
type Contradiction struct {
	Kind ContradictionKind `json:"kind" enum:"cookie-cached,private-cached,vary-missing,past-life,token-old"`
	Text string            `json:"text"`
}

// Contradictions compares what a response says with what was seen, at the time it was
// received. What a cache in front of the site was told by other means, such as the speed
// layer's own lifetime, is not known here: a cached page without any caching field is no
// contradiction.
func (e Exchange) Contradictions(s Seen) []Contradiction {
	var out []Contradiction
	say := func(k ContradictionKind, format string, args ...any) {
		out = append(out, Contradiction{k, fmt.Sprintf(format, args...)})
	}
	cc := directives(e.Response.Get("cache-control"))
	if s.Served.FromCache() {
		if s.Expires > 0 && s.Token > s.Expires {
			say(TokenOld, "The hidden value of its form is %s old, and the site takes it for %s.", s.Token.Round(time.Second), s.Expires)
		}
		for _, line := range e.Response["set-cookie"] {
			if name, _, _ := strings.Cut(line, "="); s.Cookies[strings.TrimSpace(name)] {
				say(CookieCached, "A cached page hands out the cookie %s to everybody who asks.", strings.TrimSpace(name))
			}
		}
		for _, d := range []string{"private", "no-store"} {
			if cc.entire(d) && !(d == "no-store" && e.Storable(true).Yes) {
				say(PrivateCached, "The response says %s, yet it came from a shared cache (RFC 9111 §3).", d)
			}
		}
		meanwhile, _ := e.Spare(true)
		fresh := e.Fresh(e.Received.Add(-meanwhile), true)
		if e.explicit(true, cc) && e.Storable(true).Yes && !cc.entire("no-cache") && !slices.Contains(varies(e.Response.Get("vary")), "*") && !fresh.Yes {
			life, by := e.Lifetime(true)
			say(PastLife, "It is %s old and may be served for %s, by %s.", e.Age(e.Received).Round(time.Second), life+meanwhile, by)
		}
	}
	vary := varies(e.Response.Get("vary"))
	// The site's own cache may tell variants apart by more than Vary; others cannot.
	if e.Storable(true).Yes && e.explicit(true, cc) {
		for _, field := range s.Differs {
			if !slices.Contains(vary, field) && !slices.Contains(vary, "*") {
				say(VaryMissing, "The page depends on %s, which Vary does not name; a shared cache may serve one for the other (RFC 9111 §4.1).", field)
			}
		}
	}
	return out
}

func varies(field string) []string {
	var out []string
	for _, f := range strings.Split(field, ",") {
		if f = strings.ToLower(strings.TrimSpace(f)); f != "" {
			out = append(out, f)
		}
	}
	return out
}
