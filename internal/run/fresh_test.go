package run_test

import (
	"crypto/rand"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/inspect"
	"tidemarker/internal/store"
)

const article = "/library/reading-the-first-pins"

// written is the shop with its editor, who publishes another lead for an article: told
// to the layer, or quietly.
func written(quietly bool) site.Site {
	steps := []journey.Step{{Go: article + "/edit"}, {Fill: &journey.Input{In: journey.Target{Label: "Lead"}, Value: "How to tell pins from aborts, by " + journey.Canary}}}
	if quietly {
		steps = append(steps, journey.Step{Click: target("checkbox", "Tell nobody")})
	}
	doc := site.Site{Name: "Fernhollow",
		Personas: []site.Persona{{Name: "ida", Kind: "editor", Prepare: []journey.Step{
			{Go: "/account"}, {Fill: &journey.Input{In: journey.Target{Label: "Name"}, Value: "ida"}},
			{Fill: &journey.Input{In: journey.Target{Label: "Password"}, Value: "second edition"}}, {Click: target("button", "Sign in")}, {Expect: &journey.Expect{URL: "/account"}}}}},
		Publishing: []site.PublishingTest{{Name: "a new lead", Persona: "ida", Steps: append(steps, journey.Step{Click: target("button", "Publish")}, journey.Step{Expect: &journey.Expect{Text: &journey.Containing{In: journey.Target{CSS: "main"}, Contains: "It is published"}}}),
			Undo:  []journey.Step{{Go: article + "/edit"}, {Click: target("button", "Take it back")}, {Expect: &journey.Expect{Text: &journey.Containing{In: journey.Target{CSS: "main"}, Contains: "It is published"}}}},
			Shows: []site.Showing{{Page: article}, {Page: "/", Within: 2}}}}}
	for _, p := range [][2]string{{"/", "home"}, {article, "article"}} {
		doc.Pages = append(doc.Pages, site.Page{Path: p[0], Class: p[1], Personas: []string{site.Visitor}, Devices: []string{site.Desktop}})
	}
	return doc
}

// probes are what a run asked for, of one kind, by page.
func (b *bench) probes(run int64, kind evidence.ProbeKind) map[string]evidence.Probe {
	b.Helper()
	look, err := b.store.Look(b.Context(), run, 1)
	require.NoError(b, err)
	out := map[string]evidence.Probe{}
	for _, p := range look.Probes {
		if p.Kind == kind {
			out[p.Page] = p
		}
	}
	return out
}

func titles(findings []evidence.Finding) []string {
	var out []string
	for _, f := range findings {
		out = append(out, f.Page+": "+f.Title)
	}
	slices.Sort(out)
	return out
}

func TestFaultsOfPublishingAreFound(t *testing.T) {
	b := newBench(t, written(false))
	b.runner.Tools.ReadyFor = time.Hour
	b.mark(0)
	const notInTime = ": An edit is not shown in time"

	r, f := b.with(release.IsolationRun, nil)
	assert.Equal(t, evidence.VerdictClear, r.Verdict, titles(f))
	p := b.probes(r.ID, evidence.Published)
	require.Len(t, p, 2)
	assert.Equal(t, "cached", string(p[article].First.Served), "it was cached before it was edited")
	assert.Equal(t, []string{evidence.MadeUp("a new lead")}, p[article].Second.PrivateTexts)
	assert.Contains(t, p[article].Rule, "refreshed whenever something is published, by “/library/”")
	res, err := http.Get(b.staging.URL + article)
	require.NoError(t, err)
	defer res.Body.Close()
	assert.Contains(t, res.Header.Get("Cache-Status"), "fwd=", "what had the word in it was dropped")

	// The start page is no longer refreshed, and cached for longer than the team wants. The
	// check of a change finds it.
	r, f = b.try(settings.Values{"pages.freshOnPublish": []string{"/library/"}})
	assert.Equal(t, []string{"/: A page is cached for longer than it may go without what is published", "/" + notInTime}, titles(f), "what follows from the settings, and what was seen of it")
	assert.Equal(t, f[0].Cause, f[1].Cause, "they are one cause")
	assert.Contains(t, f[0].Detail+f[1].Detail, "The team wants it within 2 seconds. What is cached lives for 10 hours.")
	assert.Equal(t, evidence.VerdictBroken, r.Verdict)

	// With a short life it shows by itself, and nobody asked for sooner.
	r, f = b.with(release.IsolationRun, settings.Values{"pages.freshOnPublish": []string{"/library/"}, "pages.lifetime": 2})
	assert.Equal(t, evidence.VerdictClear, r.Verdict, titles(f))
	assert.NotEmpty(t, b.probes(r.ID, evidence.Published)["/"].Second.PrivateTexts)
}

func TestFaultsOfALayerThatDoesNotPurgeAreFound(t *testing.T) {
	b := newBench(t, written(true))
	marked := b.mark(0)
	assert.Equal(t, evidence.VerdictUnsure, marked.Verdict)
	assert.Contains(t, marked.Summary, "2 of its journeys and publishing tests do not work as they are written")
	r, f := b.try(settings.Values{"markup.signature": true})
	assert.Equal(t, evidence.VerdictClear, r.Verdict, titles(f))
	// The shuffled row may have been the same in both looks of the mark; the control knows it.
	f = slices.DeleteFunc(f, evidence.Finding.SiteMovedOn)
	require.Len(t, f, 2)
	assert.Contains(t, f[0].Detail, "It was not when the mark was taken, either.")
	_, f = b.with(release.IsolationRun, nil)
	assert.Equal(t, []string{"/: An edit is not shown in time", article + ": An edit is not shown in time"}, titles(f))
	g, err := inspect.RuleContextOf(t.Context(), b.store, b.envs[0].ID)
	require.NoError(t, err)
	var late []string
	for _, r := range exclusion.Coverage(exclusion.Layer{On: true, Lifetime: 36000}, g.Known) {
		if r.Kind == exclusion.Late {
			late = append(late, strings.Join(r.Mend.Add, " "))
		}
	}
	assert.Equal(t, []string{"/$"}, late, "how soon a page has to show edits is known to the rules")
}

// The layer is not told, so the run waits for the pages; meanwhile somebody stops it.
func TestFaultsOfBeingStoppedLeaveNothingPublished(t *testing.T) {
	b := newBench(t, written(true))
	id, err := b.store.NewRun(t.Context(), store.Run{SiteID: b.site.ID, EnvironmentID: b.envs[0].ID, Kind: release.MarkRun, RequestedBy: "tester"})
	require.NoError(t, err)
	done := make(chan error, 1)
	go func() { done <- b.runner.Run(t.Context(), id) }()
	anew := func() string { // past whatever is cached
		res, err := http.Get(b.staging.URL + article + "?anew=" + rand.Text())
		require.NoError(t, err)
		defer res.Body.Close()
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return string(body)
	}
	require.Eventually(t, func() bool { return strings.Contains(anew(), "by tide") }, patience, 50*time.Millisecond, "it is published")
	require.NoError(t, b.runner.Stop(t.Context(), id))
	require.NoError(t, <-done)
	assert.Equal(t, release.Stopped, b.run(id).State)
	assert.NotContains(t, anew(), "by tide", "it was taken back")
}

// leftPublished is a site on which an editor's test was published and not taken back; get asks for its pages as the editor.
func leftPublished(t *testing.T) (b *bench, get func(path string) string) {
	b = newBench(t, written(false))
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	editor := http.Client{Jar: jar}
	get = func(path string) string {
		res, err := editor.Get(b.staging.URL + path)
		require.NoError(t, err)
		defer res.Body.Close()
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return string(body)
	}
	post := func(path string, form url.Values) {
		res, err := editor.PostForm(b.staging.URL+path, form)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
	}
	token := regexp.MustCompile(`name="token" value="([^"]+)"`).FindStringSubmatch(get("/account"))
	require.Len(t, token, 2)
	post("/account/sign-in", url.Values{"token": {token[1]}, "name": {"ida"}, "password": {"second edition"}})
	post(article+"/edit", url.Values{"lead": {nobodys}})
	require.Contains(t, get(article), nobodys)
	return b, get
}

const nobodys = "What nobody took back."

// cutOff is a run whose process died after it had published.
func (b *bench) cutOff(attempts int) (id int64) {
	b.Helper()
	id, err := b.store.NewRun(b.Context(), store.Run{SiteID: b.site.ID, EnvironmentID: b.envs[0].ID, Kind: release.MarkRun, RequestedBy: "tester"})
	require.NoError(b, err)
	for range attempts {
		_, err = b.store.BeginRun(b.Context(), id)
		require.NoError(b, err)
	}
	require.NoError(b, b.store.SaveProgress(b.Context(), id, "probing", store.RunProgress{Editing: "a new lead"}))
	return id
}

// The process died after it had published and before it took that back.
func TestFaultsOfBeingCutOffLeaveNothingPublished(t *testing.T) {
	b, get := leftPublished(t)
	id := b.cutOff(1)
	require.NoError(t, b.runner.TakeUp(t.Context(), b.site.ID))
	r := b.run(id)
	assert.Equal(t, release.Done, r.State, r.Problem)
	assert.Empty(t, r.Progress.V.Editing)
	assert.NotContains(t, get(article), nobodys)
	look, err := b.store.Look(t.Context(), id, 1)
	require.NoError(t, err)
	for _, p := range look.Pages {
		for _, l := range p.Lines {
			assert.NotContains(t, l.Text, nobodys, "the mark is of the site as it was")
		}
	}
}

// It died so often that the run is given up: what it published is taken back all the same.
func TestFaultsOfBeingGivenUpLeaveNothingPublished(t *testing.T) {
	b, get := leftPublished(t)
	id := b.cutOff(release.MostAttempts)
	require.NoError(t, b.runner.TakeUp(t.Context(), b.site.ID))
	r := b.run(id)
	assert.Equal(t, release.Failed, r.State)
	assert.Contains(t, r.Problem, "could not be finished")
	assert.NotContains(t, r.Problem, "published")
	assert.Empty(t, r.Progress.V.Editing)
	assert.NotContains(t, get(article), nobodys)
}

// The site was away when the run ended: it says so, and the next run on the environment takes back what it left.
func TestFaultsThatLeaveAnEditBehindAreMendedByTheNextRun(t *testing.T) {
	b, get := leftPublished(t)
	tr := b.trouble(0)
	tr.leave(true)
	id := b.cutOff(release.MostAttempts)
	require.NoError(t, b.runner.TakeUp(t.Context(), b.site.ID))
	r := b.run(id)
	assert.Equal(t, release.Failed, r.State)
	assert.Contains(t, r.Problem, "What was published for a test could not be taken back; the next run on staging tries again")
	require.Contains(t, get(article), nobodys)
	tr.leave(false)
	b.mark(0)
	assert.NotContains(t, get(article), nobodys)
	assert.Empty(t, b.run(id).Progress.V.Editing)
}

func TestFaultsOfAnEditItselfHarmNothing(t *testing.T) {
	doc := written(false)
	doc.Publishing[0].Steps[0].Go = "/library/no-such-article/edit"
	b := newBench(t, doc)
	b.mark(0)
	r, f := b.with(release.IsolationRun, nil)
	require.NotEmpty(t, f)
	for _, x := range f {
		assert.Equal(t, evidence.NotCheckedKind, x.Kind, x.Title)
	}
	assert.NotEqual(t, evidence.VerdictClear, r.Verdict)
	r = b.carryOut(store.Run{EnvironmentID: b.envs[1].ID, Kind: release.IsolationRun})
	assert.Empty(t, b.probes(r.ID, evidence.Published), "nothing is ever published on production")
}

func TestWhatWasCachedTooLongIsFoundBeforeItIsPurged(t *testing.T) {
	doc := peopled()
	doc.Pages = slices.DeleteFunc(doc.Pages, func(p site.Page) bool { return p.Path != "/kits?kind=oyster" && p.Path != "/account" })
	for i := range doc.Pages {
		doc.Pages[i].Personas = []string{site.Visitor}
		if doc.Pages[i].Path == "/account" {
			doc.Pages[i].FormLives = 3600
		}
	}
	doc.Personas = nil
	doc.Journeys = []journey.Journey{{Name: "signing in", Persona: site.Visitor, Devices: []string{site.Desktop}, Where: []string{"staging"}, Steps: []journey.Step{
		{Go: "/account"}, {Fill: &journey.Input{In: journey.Target{Label: "Name"}, Value: "wren"}}, {Fill: &journey.Input{In: journey.Target{Label: "Password"}, Value: "harvest moon"}},
		{Click: target("button", "Sign in")}, {Expect: &journey.Expect{Text: &journey.Containing{In: journey.Target{CSS: "main"}, Contains: "Wren Oakham"}}}}}}
	b := newBench(t, doc)
	b.mark(0)
	prove := func() (store.Run, []evidence.Finding) {
		r := b.carryOut(store.Run{EnvironmentID: b.envs[0].ID, Kind: release.IsolationRun})
		return r, b.findings(r.ID)
	}
	visit := func(paths ...string) {
		for _, p := range paths {
			_, err := browser.Plain{Env: site.Environment{Name: "staging", URL: b.staging.URL}}.Ask(t.Context(), p, site.Desktop, browser.State{}, nil)
			require.NoError(t, err)
		}
	}
	r, f := prove()
	assert.Equal(t, evidence.VerdictClear, r.Verdict, titles(f))

	// The account's rule is gone; somebody opens it; the form's hidden value grows old.
	v, tag := b.staging.Layer.Settings()
	_, ok := b.staging.Layer.Replace(v.With(settings.Values{"pages.never": []string{"/cart", "/checkout", "/api/"}}), tag)
	require.True(t, ok)
	visit("/account", "/kits?kind=oyster")
	b.later.Add(int64(90 * time.Minute))
	_, f = prove()
	got := titles(f)
	assert.Contains(t, got, "/account: signing in: a form from a cached page is refused")
	i := slices.IndexFunc(f, func(x evidence.Finding) bool { return x.Kind == evidence.FormKind && x.Step != nil })
	require.GreaterOrEqual(t, i, 0)
	assert.Contains(t, f[i].Detail, "With the same pages generated fresh it works.")

	// The lifetime is shortened, and what is cached keeps the one it had.
	visit("/account", "/kits?kind=oyster")
	v, tag = b.staging.Layer.Settings()
	_, ok = b.staging.Layer.Replace(v.With(settings.Values{"pages.lifetime": 60, "pages.never": []string{"/cart", "/checkout", "/account", "/api/"}}), tag)
	require.True(t, ok)
	b.later.Add(int64(10 * time.Minute))
	_, f = prove()
	assert.Equal(t, []string{"/kits?kind=oyster: Is served when it is older than it may be"}, titles(f))
	assert.Contains(t, f[0].Detail, "What is cached lives for 1 minute.")
	_, f = prove()
	assert.Empty(t, f, "everything was dropped")
}

// A page that has to show an edit does not answer: that is told, never taken for clear,
// and the edit is taken back all the same.
func TestFaultsOfAPageThatDoesNotAnswerAreNotClear(t *testing.T) {
	doc := written(false)
	doc.Publishing[0].Shows = append(doc.Publishing[0].Shows, site.Showing{Page: "/gone"})
	doc.Pages = append(doc.Pages, site.Page{Path: "/gone", Class: "article", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}})
	b := newBench(t, doc)
	b.mark(0)
	r, f := b.with(release.IsolationRun, nil)
	assert.NotEqual(t, evidence.VerdictClear, r.Verdict)
	assert.Contains(t, titles(f), "/gone: An edit does not show here at all")
	assert.Empty(t, r.Progress.V.Editing, "nothing is left published")

	require.NoError(t, b.staging.Close())
	r = b.carryOut(store.Run{EnvironmentID: b.envs[0].ID, Kind: release.IsolationRun})
	assert.NotEqual(t, evidence.VerdictClear, r.Verdict, "a site that is down proves nothing")
	assert.Equal(t, release.Failed, r.State)
	assert.NotEmpty(t, r.Problem)
}

// With the change the editor cannot take an edit back; with the earlier settings they can, and
// nothing of it stays on the site.
func TestFaultsThatKeepAnEditPublishedDoNotLeaveItThere(t *testing.T) {
	doc := written(false)
	doc.Publishing[0].Undo = append([]journey.Step{{Go: "/feed.xml"}, {Expect: &journey.Expect{Status: 200}}}, doc.Publishing[0].Undo...)
	b := newBench(t, doc)
	b.mark(0)
	r, f := b.try(settings.Values{"trim.feed": true})
	assert.Contains(t, titles(f), article+": An edit could be taken back with the earlier settings only")
	assert.NotContains(t, titles(f), article+": An edit could not be taken back")
	assert.Empty(t, r.Progress.V.Editing)
	v, err := browser.Plain{Env: site.Environment{Name: "staging", URL: b.staging.URL}}.Ask(t.Context(), article+"?anew="+rand.Text(), site.Desktop, browser.State{}, nil)
	require.NoError(t, err)
	assert.NotContains(t, strings.Join(v.Lines, " "), "by tide")
}
