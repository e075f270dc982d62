package httpcache

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Header holds fields by their lower-case names, each with its lines.
type Header map[string][]string

// Get is a field's value, lines joined as RFC 9110 §5.3 says.
func (h Header) Get(name string) string { return strings.Join(h[name], ", ") }

// Exchange is a request and the response to it.
type Exchange struct {
	Method   string
	Request  Header
	Status   int
	Response Header
	Received time.Time     // when the response came
	Took     time.Duration // from the request to then
}

// Judgement is an answer and its reason, with the place in the standard.
type Judgement struct {
	Yes bool   `json:"yes"`
	Why string `json:"why"`
}

func yes(why string) Judgement { return Judgement{true, why} }
func no(why string) Judgement  { return Judgement{false, why} }

// understood are the final statuses whose meaning for a cache is known here. Only a
// response that says must-understand has to be one of them (RFC 9111 §3, §5.2.2.3).
var understood = []int{200, 203, 204, 300, 301, 302, 303, 307, 308, 404, 405, 410, 414, 501}

// heuristic are the statuses that may be kept without an explicit lifetime (RFC 9110
// §15.1).
var heuristic = []int{200, 203, 204, 206, 300, 301, 308, 404, 405, 410, 414, 501}

// Storable tells whether a cache, shared by people or private to one, may keep the
// response (RFC 9111 §3).
func (e Exchange) Storable(shared bool) Judgement {
	cc, asked := directives(e.Response.Get("cache-control")), directives(e.Request.Get("cache-control"))
	switch {
	case e.Method != "GET" && e.Method != "HEAD":
		return no(e.Method + " is not kept here.")
	case e.Status < 200 || e.Status > 599:
		return no(fmt.Sprintf("The status %d is not a final one (§3).", e.Status))
	case e.Status == 206 || e.Status == 304:
		return no(fmt.Sprintf("Parts and confirmations (%d) are not put together here (§3.3, §4.3.4).", e.Status))
	case cc.has("must-understand") && !slices.Contains(understood, e.Status):
		return no(fmt.Sprintf("The response says must-understand, and the status %d is not understood (§5.2.2.3).", e.Status))
	case cc.has("no-store") && !cc.has("must-understand"):
		return no("The response says no-store (§5.2.2.5).")
	case asked.has("no-store"):
		return no("The request says no-store (§5.2.1.5).")
	case shared && cc.entire("private"):
		return no("The response is private (§5.2.2.7).")
	case shared && e.Request.Get("authorization") != "" && !cc.has("must-revalidate") && !cc.has("public") && !cc.has("s-maxage"):
		return no("The request has Authorization, and nothing allows to keep its response (§3.5).")
	case cc.has("public"):
		return yes("The response is public (§5.2.2.9).")
	case !shared && cc.entire("private"):
		return yes("The response is private (§5.2.2.7).")
	case e.explicit(shared, cc):
		return yes("The response states a lifetime (§4.2.1).")
	case slices.Contains(heuristic, e.Status):
		return yes(fmt.Sprintf("The status %d may be kept without a stated lifetime (§4.2.2).", e.Status))
	}
	return no(fmt.Sprintf("The status %d needs a stated lifetime (§3).", e.Status))
}

func (e Exchange) explicit(shared bool, cc control) bool {
	return shared && cc.has("s-maxage") || cc.has("max-age") || len(e.Response["expires"]) > 0
}

// Lifetime is for how long the response is fresh, from when it was made (RFC 9111
// §4.2.1, §4.2.2). An invalid value makes it stale.
func (e Exchange) Lifetime(shared bool) (time.Duration, string) {
	cc := directives(e.Response.Get("cache-control"))
	if shared {
		if v, there := cc["s-maxage"]; there {
			return seconds(v), "s-maxage"
		}
	}
	if v, there := cc["max-age"]; there {
		return seconds(v), "max-age"
	}
	date := e.date()
	if lines := e.Response["expires"]; len(lines) > 0 {
		at, ok := ParseDate(lines[0])
		if !ok || at.Before(date) {
			return 0, "Expires"
		}
		return at.Sub(date), "Expires"
	}
	modified, ok := ParseDate(e.Response.Get("last-modified"))
	if ok && modified.Before(date) && (slices.Contains(heuristic, e.Status) || cc.has("public")) {
		return date.Sub(modified) / 10, "a tenth of the time since it was modified"
	}
	return 0, "nothing"
}

// Kept is for how long a browser uses the response again without asking, when the response
// itself says so; 0 when it may not or says nothing.
func (e Exchange) Kept() time.Duration {
	cc := directives(e.Response.Get("cache-control"))
	if !e.Storable(false).Yes || !e.explicit(false, cc) || cc.entire("no-cache") {
		return 0
	}
	lifetime, _ := e.Lifetime(false)
	return max(0, lifetime)
}

// Age is how old the response is at a time (RFC 9111 §4.2.3).
func (e Exchange) Age(at time.Time) time.Duration {
	apparent := max(0, e.Received.Sub(e.date()))
	said, _ := ParseAge(e.Response["age"])
	corrected := said + e.Took
	return max(apparent, corrected) + at.Sub(e.Received)
}

// Fresh tells whether a kept response may be served at a time without asking again
// (RFC 9111 §4).
func (e Exchange) Fresh(at time.Time, shared bool) Judgement {
	if s := e.Storable(shared); !s.Yes {
		return s
	}
	cc := directives(e.Response.Get("cache-control"))
	lifetime, by := e.Lifetime(shared)
	age := e.Age(at)
	switch {
	case cc.entire("no-cache"):
		return no("no-cache: the origin is to be asked each time (§5.2.2.4).")
	case strings.TrimSpace(e.Response.Get("vary")) == "*":
		return no("Vary: * matches no later request (§4.1).")
	case age >= lifetime:
		return no(fmt.Sprintf("It is %s old and fresh for %s, by %s (§4.2).", age.Round(time.Second), lifetime, by))
	}
	return yes(fmt.Sprintf("It is %s old and fresh for %s, by %s (§4.2).", age.Round(time.Second), lifetime, by))
}

// Spare is for how long past its lifetime the response may be served while a new one is
// made, and when none can be made (RFC 5861 §3, §4); nothing when it must be asked for
// (RFC 9111 §5.2.2.2, §5.2.2.8, §5.2.2.10).
func (e Exchange) Spare(shared bool) (meanwhile, onError time.Duration) {
	cc := directives(e.Response.Get("cache-control"))
	if cc.has("must-revalidate") || cc.entire("no-cache") || shared && (cc.has("proxy-revalidate") || cc.has("s-maxage")) {
		return 0, 0
	}
	return seconds(cc["stale-while-revalidate"]), seconds(cc["stale-if-error"])
}

func (e Exchange) date() time.Time {
	if at, ok := ParseDate(e.Response.Get("date")); ok {
		return at
	}
	return e.Received
}

// control is a Cache-Control field by its directives, names in lower case.
type control map[string]string

func (c control) has(name string) bool { _, there := c[name]; return there }

// entire tells whether a directive is there without naming fields: private="x" and
// no-cache="x" are about these fields alone (RFC 9111 §5.2.2.4, §5.2.2.7).
func (c control) entire(name string) bool { v, there := c[name]; return there && v == "" }

// directives reads Cache-Control (RFC 9111 §5.2): names and what they are set to, which
// may be quoted. Of a directive that is there twice the first counts (§4.2.1).
func directives(field string) control {
	out := control{}
	for _, part := range split(field) {
		name, value, _ := strings.Cut(part, "=")
		name = strings.ToLower(strings.TrimSpace(name))
		if _, twice := out[name]; name == "" || twice {
			continue
		}
		value = strings.TrimSpace(value)
		if len(value) > 1 && value[0] == '"' && value[len(value)-1] == '"' {
			value = value[1 : len(value)-1]
		}
		out[name] = value
	}
	return out
}

// split parts a list at its commas, but not within quotes.
func split(field string) []string {
	var out []string
	quoted, begin := false, 0
	for i := range len(field) {
		switch {
		case field[i] == '"':
			quoted = !quoted
		case field[i] == ',' && !quoted:
			out = append(out, field[begin:i])
			begin = i + 1
		}
	}
	return append(out, field[begin:])
}

// most is what a number of seconds that is too large counts as (RFC 9111 §1.2.2).
const most = 1 << 31

// seconds reads delta-seconds; what is none counts as none.
func seconds(v string) time.Duration {
	n, err := strconv.ParseUint(strings.TrimSpace(v), 10, 64)
	if err != nil && !strings.Contains(err.Error(), "out of range") {
		return 0
	}
	return time.Duration(min(n, most)) * time.Second
}

// ParseDate reads a date in any of the three forms of RFC 9110 §5.6.7.
func ParseDate(v string) (time.Time, bool) {
	for _, form := range []string{"Mon, 02 Jan 2006 15:04:05 GMT", "Monday, 02-Jan-06 15:04:05 GMT", "Mon Jan _2 15:04:05 2006"} {
		if t, err := time.Parse(form, strings.TrimSpace(v)); err == nil {
			return t, true
		}
	}
	return time.Time{}, false
}
