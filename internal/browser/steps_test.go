package browser

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/site"
)

// club is a site with a door: whoever came in has a cookie, and gives it back at the way
// out. Its form is sent a moment after it was pressed and its answers take their time, as
// real ones do.
type club struct {
	site.Environment
	in, out, cut atomic.Int32 // how many came in, went out, and were cut off on the way
}

func newClub(t *testing.T) *club {
	t.Helper()
	c := &club{}
	mux := http.NewServeMux()
	page := func(w http.ResponseWriter, body string) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = w.Write([]byte("<!doctype html>" + body))
	}
	slowly := func(done *atomic.Int32, cookie *http.Cookie) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			select {
			case <-time.After(250 * time.Millisecond): // what a slow server takes
			case <-r.Context().Done():
				c.cut.Add(1)
				return
			}
			done.Add(1)
			http.SetCookie(w, cookie)
			http.Redirect(w, r, "/door", http.StatusSeeOther)
		}
	}
	mux.HandleFunc("POST /in", slowly(&c.in, &http.Cookie{Name: "guest", Value: "yes", Path: "/"}))
	mux.HandleFunc("POST /out", slowly(&c.out, &http.Cookie{Name: "guest", Path: "/", MaxAge: -1}))
	mux.HandleFunc("GET /door", func(w http.ResponseWriter, r *http.Request) {
		if _, err := r.Cookie("guest"); err == nil {
			page(w, `<main>You are in.</main><form method=post action=/out><button>Go out</button></form>`)
			return
		}
		page(w, `<main>Nobody knows you.</main><form method=post action=/in><label>Name <input name=n></label><button>Come in</button></form>
			<script>document.forms[0].addEventListener("submit", (e) => { e.preventDefault(); setTimeout(() => e.target.submit(), 60); });</script>`)
	})
	mux.HandleFunc("GET /hall", func(w http.ResponseWriter, r *http.Request) {
		_, err := r.Cookie("guest")
		page(w, map[bool]string{true: "<main>Welcome back.</main>", false: "<main>Closed.</main>"}[err == nil])
	})
	s := httptest.NewServer(mux)
	t.Cleanup(s.Close)
	c.Environment = site.Environment{Name: "staging", URL: s.URL}
	return c
}

func press(name string) journey.Step {
	return journey.Step{Click: &journey.Target{Role: "button", Name: name}}
}

func says(text string) journey.Step {
	return journey.Step{Expect: &journey.Expect{Text: &journey.Containing{In: journey.Target{CSS: "main"}, Contains: text}}}
}

func TestAStepDoesNotCutOffWhatTheOneBeforeItBegan(t *testing.T) {
	for _, device := range []string{site.Desktop, site.Phone} {
		c := newClub(t)
		o := take(t, c.Environment, device, journey.Step{Go: "/door"}, press("Come in"), journey.Step{Go: "/hall"}, says("Welcome back."))
		assert.Equal(t, -1, o.Failed(), "%v", o)
		assert.EqualValues(t, 1, c.in.Load())
		assert.Zero(t, c.cut.Load(), "the form was sent before the next page was opened")
		assert.Equal(t, "/door", o.Steps[1].At, "a click is over when the page that it led to is there")

		c = newClub(t)
		o = take(t, c.Environment, device, journey.Step{Go: "/door"}, journey.Step{Fill: &journey.Input{In: journey.Target{Label: "Name"}, Value: "Ada"}}, journey.Step{Press: "Enter"}, journey.Step{Go: "/hall"}, says("Welcome back."))
		assert.Equal(t, -1, o.Failed(), "%v", o)
		assert.Zero(t, c.cut.Load(), "neither is a key")
	}
}

func TestSomebodySignsOutFromWhereTheySignedIn(t *testing.T) {
	c := newClub(t)
	p := site.Persona{Name: "ada", Kind: "member", Prepare: []journey.Step{{Go: "/door"}, press("Come in"), says("You are in.")}, SignOut: []journey.Step{{Go: "/door"}, press("Go out"), says("Nobody knows you.")}}
	in, look, err := shared.Prepare(t.Context(), c.Environment, p, site.Desktop, keepNothing)
	require.NoError(t, err)
	require.Equal(t, -1, look.Outcome.Failed(), "%v", look.Outcome)
	assert.Equal(t, []string{"guest"}, look.Cookies)
	assert.Equal(t, "getting ready as ada", look.Journey)

	left, look, err := shared.SignOut(t.Context(), c.Environment, p, site.Desktop, in, keepNothing)
	require.NoError(t, err)
	require.Equal(t, -1, look.Outcome.Failed(), "%v", look.Outcome)
	assert.Equal(t, "signing out as ada", look.Journey)
	assert.Empty(t, look.Cookies, "the cookie is gone")
	assert.EqualValues(t, 1, c.out.Load())
	ask := func(s State) string {
		a, err := Plain{Env: c.Environment}.Ask(t.Context(), "/hall", site.Desktop, s, nil)
		require.NoError(t, err)
		return strings.Join(a.Lines, " ")
	}
	assert.Equal(t, "Closed.", ask(left))
	assert.Equal(t, "Welcome back.", ask(in), "what was carried before is as it was")

	p.SignOut[1] = press("Leave for good")
	_, look, err = shared.SignOut(t.Context(), c.Environment, p, site.Desktop, in, keepNothing)
	require.NoError(t, err)
	assert.Equal(t, 1, look.Outcome.Failed(), "a way out that is not there is told")
	assert.Equal(t, "/door", look.Page)
}

// TestASecretIsInNothingThatIsKept: a password is known by its field's type, whatever it is
// called, and the site shows it in the address and in an error.
func TestASecretIsInNothingThatIsKept(t *testing.T) {
	mux := http.NewServeMux()
	mux.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = w.Write([]byte(`<!doctype html><main>Hello</main><form action=/in><label>Name <input name=n></label><label>The word <input type=password name=w></label>
			<label>From the message <input name=o autocomplete=one-time-code></label><button>Come in</button></form>
			<script>const w = new URLSearchParams(location.search).get("w"); if (w) throw new Error("no session for " + w);</script>`))
	})
	s := httptest.NewServer(mux)
	t.Cleanup(s.Close)
	put := func(label, value string) journey.Step {
		return journey.Step{Fill: &journey.Input{In: journey.Target{Label: label}, Value: value}}
	}
	steps := []journey.Step{{Go: "/"}, put("Name", "wren"), put("The word", "harvest moon"), put("From the message", "774411"), press("Come in"), says("Hello"), put("Nowhere", "harvest moon")}
	look, err := shared.Take(t.Context(), site.Environment{Name: "staging", URL: s.URL}, site.JourneyTask{Journey: journey.Journey{Name: "in", Persona: site.Visitor, Steps: steps}, Device: site.Desktop}, State{}, keepNothing)
	require.NoError(t, err)
	require.Equal(t, len(steps)-1, look.Outcome.Failed(), "%v", look.Outcome)
	require.Len(t, look.Errors, 1)
	raw, err := json.Marshal(look)
	require.NoError(t, err)
	for _, secret := range []string{"harvest", "774411"} {
		assert.NotContains(t, string(raw), secret)
	}
	assert.Equal(t, "fill the field “Name” with “wren”", look.Outcome.Steps[1].Step, "what is no secret is told")
	assert.Equal(t, "fill the field “The word” with “•••”", look.Outcome.Steps[2].Step)
	assert.Equal(t, "/in?n=wren&w=•••&o=•••", look.Outcome.Steps[4].At)
}

func TestASecretIsDrawnAsDots(t *testing.T) {
	mux := http.NewServeMux()
	mux.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = w.Write([]byte(`<!doctype html><main>Hello</main><label>Member number <input name=n></label>`))
	})
	s := httptest.NewServer(mux)
	t.Cleanup(s.Close)
	picture := func(value string, secret bool) string {
		o := take(t, site.Environment{Name: "staging", URL: s.URL}, site.Desktop, journey.Step{Go: "/"},
			journey.Step{Fill: &journey.Input{In: journey.Target{Label: "Member number"}, Value: value, Secret: secret}}, journey.Step{Press: "Tab"}, says("Hello"))
		require.Equal(t, -1, o.Failed(), "%v", o)
		require.NotEmpty(t, o.Steps[3].Picture)
		return o.Steps[3].Picture
	}
	assert.NotEqual(t, picture("774411", false), picture("123456", false), "what is no secret is seen")
	assert.Equal(t, picture("774411", true), picture("123456", true), "nobody reads it off the picture")
}

func TestWhichChromiumIsTaken(t *testing.T) {
	bin := t.TempDir()
	t.Setenv("PATH", bin)
	_, err := Find()
	require.ErrorContains(t, err, "Install Debian's package chromium-headless-shell or chromium")
	_, err = Start(Options{})
	require.ErrorContains(t, err, "no Chromium was found")
	for _, name := range []string{"google-chrome", "chromium", "chromium-headless-shell"} { // the better, the later
		path := filepath.Join(bin, name)
		require.NoError(t, os.WriteFile(path, []byte("#!/bin/sh\nexit 1\n"), 0o755))
		got, err := Find()
		require.NoError(t, err)
		assert.Equal(t, path, got)
	}
	assert.Equal(t, []string{"new"}, Launcher(filepath.Join(bin, "chromium")).Flags["headless"], "whole Chromium without a window")
	assert.NotEqual(t, []string{"new"}, Launcher(filepath.Join(bin, "chromium-headless-shell")).Flags["headless"], "which never has one")
}

// A style shows “Add to basket” in capitals; an expectation may say it either way.
func TestATextInCapitalsMatchesAsWrittenAndAsShown(t *testing.T) {
	env, _ := pages(t, map[string]string{"/": `<main style="text-transform:uppercase"><p>Add to basket</p><p hidden>Sold out</p></main>`})
	in := journey.Target{CSS: "main"}
	for _, text := range []string{"Add to basket", "ADD TO BASKET"} {
		o := take(t, env, site.Desktop, journey.Step{Go: "/"}, journey.Step{Expect: &journey.Expect{Text: &journey.Containing{In: in, Contains: text}}},
			journey.Step{Expect: &journey.Expect{NoText: &journey.Containing{In: in, Contains: "Sold out"}}})
		assert.Equal(t, -1, o.Failed(), "%s: %+v", text, o)
	}
}
