package api_test

import (
	"fmt"
	"log/slog"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/api"
	"tidemarker/internal/browser"
	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/site"
	"tidemarker/internal/run"
	"tidemarker/internal/standin"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"

	files "tidemarker/web"
)

func TestMain(m *testing.M) { testdb.Main(m) }

// desk is the whole application with the stand-in site, and a person's browser.
type desk struct {
	*testing.T
	url        string
	page       *rod.Page
	store      *store.Store
	server     *api.Server
	person     int64 // Ada, an administrator
	staging    *standin.Instance
	production *standin.Instance
}

// chromium looks at the sites, personal is what a person has open; each test has private
// contexts in them. Both end with the process.
var (
	chromium = sync.OnceValues(func() (*browser.Browser, error) { return browser.Start(browser.Options{Timeout: patience}) })
	personal = sync.OnceValues(func() (*rod.Browser, error) {
		binary, err := browser.Find()
		if err != nil {
			return nil, err
		}
		control, err := browser.Launcher(binary).Launch()
		if err != nil {
			return nil, err
		}
		r := rod.New().ControlURL(control)
		return r, r.Connect()
	})
)

// newDesk is the application with a shop of which one page is checked, with a phone.
func newDesk(t *testing.T) *desk {
	t.Helper()
	doc := shop(site.Phone)
	doc.Journeys = nil
	return deskOf(t, standin.Fernhollow(), doc)
}

// shop is a site of which one page and one journey are checked.
func shop(devices ...string) site.Site {
	return site.Site{Name: "Fernhollow",
		Pages: []site.Page{{Path: "/contact", Class: "form", Personas: []string{site.Visitor}, Devices: devices}},
		Journeys: []journey.Journey{{Name: "the phone menu opens", Persona: site.Visitor, Devices: []string{site.Phone}, Steps: []journey.Step{
			{Go: "/contact"}, {Click: &journey.Target{Role: "button", Name: "Menu"}}, {Expect: &journey.Expect{Visible: &journey.Target{Role: "link", Name: "Library"}}}}}}}
}

// underDetector is the test of the whole application that is run with the race detector,
// too: handlers, queue, runs and notices at the same time. What each of them does alone
// is raced in its own package.
const underDetector = "TestWhatIsChangedOutsideIsAcceptedOrReverted"

// deskOf is the application with an invented site.
func deskOf(t *testing.T, s standin.Site, doc site.Site) *desk {
	t.Helper()
	if raced && t.Name() != underDetector {
		t.Skip("the interface is driven without the race detector, which slows a browser's partner down most")
	}
	t.Parallel() // most of a test is waiting for pages
	return deskBeside(t, s, doc)
}

// deskBeside is one more application in the same test.
func deskBeside(t *testing.T, s standin.Site, doc site.Site) *desk {
	t.Helper()
	st, _ := testdb.New(t)
	d := &desk{T: t, store: st}
	for _, env := range []string{"staging", "production"} {
		inst, err := standin.Start(s, standin.Options{Environment: env, Addr: "127.0.0.1:0", Token: "secret"})
		require.NoError(t, err)
		t.Cleanup(func() { _ = inst.Close() })
		doc.Environments = append(doc.Environments, site.Environment{Name: env, URL: inst.URL, Hosts: []string{inst.OtherHost}, Connector: &site.Connector{Kind: "http", URL: inst.ConnectorURL(), Token: "secret"}})
		if env == "staging" {
			d.staging = inst
		} else {
			d.production = inst
		}
	}
	_, err := st.SaveSite(t.Context(), doc, false, "tester")
	require.NoError(t, err)
	log := slog.New(slog.NewTextHandler(t.Output(), nil))
	server := serverOn(t, st, chromium, log)
	d.server = server
	queue, err := run.NewQueue(server.Runner, run.Options{Workers: 1, Survey: server.Onboard.Survey, StepUp: server.Changes.ContinueStepUps, GoOut: server.Changes.GoOut, Scheduled: server.Scheduled.GoOn, Watch: server.Watching.GoOn, Rollouts: server.Rollouts.GoOn})
	require.NoError(t, err)
	require.NoError(t, queue.Start(t.Context()))
	t.Cleanup(func() { queue.Stop(t.Context()) })
	posted := make(chan struct{})
	go func() { server.Post.Run(t.Context()); close(posted) }()
	t.Cleanup(func() { <-posted })
	web := httptest.NewServer(api.New(t.Context(), server, files.Files))
	t.Cleanup(web.CloseClientConnections)
	d.url = web.URL
	d.person = addPerson(t, st, "Ada", people.Administrator)

	d.sit()
	return d
}

// sit gives somebody a browser in front of the application.
func (d *desk) sit() {
	d.Helper()
	whole, err := personal()
	require.NoError(d, err)
	person, err := whole.Incognito()
	require.NoError(d, err)
	d.Cleanup(func() { _ = person.Close() })
	d.page, err = person.Page(proto.TargetCreateTarget{URL: "about:blank"})
	require.NoError(d, err)
	require.NoError(d, d.page.SetViewport(&proto.EmulationSetDeviceMetricsOverride{Width: 1280, Height: 800, DeviceScaleFactor: 1}))
}

const (
	patience  = 3 * time.Minute // a promotion's, with several tests beside it on a slow machine
	pollEvery = 100 * time.Millisecond
)

func (d *desk) open(path string) {
	d.Helper()
	require.NoError(d, d.page.Timeout(patience).Navigate(d.url+path))
}

// see waits until an element with a text is there, and returns it.
func (d *desk) see(selector, text string) *rod.Element {
	d.Helper()
	el, err := d.page.Timeout(patience).ElementR(selector, text)
	if err != nil {
		body, _ := d.page.Eval(`() => document.body.innerText`)
		d.Fatalf("%s with %q is not there: %v\n%s", selector, text, err, body.Value.Str())
	}
	return el.CancelTimeout()
}

func (d *desk) click(selector, text string) {
	d.Helper()
	if strings.HasSuffix(selector, "button") {
		selector += ":not([disabled])" // a button that may not be pressed yet is waited for
	}
	for until := time.Now().Add(patience); ; {
		hit, err := d.clicked(d.see(selector, text))
		if hit && err == nil {
			return
		}
		if time.Now().After(until) { // until then what was drawn anew, moved or was covered meanwhile is looked for again
			require.NoError(d, err)
			require.True(d, hit, "%s %q moves, and cannot be hit", selector, text)
		}
	}
}

// clicked clicks on an element, and tells whether that hit it: what comes late above it moves it out from under the mouse.
func (d *desk) clicked(el *rod.Element) (hit bool, err error) {
	el = el.Timeout(10 * time.Second)
	if _, err := el.Eval(`() => { this.hit = false; this.addEventListener("click", () => { this.hit = true }, { capture: true, once: true }) }`); err != nil {
		return false, err
	}
	if err := el.Click(proto.InputMouseButtonLeft, 1); err != nil {
		return false, err
	}
	res, err := el.Eval(`() => this.hit || !this.isConnected`)
	if err != nil {
		return true, nil //nolint:nilerr // the page has gone on: it was hit
	}
	return res.Value.Bool(), nil
}

// gone waits until nothing like that is there any more: what closes moves what is below it, also from under a click.
func (d *desk) gone(selector string) {
	d.Helper()
	require.Eventually(d, func() bool {
		there, _, err := d.page.Has(selector)
		return err == nil && !there
	}, patience, pollEvery, "%s is still there", selector)
}

func (d *desk) fill(selector, text string) {
	d.Helper()
	el, err := d.page.Timeout(patience).Element(selector)
	require.NoError(d, err)
	require.NoError(d, el.SelectAllText())
	require.NoError(d, el.Input(text))
}

// signIn comes to a view by way of the sign-in.
func (d *desk) signIn(name, path string) {
	d.Helper()
	d.open(path)
	d.see("h1", "^Sign in$")
	d.fill("#name", name)
	d.fill("#password", password)
	d.click("button", "^Sign in$")
}

// TestTheWholeStoryInTheInterface goes from a click on “New change” to the mark on
// production: broken, mended, promoted, and back again.
func TestTheWholeStoryInTheInterface(t *testing.T) {
	d := deskOf(t, standin.Fernhollow(), shop(site.Desktop, site.Phone))
	d.signIn("Ada", "/")
	d.see("a", "^Fernhollow$")
	d.accessible("sites")
	d.click("a", "^Fernhollow$")
	d.see("p", "nothing to roll back to")
	d.click("button", "^Take the first mark of staging and production$")
	d.see("button", "Take another mark")
	d.click("a[href='/runs/1']", "run 1")
	d.see("h1", "^Mark \\d+ of staging: 3 looks")
	d.accessible("a mark")
	d.open("/runs/2")
	d.see("h1", "^Mark \\d+ of production: 3 looks")
	d.click("a.site", "Fernhollow")

	d.click("button", "New change")
	d.see("h1", "^New change$")
	d.click("button", "^Edit title and reason$")
	d.fill("#title", "Defer scripts")
	d.fill("#reason", "The first draw is late")
	d.click("button", "^Save$")
	d.see("h1", "^Defer scripts$")
	d.see("p", "Nothing differs from production yet")
	d.see("p", "Change a setting first")
	d.click("label", "^Defer scripts$")
	d.see("p", "Inline code that runs before its library")
	d.accessible("a change")
	d.click("button", "Try it on staging")
	d.see("h1", "^Broken for visitors")
	d.see("button", "Fern is not defined")
	d.see("p", "In /contact, line")
	d.accessible("a broken check")
	require.NoError(t, d.page.Keyboard.Type(input.KeyJ))
	require.NoError(t, d.page.Keyboard.Type(input.KeyK))

	d.see("button", "^Exclude …$")
	d.press('e')
	d.see("code", "/assets/fern.js")
	d.accessible("excluding")
	d.click("button", "^Exclude and try again$")
	d.see("h1", "^Clear: 3 looks")
	d.click("a", "Go to the change")
	d.see("h2", "Excluded")
	d.click("button", "Promote it")
	d.see("li", "Visitors see them from that moment on")
	d.accessible("a promotion")
	d.click("[role=dialog] button", "^Promote$")
	d.see("h1", "^Clear: 3 looks")
	d.click("a.site", "Fernhollow")
	d.see("span", "^marked$")
	now, _ := d.production.Layer.Settings()
	assert.Equal(t, true, now["scripts.defer"])
	assert.Equal(t, []any{"/assets/fern.js"}, now["scripts.deferNot"])
	d.accessible("a site")

	d.click("a", "Exclusions")
	d.see("code", "/assets/fern.js")
	d.accessible("exclusions")
	d.click("a", "History")
	d.see("td", "Promoted to production")
	d.accessible("history")

	d.open("/changes/1")
	d.click("button", "Roll back")
	d.see("[role=dialog] p", "what it had before this change")
	d.click("[role=dialog] button", "^Roll back$")
	d.see("h1", "^Clear: 3 looks|^Clear: 3 looks")
	require.Eventually(t, func() bool {
		c, err := d.store.Change(t.Context(), 1)
		return err == nil && c.State == "rolled back"
	}, patience, 200*time.Millisecond)
	for _, inst := range []*standin.Instance{d.staging, d.production} {
		now, _ := inst.Layer.Settings()
		assert.Equal(t, false, now["scripts.defer"], inst.Environment)
	}

	d.open("/changes/1")
	d.click("button", "^Dark$")
	d.see("h1", "Defer scripts")
	d.accessibleAt("a change by night", sizes[0])
	d.open("/sites/1")
	d.see("h1", "Fernhollow")
	d.accessibleAt("a site by night", sizes[0])
	d.open("/runs/3")
	d.see("h1", "^Broken")
	d.accessibleAt("a broken check by night", sizes[0])
	d.printed()
	d.open("/nowhere")
	d.see("h1", "does not exist")
}

func TestWhatTheServerRefuses(t *testing.T) {
	d := newDesk(t)
	token := tokenOf(t, d.store, d.person, people.Administrator)
	ask := func(method, path, host, origin, body string) (int, string) {
		t.Helper()
		req, err := newRequest(t, method, d.url+path, body)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		if host != "" {
			req.Host = host
		}
		if origin != "" {
			req.Header.Set("Origin", origin)
			req.Header.Set("Sec-Fetch-Site", "cross-site")
		}
		return answer(t, req)
	}
	status, _ := ask("GET", "/api/v1/sites", "evil.example", "", "")
	assert.Equal(t, 421, status, "another name for this machine")
	status, _ = ask("POST", "/api/v1/environments/1/marks", "", "https://evil.example", "{}")
	assert.Equal(t, 403, status, "another site's page")
	status, text := ask("GET", "/api/v1/sites/77", "", "", "")
	assert.Equal(t, 404, status)
	assert.Contains(t, text, "site 77: there is no such record")
	status, text = ask("GET", "/api/v2/x", "", "", "")
	assert.Equal(t, 404, status)
	assert.Contains(t, text, "openapi.json")
	status, text = ask("POST", "/api/v1/sites", "", "", `{"file":"site: A\nenvironments: []\npages: []"}`)
	assert.Equal(t, 422, status)
	assert.Contains(t, text, "/environments")
	status, text = ask("POST", "/api/v1/sites/1/changes", "", "", `{"title":"T","reason":"","effect":""}`)
	require.Equal(t, 201, status, text)
	status, text = ask("POST", "/api/v1/changes/1/promote", "", "", "{}")
	assert.Equal(t, 409, status)
	assert.Contains(t, text, "cannot be told")
	status, text = ask("POST", "/api/v1/changes/1/try", "", "", "{}")
	assert.Equal(t, 409, status)
	assert.Contains(t, text, "Nothing differs from production yet")
	edit := `{"version":1,"title":"T","reason":"","effect":"","edits":{"pages.lifetime":%s}}`
	status, text = ask("PUT", "/api/v1/changes/1", "", "", fmt.Sprintf(edit, `"long"`))
	assert.Equal(t, 422, status)
	assert.Contains(t, text, "must be a whole number")
	status, _ = ask("PUT", "/api/v1/changes/1", "", "", fmt.Sprintf(edit, "60"))
	assert.Equal(t, 200, status)
	status, text = ask("PUT", "/api/v1/changes/1", "", "", fmt.Sprintf(edit, "90"))
	assert.Equal(t, 409, status, "somebody else edited it")
	assert.Contains(t, text, "Nothing was saved")
	require.NoError(t, d.staging.Close())
	status, text = ask("POST", "/api/v1/environments/1/read", "", "", "{}")
	assert.Equal(t, 502, status)
	assert.Contains(t, text, "Check that the site is up")
	assert.NotContains(t, strings.ToLower(text), "secret", "a token is never told")
	_, text = ask("GET", "/api/v1/sites/1", "", "", "")
	assert.NotContains(t, strings.ToLower(text), "secret")
}
