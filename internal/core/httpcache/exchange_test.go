package httpcache

import (
	"bytes"
	"encoding/json"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var noon = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

func stamp(t time.Time) string { return t.Format("Mon, 02 Jan 2006 15:04:05 GMT") }

func got(status int, fields ...string) Exchange {
	e := Exchange{Method: "GET", Status: status, Request: Header{}, Response: Header{"date": {stamp(noon)}}, Received: noon}
	for i := 0; i < len(fields); i += 2 {
		e.Response[fields[i]] = append(e.Response[fields[i]], fields[i+1])
	}
	return e
}

// RFC 9111 §3, §3.5 and §5.2.2, rule by rule.
func TestWhatMayBeStored(t *testing.T) {
	with := func(e Exchange, name, value string) Exchange { e.Request[name] = []string{value}; return e }
	post := got(200, "cache-control", "max-age=60")
	post.Method = "POST"
	for name, tc := range map[string]struct {
		e               Exchange
		shared, private bool
	}{
		"a plain page":                       {got(200), true, true},
		"no-store":                           {got(200, "cache-control", "max-age=60, no-store"), false, false},
		"private":                            {got(200, "cache-control", "private, max-age=60"), false, true},
		"a directive in capitals":            {got(200, "Cache-Control", ""), true, true},
		"Private in capitals":                {got(200, "cache-control", "Private"), false, true},
		"a quoted list hides nothing":        {got(200, "cache-control", `no-cache="set-cookie, private", max-age=5`), true, true},
		"with Authorization":                 {with(got(200, "cache-control", "max-age=60"), "authorization", "x"), false, true},
		"with Authorization, public":         {with(got(200, "cache-control", "public"), "authorization", "x"), true, true},
		"with Authorization, s-maxage":       {with(got(200, "cache-control", "s-maxage=60"), "authorization", "x"), true, true},
		"the request says no-store":          {with(got(200), "cache-control", "no-store"), false, false},
		"a redirect without a lifetime":      {got(302), false, false},
		"a redirect with a lifetime":         {got(302, "cache-control", "max-age=60"), true, true},
		"a redirect with s-maxage":           {got(302, "cache-control", "s-maxage=60"), true, false},
		"a lasting redirect":                 {got(301), true, true},
		"a part":                             {got(206), false, false},
		"an answer to a form":                {post, false, false},
		"must-understand, and it is":         {got(200, "cache-control", "must-understand, no-store, max-age=60"), true, true},
		"an error that has no lifetime":      {got(500), false, false},
		"no final status":                    {got(199, "cache-control", "max-age=60"), false, false},
		"a failure with a lifetime":          {got(503, "cache-control", "max-age=60"), true, true},
		"a refusal with a lifetime":          {got(403, "cache-control", "s-maxage=60"), true, false},
		"must-understand, and it is not":     {got(503, "cache-control", "must-understand, max-age=60"), false, false},
		"private fields alone":               {got(200, "cache-control", `private="x-basket", max-age=60`), true, true},
		"a missing page, which may be kept":  {got(404), true, true},
		"Expires, although it is no date":    {got(302, "expires", "0"), true, true},
		"private with a redirect's lifetime": {got(302, "cache-control", "private"), false, true},
	} {
		t.Run(name, func(t *testing.T) {
			s, p := tc.e.Storable(true), tc.e.Storable(false)
			assert.Equal(t, tc.shared, s.Yes, s.Why)
			assert.Equal(t, tc.private, p.Yes, p.Why)
			assert.NotEmpty(t, s.Why)
		})
	}
}

// RFC 9111 §4.2.1 and §4.2.2; the worked heuristic of a tenth is §4.2.2's.
func TestLifetimes(t *testing.T) {
	for name, tc := range map[string]struct {
		e      Exchange
		shared bool
		want   time.Duration
	}{
		"s-maxage for a shared cache":       {got(200, "cache-control", "max-age=60, s-maxage=600"), true, 10 * time.Minute},
		"but not for one person's":          {got(200, "cache-control", "max-age=60, s-maxage=600"), false, time.Minute},
		"max-age before Expires":            {got(200, "cache-control", "max-age=60", "expires", stamp(noon.Add(time.Hour))), true, time.Minute},
		"Expires":                           {got(200, "expires", stamp(noon.Add(time.Hour))), true, time.Hour},
		"Expires in the oldest form":        {got(200, "expires", noon.Add(time.Hour).Format("Mon Jan _2 15:04:05 2006")), true, time.Hour},
		"Expires 0 is past":                 {got(200, "expires", "0"), true, 0},
		"a tenth of the time since":         {got(200, "last-modified", stamp(noon.Add(-10*time.Hour))), true, time.Hour},
		"nothing says":                      {got(200), true, 0},
		"max-age that is no number":         {got(200, "cache-control", "max-age=soon"), true, 0},
		"the first of two":                  {got(200, "cache-control", "max-age=60, max-age=600"), true, time.Minute},
		"larger than numbers go":            {got(200, "cache-control", "max-age=99999999999999999999"), true, most * time.Second},
		"in quotes, as it should not be":    {got(200, "cache-control", `max-age="60"`), true, time.Minute},
		"no heuristic for a short redirect": {got(302, "last-modified", stamp(noon.Add(-10*time.Hour))), true, 0},
	} {
		t.Run(name, func(t *testing.T) {
			d, _ := tc.e.Lifetime(tc.shared)
			assert.Equal(t, tc.want, d)
		})
	}
}

// RFC 9111 §4.2.3.
func TestAge(t *testing.T) {
	e := got(200, "age", "30")
	e.Took = 2 * time.Second
	assert.Equal(t, 32*time.Second, e.Age(noon), "what a cache before said, and how long it took")
	assert.Equal(t, 92*time.Second, e.Age(noon.Add(time.Minute)))
	assert.Equal(t, 30*time.Second, got(200, "age", "30, 40").Age(noon), "of a list the first member counts (§5.1)")
	e = got(200)
	e.Response["date"] = []string{stamp(noon.Add(-time.Minute))}
	assert.Equal(t, time.Minute, e.Age(noon), "the apparent age")
	e.Response["date"] = []string{stamp(noon.Add(time.Minute))}
	assert.Zero(t, e.Age(noon), "a clock that is ahead makes nothing younger than new")
}

func TestWhatMayBeServedWithoutAsking(t *testing.T) {
	for field, want := range map[string]bool{"max-age=60": true, "max-age=60, no-cache": false, "max-age=10": false, "": false} {
		e := got(200, "cache-control", field)
		assert.Equal(t, want, e.Fresh(noon.Add(30*time.Second), true).Yes, field)
	}
	e := got(200, "cache-control", "max-age=60", "vary", "*")
	assert.Contains(t, e.Fresh(noon, true).Why, "Vary")
}

// RFC 5861 §3 and §4, and what RFC 9111 forbids to be served stale.
func TestHowLongAStaleResponseMayBeServed(t *testing.T) {
	m, onError := got(200, "cache-control", "max-age=600, stale-while-revalidate=30, stale-if-error=1200").Spare(true)
	assert.Equal(t, 30*time.Second, m)
	assert.Equal(t, 20*time.Minute, onError)
	for _, d := range []string{"must-revalidate", "no-cache", "proxy-revalidate", "s-maxage=60"} {
		m, _ = got(200, "cache-control", "max-age=600, stale-while-revalidate=30, "+d).Spare(true)
		assert.Zero(t, m, d)
	}
	m, _ = got(200, "cache-control", "max-age=600, stale-while-revalidate=30, proxy-revalidate").Spare(false)
	assert.Equal(t, 30*time.Second, m, "it binds shared caches only")
}

func TestWhereASiteContradictsItself(t *testing.T) {
	kinds := func(e Exchange, s Seen) (out []ContradictionKind) {
		for _, c := range e.Contradictions(s) {
			out = append(out, c.Kind)
		}
		return out
	}
	mine := map[string]bool{"sid": true}
	assert.Empty(t, kinds(got(200), Seen{Served: Cached, Cookies: mine}), "the speed layer's own lifetime is not the response's")
	assert.Equal(t, []ContradictionKind{CookieCached}, kinds(got(200, "set-cookie", "sid=1; Path=/"), Seen{Served: Cached, Cookies: mine}))
	assert.Empty(t, kinds(got(200, "set-cookie", "sid=1; Path=/"), Seen{Served: Origin, Cookies: mine}))
	assert.Empty(t, kinds(got(200, "set-cookie", "theme=dark"), Seen{Served: Cached, Cookies: mine}), "not every cookie is somebody's")
	assert.Equal(t, []ContradictionKind{PrivateCached}, kinds(got(200, "cache-control", "private, max-age=60"), Seen{Served: Cached}))
	assert.Equal(t, []ContradictionKind{PrivateCached}, kinds(got(200, "cache-control", "no-store"), Seen{Served: Cached}))
	assert.Equal(t, []ContradictionKind{PastLife}, kinds(got(200, "cache-control", "s-maxage=60", "age", "90"), Seen{Served: Cached}))
	assert.Equal(t, []ContradictionKind{PastLife}, kinds(got(200, "cache-control", "s-maxage=60", "age", "90, 1"), Seen{Served: Stale}))
	assert.Empty(t, kinds(got(200, "cache-control", `private="x-basket", max-age=60`), Seen{Served: Cached}), "only those fields are private (§5.2.2.7)")
	assert.Empty(t, kinds(got(200, "cache-control", "must-understand, no-store, max-age=60"), Seen{Served: Cached}), "who understands the status may keep it (§5.2.2.3)")
	aged := got(200, "cache-control", "max-age=60")
	aged.Response["date"] = []string{stamp(noon.Add(-2 * time.Minute))}
	assert.Equal(t, []ContradictionKind{PastLife}, kinds(aged, Seen{Served: Cached}), "without Age its date tells (§4.2.3)")
	assert.Empty(t, kinds(got(200, "cache-control", "max-age=60, stale-while-revalidate=60", "age", "90"), Seen{Served: Cached}))
	assert.Equal(t, []ContradictionKind{VaryMissing}, kinds(got(200, "cache-control", "max-age=60"), Seen{Served: Origin, Differs: []string{"user-agent"}}))
	assert.Empty(t, kinds(got(200, "cache-control", "max-age=60", "vary", "Accept-Encoding, User-Agent"), Seen{Served: Cached, Differs: []string{"user-agent"}}))
	assert.Empty(t, kinds(got(200), Seen{Served: Cached, Differs: []string{"user-agent"}}), "the site's own cache may tell them apart by other means")
}

// generated is an exchange as the reference takes it.
type generated struct {
	Method   string            `json:"method"`
	Status   int               `json:"status"`
	Shared   bool              `json:"shared"`
	Request  map[string]string `json:"request"`
	Response map[string]string `json:"response"`
	Received int64             `json:"received"` // milliseconds
	Asked    int64             `json:"asked"`
}

func generate(r *rand.Rand) generated {
	g := generated{Method: "GET", Status: 200, Shared: r.IntN(3) > 0, Request: map[string]string{}, Response: map[string]string{}, Received: noon.UnixMilli()}
	g.Asked = g.Received + int64(r.IntN(200))*1000
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	if r.IntN(8) == 0 {
		g.Method = pick("HEAD", "PUT", "GET")
	}
	if r.IntN(3) == 0 {
		g.Status = []int{203, 204, 206, 301, 302, 303, 307, 308, 404, 410, 500, 503, 501}[r.IntN(13)]
	}
	var cc []string
	for _, d := range []struct {
		of   int
		text string
	}{{2, "max-age=" + pick("0", "30", "120", "soon")}, {4, "s-maxage=" + pick("10", "150")}, {5, "public"}, {6, "private"}, {9, "no-cache"}, {9, "no-store"}, {8, "must-revalidate"}, {10, "proxy-revalidate"}, {10, "immutable"}} {
		if r.IntN(d.of) == 0 {
			cc = append(cc, d.text)
		}
	}
	if len(cc) > 0 {
		g.Response["cache-control"] = strings.Join(cc, ", ")
	}
	g.Response["date"] = stamp(noon.Add(-time.Duration(r.IntN(3)*20) * time.Second))
	if r.IntN(4) == 0 {
		g.Response["expires"] = pick("0", stamp(noon.Add(90*time.Second)), stamp(noon.Add(-time.Hour)))
	}
	if r.IntN(3) == 0 {
		g.Response["last-modified"] = stamp(noon.Add(-time.Duration(1+r.IntN(60)) * time.Minute))
	}
	if r.IntN(4) == 0 {
		g.Response["age"] = pick("5", "60")
	}
	if r.IntN(10) == 0 {
		g.Response["vary"] = pick("*", "accept-encoding")
	}
	if r.IntN(10) == 0 {
		g.Response["set-cookie"] = "a=b"
	}
	if r.IntN(10) == 0 {
		g.Request["authorization"] = "Bearer x"
	}
	if r.IntN(14) == 0 {
		g.Request["cache-control"] = "no-store"
	}
	return g
}

func (g generated) exchange() Exchange {
	e := Exchange{Method: g.Method, Status: g.Status, Request: Header{}, Response: Header{}, Received: noon}
	for k, v := range g.Request {
		e.Request[k] = []string{v}
	}
	for k, v := range g.Response {
		e.Response[k] = []string{v}
	}
	return e
}

// why explains a disagreement with the reference; "" when it cannot be explained.
func why(g generated) string {
	cc := g.Response["cache-control"]
	has := func(d string) bool { return strings.Contains(cc, d) }
	switch {
	case g.Shared && g.Response["set-cookie"] != "" && !has("public") && !has("immutable"):
		return "the reference does not reuse what sets a cookie, of its own opinion; RFC 9111 §7.3 leaves it to the site"
	case g.Shared && has("proxy-revalidate"):
		return "the reference takes proxy-revalidate for stale at once; RFC 9111 §5.2.2.8 binds only once it is stale"
	case has("immutable") && !has("max-age"):
		return "the reference gives immutable a day; RFC 8246 §2 gives no lifetime"
	case (g.Status == 500 || g.Status == 503) && (has("max-age") || has("s-maxage") || has("public") || g.Response["expires"] != "" || has("private")):
		return "the reference wants every status to be understood, as RFC 7234 §3 did; RFC 9111 §3 wants it for 206, 304 and must-understand"
	case g.Response["date"] != stamp(noon):
		return "the reference leaves out the apparent age of RFC 9111 §4.2.3"
	}
	return ""
}

// The reference is npm's http-cache-semantics 4.2.0 on the same 600 exchanges.
func TestStorableAndFreshAgreeWithTheReference(t *testing.T) {
	modules, err := filepath.Abs("../../../web/node_modules")
	require.NoError(t, err)
	if _, err := os.Stat(filepath.Join(modules, "http-cache-semantics")); err != nil {
		t.Fatal("npm's http-cache-semantics is not installed: run npm ci in web")
	}
	r := rand.New(rand.NewPCG(9111, 4))
	var list []generated
	for range 600 {
		list = append(list, generate(r))
	}
	raw, err := json.Marshal(list)
	require.NoError(t, err)
	cmd := exec.Command("node", "testdata/semantics.mjs", modules)
	cmd.Stdin = bytes.NewReader(raw)
	out, err := cmd.Output()
	require.NoError(t, err)
	var want []struct{ Storable, Fresh bool }
	require.NoError(t, json.Unmarshal(out, &want))
	fresh, explained := 0, map[string]int{}
	for i, g := range list {
		e := g.exchange()
		s, f := e.Storable(g.Shared), e.Fresh(time.UnixMilli(g.Asked), g.Shared)
		if s.Yes != want[i].Storable {
			// RFC 9111 §3 lets a private cache keep what is private; RFC 7234 did not say so.
			private := s.Yes && !g.Shared && strings.Contains(g.Response["cache-control"], "private")
			// And it asks whether the status is understood only where §3 says so.
			failure := s.Yes && (g.Status == 500 || g.Status == 503)
			require.True(t, private || failure, "%+v: %s", g, s.Why)
			explained["the reference reads RFC 7234: private is not enough for a private cache, and every status has to be understood"]++
		}
		if f.Yes != want[i].Fresh {
			reason := why(g)
			require.NotEmpty(t, reason, "%+v: %s", g, f.Why)
			explained[reason]++
		}
		if f.Yes {
			fresh++
		}
	}
	assert.Greater(t, fresh, 60, "the exchanges are not all of one kind")
	total := 0
	for reason, n := range explained {
		t.Logf("%d × %s", n, reason)
		total += n
	}
	assert.Less(t, total, 120, "most agree")
}
