package browser

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/vitals"
)

var shared *Browser

func digest(raw []byte) string {
	sum := sha256.Sum256(raw)
	return hex.EncodeToString(sum[:])
}

func TestMain(m *testing.M) {
	var err error
	if shared, err = Start(Options{Tabs: 2, Timeout: 60 * time.Second}); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	shared.Close()
	os.Exit(code)
}

// pages serves HTML by path; every address also counts how often it was asked for.
func pages(t *testing.T, bodies map[string]string) (site.Environment, map[string]*atomic.Int32) {
	t.Helper()
	asked := map[string]*atomic.Int32{}
	mux := http.NewServeMux()
	for path, body := range bodies {
		n := &atomic.Int32{}
		asked[path] = n
		mux.HandleFunc(path+"{$}", func(w http.ResponseWriter, _ *http.Request) {
			n.Add(1)
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			w.Header().Set("Cache-Status", "edge; hit")
			w.Header().Set("Set-Cookie", "session=very-secret; Path=/")
			_, _ = w.Write([]byte("<!doctype html><meta name=viewport content='width=device-width'>" + body))
		})
	}
	mux.HandleFunc("/tall.svg", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "image/svg+xml")
		_, _ = w.Write([]byte(`<svg xmlns="http://www.w3.org/2000/svg" width="300" height="300"><rect width="300" height="300" fill="teal"/></svg>`))
	})
	s := httptest.NewServer(mux)
	t.Cleanup(s.Close)
	return site.Environment{Name: "staging", URL: s.URL}, asked
}

func keepNothing(_ context.Context, _ string, raw []byte) (string, error) { return digest(raw), nil }

func look(t *testing.T, env site.Environment, path, device string, state State) evidence.PageLook {
	t.Helper()
	l, err := shared.Look(t.Context(), env, site.PageTask{Page: site.Page{Path: path, Class: "other", Masks: []site.Mask{{Selector: ".masked"}, {Selector: "((bad"}}}, Persona: "visitor", Device: device}, state, httpcache.NewReader(httpcache.Signal{}), keepNothing, nil)
	require.NoError(t, err)
	return l
}

func take(t *testing.T, env site.Environment, device string, steps ...journey.Step) journey.Outcome {
	t.Helper()
	j, err := shared.Take(t.Context(), env, site.JourneyTask{Journey: journey.Journey{Name: "j", Persona: "visitor", Steps: steps}, Device: device}, State{}, keepNothing)
	require.NoError(t, err)
	require.Empty(t, j.Missing)
	return j.Outcome
}

func TestALookYieldsItsEvidence(t *testing.T) {
	env, _ := pages(t, map[string]string{"/": `<title>Shop &lt;b&gt;</title><h1 id="top">Hello   there</h1><p class="masked note">now</p><img src="/tall.svg"><p>below</p>
		<img loading="lazy" src="/tall.svg?lazy" style="margin-top:3000px"><img src="/missing.png"><script>console.error("odd", 3); nowhere();</script>`})
	l := look(t, env, "/", site.Phone, State{})
	require.Empty(t, l.Missing)
	assert.Equal(t, 200, l.Status)
	assert.Equal(t, "Shop <b>", l.Title)
	assert.Equal(t, httpcache.Cached, l.Served)
	assert.NotContains(t, fmt.Sprint(l), "very-secret", "a cookie's value is not kept")
	assert.Equal(t, 390, l.Picture.Width)
	assert.Greater(t, l.Picture.Height, 3300)
	require.Len(t, l.Errors, 1)
	assert.Contains(t, l.Errors[0].Message, "nowhere is not defined")
	assert.Equal(t, []string{"odd 3"}, l.Console)
	assert.Len(t, l.Masked, 1, "a selector that is none masks nothing")
	broken, lazy := 0, false
	for _, r := range l.Requests {
		if r.Broken() {
			broken++
			assert.Contains(t, r.URL, "missing.png")
		}
		lazy = lazy || r.URL == env.URL+"/tall.svg?lazy" && r.Status == 200
	}
	assert.Equal(t, 1, broken)
	assert.True(t, lazy, "what is lazy was scrolled to")
	score, _ := vitals.CumulativeLayoutShift(l.Shifts)
	assert.Positive(t, score, "a picture without dimensions moves what is below it, on loopback too")
	assert.Equal(t, "Hello there", l.Lines[0].Text)
	assert.Equal(t, "#top", l.Outline[l.Lines[0].Box].Path)
}

func TestTheSamePageGivesTheSamePicture(t *testing.T) {
	env, _ := pages(t, map[string]string{"/": `<style>@keyframes a{from{opacity:0}to{opacity:1}} h1{animation:a 5s} b{animation:a 1s infinite}</style><h1>Slow</h1><b>pulses</b>`})
	a, b := look(t, env, "/", site.Desktop, State{}), look(t, env, "/", site.Desktop, State{})
	assert.Equal(t, a.Picture, b.Picture, "animations are at their end")
}

// A headline that moves on, a clock, a shuffled row, an animation without end: each look
// sees the same moment of them, however long the page took to come.
func TestWhatMovesByTimersStandsAtTheSamePointInEveryLook(t *testing.T) {
	env, asked := pages(t, map[string]string{
		"/slow/": `late`,
		"/": `<style>@keyframes turn{to{transform:rotate(1turn)}} i{display:inline-block;animation:turn 1.3s infinite linear}</style>
			<h1>Headline 0</h1><time></time><p>chance</p><i>turning</i><script>
			let n = 0, began = Date.now();
			setInterval(() => { document.querySelector("h1").textContent = "Headline " + ++n; }, 450);
			setInterval(() => { document.querySelector("time").textContent = new Date().toISOString().slice(0, 22); }, 100);
			document.querySelector("p").textContent = [..."abcdefgh"].sort(() => Math.random() - 0.5).join("");
			fetch("/slow/").then((r) => r.text()).then((t) => { document.body.append(t); });</script>`})
	clock := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	see := func() evidence.PageLook {
		l, err := shared.Look(t.Context(), env, site.PageTask{Page: site.Page{Path: "/", Class: "other"}, Persona: "visitor", Device: site.Desktop, Clock: clock}, State{}, httpcache.NewReader(httpcache.Signal{}), keepNothing, nil)
		require.NoError(t, err)
		require.Empty(t, l.Missing)
		return l
	}
	first := see()
	text := fmt.Sprint(first.Lines)
	assert.Contains(t, text, "late", "what the page asks for by itself has come")
	assert.Contains(t, text, "Headline 45", "the page is 20.35 s old by its own clock, though looking took less")
	assert.Contains(t, text, "2026-03-01T12:00:20")
	for range 3 {
		again := see()
		assert.Equal(t, text, fmt.Sprint(again.Lines))
		assert.Equal(t, first.Picture, again.Picture)
	}
	assert.Equal(t, int32(4), asked["/slow/"].Load())
}

// A stream of events never ends; the page is looked at all the same.
func TestAPageThatKeepsAConnectionOpenIsLookedAt(t *testing.T) {
	mux := http.NewServeMux()
	mux.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		_, _ = w.Write([]byte(`<h1>0</h1><script>new EventSource("/events").onmessage = (e) => { document.querySelector("h1").textContent = e.data; };</script>`))
	})
	mux.HandleFunc("/events", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		_, _ = w.Write([]byte("data: 1 order\n\n"))
		_ = http.NewResponseController(w).Flush()
		<-r.Context().Done()
	})
	s := httptest.NewServer(mux)
	defer s.Close()
	l := look(t, site.Environment{Name: "staging", URL: s.URL}, "/", site.Desktop, State{})
	require.Empty(t, l.Missing)
	assert.Equal(t, "1 order", l.Lines[0].Text)
}

func TestOnlyTheSitesHostsAreReached(t *testing.T) {
	foreign, asked := pages(t, map[string]string{"/": "foreign"})
	env, _ := pages(t, map[string]string{"/": fmt.Sprintf(`<iframe src=%q></iframe><img src=%q><script>fetch(%q); window.open(%q)</script>`, foreign.URL+"/", foreign.URL+"/x.png", foreign.URL+"/", foreign.URL+"/")})
	l := look(t, env, "/", site.Desktop, State{})
	require.Empty(t, l.Missing)
	assert.Zero(t, asked["/"].Load(), "nothing of it was fetched")
	blocked := 0
	for _, r := range l.Requests {
		if r.Blocked {
			blocked++
			assert.False(t, r.Broken(), "what was stopped is not the site's fault")
		}
	}
	assert.GreaterOrEqual(t, blocked, 3)
	o := take(t, env, site.Desktop, journey.Step{Go: "/"}, journey.Step{Expect: &journey.Expect{Status: 200}})
	assert.Negative(t, o.Failed())
}

func TestAPageThatHangsIsTriedTwiceAndNotChecked(t *testing.T) {
	hung, err := Start(Options{Tabs: 1, Timeout: 3 * time.Second})
	require.NoError(t, err)
	defer hung.Close()
	env, asked := pages(t, map[string]string{"/": `<script>for (;;) {}</script>`, "/ok/": "<h1>Well</h1>"})
	task := site.PageTask{Page: site.Page{Path: "/"}, Persona: "visitor", Device: site.Desktop}
	l, err := hung.Look(t.Context(), env, task, State{}, httpcache.NewReader(httpcache.Signal{}), keepNothing, nil)
	require.NoError(t, err)
	assert.NotEmpty(t, l.Missing)
	assert.Equal(t, 2, l.Attempts)
	assert.EqualValues(t, 2, asked["/"].Load())
	l, err = shared.Look(t.Context(), site.Environment{URL: "http://127.0.0.1:1"}, task, State{}, httpcache.NewReader(httpcache.Signal{}), keepNothing, nil)
	require.NoError(t, err)
	assert.Contains(t, l.Missing, "could not be opened")
}

func TestChromiumIsStartedAgainWhenItDied(t *testing.T) {
	b, err := Start(Options{Tabs: 1})
	require.NoError(t, err)
	defer b.Close()
	env, _ := pages(t, map[string]string{"/": "<h1>Well</h1>"})
	p, err := os.FindProcess(b.launch.PID())
	require.NoError(t, err)
	require.NoError(t, p.Kill())
	l, err := b.Look(t.Context(), env, site.PageTask{Page: site.Page{Path: "/"}, Persona: "visitor", Device: site.Desktop}, State{}, httpcache.NewReader(httpcache.Signal{}), keepNothing, nil)
	require.NoError(t, err)
	assert.Empty(t, l.Missing)
}

// A Chromium that only is slow is not ended: whoever looks at something with it goes on.
func TestAContextThatDoesNotOpenHarmsNoOther(t *testing.T) {
	b, err := Start(Options{Tabs: 2, opens: 300 * time.Millisecond})
	require.NoError(t, err)
	defer b.Close()
	env, _ := pages(t, map[string]string{"/": "<h1>Well</h1>"})
	p, err := os.FindProcess(b.launch.PID())
	require.NoError(t, err)
	other, err := b.context(env)
	require.NoError(t, err)
	page, err := other.Page(proto.TargetCreateTarget{URL: "about:blank"})
	require.NoError(t, err)

	require.NoError(t, p.Signal(syscall.SIGSTOP))
	time.AfterFunc(time.Second, func() { _ = p.Signal(syscall.SIGCONT) }) // long after a context was to open
	c, err := b.context(env)
	require.NoError(t, err)
	require.NoError(t, c.Close())
	assert.Equal(t, p.Pid, b.launch.PID(), "it was ended for being slow")
	got, err := page.Eval(`() => 6 * 7`)
	require.NoError(t, err, "somebody else's page is gone")
	assert.Equal(t, 42, got.Value.Int())
}

func css(s string) *journey.Target { return &journey.Target{CSS: s} }

func TestEveryStepAndExpectation(t *testing.T) {
	env, _ := pages(t, map[string]string{"/": `
		<button id="b" onclick="document.querySelector('#menu').hidden = false; fetch('/api/')">Open the menu</button>
		<nav id="menu" hidden><a href="/two/?x=1" target="_blank">Second page</a></nav>
		<label>Your name <input id="n" onkeydown="if (event.key === 'Enter') document.title = this.value"></label>
		<select aria-label="Kind"><option value="o">Oyster</option><option value="m">Mane</option></select>
		<p id="late"></p><ul><li>a</li><li>b</li><li style="display:none">c</li></ul>
		<p class="h" onmouseover="this.textContent = 'pointed at'">hover me</p><p style="margin-top:2000px" id="far">far</p>
		<script>setTimeout(() => document.querySelector('#late').textContent = 'came late', 600)</script>`, "/two/": "<h1>Two</h1>", "/api/": "{}"})
	for _, device := range []string{site.Desktop, site.Phone} {
		o := take(t, env, device,
			journey.Step{Go: "/"},
			journey.Step{Expect: &journey.Expect{Hidden: css("#menu"), Count: &journey.Counted{Of: journey.Target{CSS: "li"}, Is: 2}, Status: 200}},
			journey.Step{Expect: &journey.Expect{Text: &journey.Containing{In: journey.Target{CSS: "#late"}, Contains: "came late"}}},
			journey.Step{Fill: &journey.Input{In: journey.Target{Label: "Your name"}, Value: "Ada"}},
			journey.Step{Press: "Enter"},
			journey.Step{Choose: &journey.Input{In: journey.Target{Label: "Kind"}, Value: "Mane"}},
			journey.Step{Hover: css(".h")},
			journey.Step{ScrollTo: css("#far")},
			journey.Step{Click: &journey.Target{Role: "button", Name: "Open the menu"}},
			journey.Step{Expect: &journey.Expect{Visible: &journey.Target{Role: "link", Name: "second"}, Request: "/api/", NoText: &journey.Containing{In: journey.Target{CSS: "body"}, Contains: "nothing"}}},
			journey.Step{Wait: &journey.Pause{Milliseconds: 1}},
			journey.Step{Click: &journey.Target{Text: "second page"}},
			journey.Step{Expect: &journey.Expect{URL: "/two/?x=*", Visible: &journey.Target{Role: "heading", Name: "Two"}}},
		)
		for _, s := range o.Steps {
			assert.True(t, s.Passed, "%s: %s: %s", device, s.Step, s.Why)
		}
		assert.NotEmpty(t, o.Steps[len(o.Steps)-1].Picture)
	}
}

func TestNothingIsAnsweredWhileAFingerIsDown(t *testing.T) {
	env, asked := pages(t, map[string]string{"/": `<button>Menu</button>`, "/late/": `menu`})
	tab, err := shared.open(t.Context(), env, site.Phone, State{})
	require.NoError(t, err)
	defer tab.close()
	require.NoError(t, tab.navigate("/"))
	require.NoError(t, tab.pressing(func() error {
		_, err := tab.page.Eval(`() => { window.late = fetch("/late/").then((r) => r.text()); return new Promise((done) => setTimeout(done, 300)); }`)
		assert.Zero(t, asked["/late/"].Load(), "a press is over before the network answers")
		return err
	}))
	got, err := tab.page.Eval(`() => window.late`)
	require.NoError(t, err)
	assert.Contains(t, got.Value.Str(), "menu")
}

func TestAStepThatDoesNotHoldSaysWhatWasSeenInstead(t *testing.T) {
	env, _ := pages(t, map[string]string{"/": `<h1>One</h1><select id="k"><option>a</option></select>`})
	for name, tc := range map[string]struct {
		step journey.Step
		why  string
	}{
		"not visible":   {journey.Step{Expect: &journey.Expect{Visible: css("#menu")}}, "#menu is not there, or not visible"},
		"not hidden":    {journey.Step{Expect: &journey.Expect{Hidden: css("h1")}}, "h1 is visible"},
		"another text":  {journey.Step{Expect: &journey.Expect{Text: &journey.Containing{In: journey.Target{CSS: "h1"}, Contains: "Two"}}}, "h1 has “One”"},
		"count":         {journey.Step{Expect: &journey.Expect{Count: &journey.Counted{Of: journey.Target{CSS: "h1"}, Is: 2}}}, "1 of h1 are visible, not 2"},
		"address":       {journey.Step{Expect: &journey.Expect{URL: "/two"}}, "the address is /"},
		"status":        {journey.Step{Expect: &journey.Expect{Status: 404}}, "answered with status 200"},
		"request":       {journey.Step{Expect: &journey.Expect{Request: "/api"}}, "no request for /api was answered"},
		"no such thing": {journey.Step{Click: &journey.Target{Role: "button", Name: "Buy"}}, "button “Buy” is not there"},
		"no option":     {journey.Step{Choose: &journey.Input{In: journey.Target{CSS: "#k"}, Value: "z"}}, "there is no option “z”"},
		"no such key":   {journey.Step{Press: "Hyperspace"}, "not a key name"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel() // each is waited for as long as it may take
			o := take(t, env, site.Desktop, journey.Step{Go: "/"}, tc.step, journey.Step{Go: "/"})
			require.Equal(t, 1, o.Failed())
			assert.Len(t, o.Steps, 2, "it ends there")
			assert.Contains(t, o.Steps[1].Why, tc.why)
			assert.NotEmpty(t, o.Steps[1].Picture, "with a picture")
		})
	}
}

func TestAPersonasStateIsCarriedIntoItsLooksAndNoFurther(t *testing.T) {
	env, _ := pages(t, map[string]string{"/in/": `<script>document.cookie = "who=ada; path=/"; localStorage.setItem("k–ey", "välue"); sessionStorage.setItem("basket", "2")</script><h1>in</h1>`,
		"/":      `<h1></h1><script>document.querySelector("h1").textContent = [document.cookie.includes("who=ada"), localStorage.getItem("k–ey"), sessionStorage.getItem("basket")].join(" ")</script>`,
		"/gone/": `<script>localStorage.clear(); sessionStorage.removeItem("basket"); document.cookie = "who=; path=/; max-age=0"</script><h1>out</h1>`})
	ada := site.Persona{Name: "ada", Prepare: []journey.Step{{Go: "/in/"}, {Expect: &journey.Expect{Visible: css("h1")}}}}
	state, look1, err := shared.Prepare(t.Context(), env, ada, site.Desktop, keepNothing)
	require.NoError(t, err)
	require.Negative(t, look1.Outcome.Failed())
	assert.Equal(t, "true välue 2", look(t, env, "/", site.Desktop, state).Lines[0].Text)
	assert.Equal(t, "false", look(t, env, "/", site.Desktop, State{}).Lines[0].Text)

	// What a page drops is not brought back by opening the next one.
	ada.SignOut = []journey.Step{{Go: "/"}, {Expect: &journey.Expect{Text: &journey.Containing{In: *css("h1"), Contains: "true välue 2"}}}, {Go: "/gone/"}, {Go: "/"}, {Expect: &journey.Expect{Text: &journey.Containing{In: *css("h1"), Contains: "false"}}}}
	left, look2, err := shared.SignOut(t.Context(), env, ada, site.Desktop, state, keepNothing)
	require.NoError(t, err)
	require.Negative(t, look2.Outcome.Failed(), "%v", look2.Outcome)
	assert.Empty(t, left.Storage)
}

// RFC 6265 §5.1.3 (domain), §5.1.4 (path) and §5.4, their rules one by one.
func TestCookiesGoWhereRFC6265Says(t *testing.T) {
	for _, tc := range []struct {
		domain, path, address string
		want                  bool
	}{
		{"shop.example", "/", "http://shop.example/cart", true},
		{".shop.example", "/", "http://www.shop.example/", true},
		{"shop.example", "/", "http://notshop.example/", false},
		{"shop.example", "/account", "http://shop.example/account", true},
		{"shop.example", "/account", "http://shop.example/account/orders", true},
		{"shop.example", "/account", "http://shop.example/accounts", false},
		{"shop.example", "/account/", "http://shop.example/account/x", true},
		{"shop.example", "", "http://SHOP.example", true},
		{"shop.example", "/", "http://www.shop.example/", false}, // host-only (§5.4)
		{"127.0.0.1", "/", "http://127.0.0.1:8080/", true},
		{"localhost", "/", "http://localhost:9101/", true},
	} {
		u, err := url.Parse(tc.address)
		require.NoError(t, err)
		got := cookiesFor([]*proto.NetworkCookieParam{{Name: "s", Value: "1", Domain: tc.domain, Path: tc.path}}, u)
		assert.Equal(t, tc.want, len(got) == 1, "%s%s to %s", tc.domain, tc.path, tc.address)
	}
	u, err := url.Parse("http://shop.example/")
	require.NoError(t, err)
	assert.Empty(t, cookiesFor([]*proto.NetworkCookieParam{{Name: "s", Value: "1", Domain: "shop.example", Path: "/", Secure: true}}, u), "what is for HTTPS alone (§5.4)")
}

func TestSessionCookiesTellOnePersonFromAnother(t *testing.T) {
	jar := func(cookies ...*proto.NetworkCookieParam) State { return State{Cookies: cookies} }
	theme := &proto.NetworkCookieParam{Name: "theme", Value: "dark"}
	session := &proto.NetworkCookieParam{Name: "sid", Value: "x", HTTPOnly: true}
	long := &proto.NetworkCookieParam{Name: "basket", Value: "0123456789abcdef"}
	assert.Equal(t, []string{"sid"}, jar(theme, session, long).Personal())
	assert.Equal(t, []string{"basket"}, jar(theme, long).Personal())
	assert.Empty(t, jar(theme).Personal())
}

func TestAskingWithoutABrowser(t *testing.T) {
	env, _ := pages(t, map[string]string{"/": `<head><title>T</title></head><h1>Your <b>basket</b></h1><p>Order 4711 of Ada &amp; Bo</p><script>hidden()</script>`})
	state := State{Cookies: []*proto.NetworkCookieParam{{Name: "s", Value: "1", Domain: "127.0.0.1", Path: "/"}}}
	a, err := Plain{Env: env, Keep: keepNothing}.Ask(t.Context(), "/", site.Phone, state, []string{"4711", "Ada & Bo", "nobody"})
	require.NoError(t, err)
	assert.Equal(t, []string{"Your basket", "Order 4711 of Ada & Bo"}, a.Lines)
	assert.Equal(t, []string{"4711", "Ada & Bo"}, a.PrivateTexts)
	assert.Equal(t, httpcache.Cached, a.Served)
	assert.Len(t, a.Body, 64)
	_, err = Plain{Env: site.Environment{URL: "http://127.0.0.1:1"}}.Ask(t.Context(), "@evil.example/", site.Phone, State{}, nil)
	assert.ErrorContains(t, err, "not on one of the site's hosts")
}
