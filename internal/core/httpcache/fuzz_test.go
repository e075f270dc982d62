package httpcache

import (
	"strings"
	"testing"
	"time"
)

// FuzzExchange judges responses whose fields are anything: nothing is kept for less than no time, and what is not storable is
// not fresh either.
func FuzzExchange(f *testing.F) {
	f.Add("GET", 200, "cache-control: max-age=60, private=\"set-cookie\"\nage: 30, 40\ndate: Sun, 06 Nov 1994 08:49:37 GMT\nexpires: 0\nvary: *")
	f.Add("GET", 206, "cache-control: must-understand, no-store, s-maxage=99999999999999999999\netag: \"a\"")
	f.Add("POST", 0, "cache-control: =,\",max-age=-1\nset-cookie: a=b; path=/")
	f.Fuzz(func(t *testing.T, method string, status int, fields string) {
		h := Header{}
		for _, line := range strings.Split(fields, "\n") {
			if name, value, ok := strings.Cut(line, ":"); ok {
				name = strings.ToLower(strings.TrimSpace(name))
				h[name] = append(h[name], strings.TrimSpace(value))
			}
		}
		now := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
		e := Exchange{Method: method, Status: status, Response: h, Received: now, Took: time.Second}
		for _, shared := range []bool{true, false} {
			if d, _ := e.Lifetime(shared); d < 0 {
				t.Fatalf("a lifetime of %s", d)
			}
			e.Storable(shared)
			e.Fresh(now.Add(time.Hour), shared)
			if a, b := e.Spare(shared); a < 0 || b < 0 {
				t.Fatalf("spare %s, %s", a, b)
			}
		}
		if e.Age(now) < 0 || e.Kept() < 0 {
			t.Fatalf("an age of %s, kept for %s", e.Age(now), e.Kept())
		}
		e.Contradictions(Seen{})
	})
}

// FuzzCacheStatus reads the fields by which a site tells that a page was cached (RFC 9211, RFC 9111 5.1).
func FuzzCacheStatus(f *testing.F) {
	f.Add(`edge; hit; ttl=30, "origin"; fwd=uri-miss; stored`, "30, 40")
	f.Add(`;;;=,"`, "-1")
	f.Fuzz(func(t *testing.T, status, age string) {
		list, err := ParseCacheStatus([]string{status})
		if err != nil && len(list) > 0 {
			t.Fatal("something was read and refused")
		}
		if d, ok := ParseAge([]string{age}); ok && d < 0 {
			t.Fatalf("an age of %s", d)
		}
		ParseDate(age)
	})
}
