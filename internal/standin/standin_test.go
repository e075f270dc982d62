package standin

import (
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/settings"
)

// visit is one answer.
type visit struct {
	status int
	header http.Header
	body   string
}

type shopper struct {
	*testing.T
	inst   *Instance
	client *http.Client
}

// stillClock is a time that a test moves on.
type stillClock struct{ since atomic.Int64 }

func (c *stillClock) now() time.Time {
	return time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC).Add(time.Duration(c.since.Load()))
}
func (c *stillClock) add(d time.Duration) { c.since.Add(int64(d)) }

func start(t *testing.T, edits settings.Values) (*shopper, *stillClock) {
	t.Helper()
	c := &stillClock{}
	inst, err := StartFernhollow(Options{Environment: "staging", Addr: "127.0.0.1:0", Token: "x", Now: c.now})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, inst.Close()) })
	v, etag := inst.Layer.Settings()
	_, ok := inst.Layer.Replace(v.With(edits), etag)
	require.True(t, ok)
	return (&shopper{T: t, inst: inst}).fresh(), c
}

// fresh is the same site for somebody who was never there.
func (s *shopper) fresh() *shopper {
	jar, err := cookiejar.New(nil)
	require.NoError(s, err)
	return &shopper{s.T, s.inst, &http.Client{Jar: jar}}
}

func (s *shopper) get(path string) visit {
	s.Helper()
	res, err := s.client.Get(s.inst.URL + path)
	require.NoError(s, err)
	return s.read(res)
}

func (s *shopper) post(path string, form url.Values) visit {
	s.Helper()
	res, err := s.client.PostForm(s.inst.URL+path, form)
	require.NoError(s, err)
	return s.read(res)
}

func (s *shopper) read(res *http.Response) visit {
	s.Helper()
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	require.NoError(s, err)
	return visit{res.StatusCode, res.Header, string(body)}
}

func TestPagesAreCachedForTheirLifetime(t *testing.T) {
	s, c := start(t, settings.Values{"pages.lifetime": 60})
	first := s.get("/kits")
	assert.Equal(t, "fernhollow-pages; fwd=uri-miss; stored", first.header.Get("Cache-Status"))
	c.add(45 * time.Second)
	cached := s.fresh().get("/kits")
	assert.Equal(t, "fernhollow-pages; hit; ttl=15", cached.header.Get("Cache-Status"))
	assert.Equal(t, "45", cached.header.Get("Age"))
	assert.Equal(t, first.body, cached.body)
	c.add(15 * time.Second)
	assert.Equal(t, "fernhollow-pages; fwd=stale; stored", s.get("/kits").header.Get("Cache-Status"))
	assert.Contains(t, s.get("/cart").header.Get("Cache-Status"), "fwd=bypass")
	assert.Empty(t, s.get("/assets/fern.css").header.Get("Cache-Status"), "only pages are cached")
}

func TestParametersMakeOtherPagesUnlessTheyAreIgnored(t *testing.T) {
	s, _ := start(t, nil)
	all, oyster := s.get("/kits"), s.get("/kits?kind=oyster")
	assert.NotEqual(t, all.body, oyster.body)
	assert.Contains(t, s.get("/kits?utm_source=mail").header.Get("Cache-Status"), "hit")
	s, _ = start(t, settings.Values{"pages.ignoredParameters": []string{"kind"}})
	s.get("/kits")
	assert.Contains(t, s.get("/kits?kind=oyster").body, "Tawny mane block", "another kind's page is shown")
}

func TestABasketIsItsOwnersUnlessThePageIsCached(t *testing.T) {
	s, _ := start(t, nil)
	s.post("/cart", url.Values{"kit": {"tawny-mane-block"}})
	assert.Contains(t, s.get("/cart").body, "Tawny mane block")
	assert.Contains(t, s.fresh().get("/cart").body, "Your basket is empty")
	cached, _ := start(t, settings.Values{"pages.never": []string{}})
	cached.post("/cart", url.Values{"kit": {"tawny-mane-block"}})
	assert.Contains(t, cached.fresh().get("/cart").body, "Tawny mane block", "a stranger is shown the basket")
}

func TestACheckoutFormIsRefusedWhenItsTokenWasCachedTooLong(t *testing.T) {
	token := regexp.MustCompile(`name="token" value="([^"]+)"`)
	for _, cached := range []bool{false, true} {
		never := []string{"/checkout"}
		if cached {
			never = []string{}
		}
		s, c := start(t, settings.Values{"pages.never": never})
		s.get("/checkout")
		c.add(61 * time.Minute)
		form := s.get("/checkout")
		m := token.FindStringSubmatch(form.body)
		require.Len(t, m, 2)
		want := http.StatusOK
		if cached {
			want = http.StatusForbidden
		}
		assert.Equal(t, want, s.post("/checkout", url.Values{"token": {m[1]}}).status, "cached: %v", cached)
	}
}

func TestEachSettingRewritesThePage(t *testing.T) {
	for name, tc := range map[string]struct {
		edits    settings.Values
		has, not []string
	}{
		"as it is":         {nil, []string{`<script src="/assets/fern.js">`, "\n    <a", `width="1120" height="420"`}, []string{"defer", `loading="lazy"`}},
		"compact":          {settings.Values{"markup.compact": true}, []string{"Grow something strange"}, []string{"\n    <a"}},
		"deferred":         {settings.Values{"scripts.defer": true, "scripts.deferNot": []string{"fern.js"}}, []string{`<script src="/assets/fern.js">`, `<script src="/assets/menu.js" defer="">`}, nil},
		"delayed":          {settings.Values{"scripts.delay": true, "scripts.delayNot": []string{"menu.js", "Fern.config"}}, []string{`data-src="/assets/fern.js"`, `<script src="/assets/menu.js">`, "pointerdown", "<script>\n    \n    Fern.config("}, []string{`<script src="/assets/fern.js">`}},
		"lazy but the top": {settings.Values{"images.lazy": true, "images.lazySkip": 2}, []string{`loading="lazy"`}, []string{`hero.png" alt="Caps of many colours on a slope" width="1120" height="420" loading`}},
		"no dimensions":    {settings.Values{"images.dimensions": false}, nil, []string{"width=\"1120\""}},
		"styles dropped":   {settings.Values{"styles.dropUnused": true, "styles.keep": []string{".menu.is-open"}}, []string{"<style>", ".hero", ".menu.is-open", ".button:hover", "@media"}, []string{"fern.css", ".notice-autumn", ".gift-wrap", ".members-only", ".lines th"}},
	} {
		t.Run(name, func(t *testing.T) {
			s, _ := start(t, tc.edits)
			body := s.get("/").body
			for _, x := range tc.has {
				assert.Contains(t, body, x)
			}
			for _, x := range tc.not {
				assert.NotContains(t, body, x)
			}
		})
	}
}

func TestStaleCopiesAreMadeAgain(t *testing.T) {
	s, _ := start(t, nil)
	s.get("/kits")
	assert.Equal(t, 1, s.inst.Layer.Purge([]string{s.inst.URL + "/kits"}, false, true))
	assert.Equal(t, Counts{Entries: 1, Stale: 1, Bytes: s.inst.Layer.Status().Bytes}, s.inst.Layer.Status())
	assert.Contains(t, s.get("/kits").header.Get("Cache-Status"), "fwd=stale")
	assert.Equal(t, 1, s.inst.Layer.Purge(nil, true, false))
	assert.Zero(t, s.inst.Layer.Status().Entries)
}

func TestTheContactFormAndWhatIsMissing(t *testing.T) {
	s, _ := start(t, nil)
	assert.Contains(t, s.post("/contact", url.Values{"email": {"a@example.org"}, "message": {"Hello"}}).body, "on its way")
	assert.Equal(t, http.StatusUnprocessableEntity, s.post("/contact", url.Values{"email": {"nobody"}}).status)
	for _, path := range []string{"/kits/none", "/library/none", "/pictures/none.png", "/nowhere"} {
		assert.Equal(t, http.StatusNotFound, s.get(path).status, path)
	}
	found := s.get("/search?q=chestnut").body
	assert.Contains(t, found, "Cellar chestnut tray")
	assert.NotContains(t, found, "Golden oyster log")
	assert.Equal(t, 17, strings.Count(s.get("/sitemap.xml").body, "<loc>"))
}

func TestSettingsAreKeptOverARestart(t *testing.T) {
	keep := filepath.Join(t.TempDir(), "kept", "settings.json")
	for i, want := range []bool{false, true} {
		inst, err := StartFernhollow(Options{Environment: "staging", Addr: "127.0.0.1:0", Token: "x", Keep: keep})
		require.NoError(t, err)
		v, etag := inst.Layer.Settings()
		assert.Equal(t, want, v["markup.compact"], "start %d", i+1)
		_, ok := inst.Layer.Replace(v.With(settings.Values{"markup.compact": true}), etag)
		require.True(t, ok)
		require.NoError(t, inst.save())
		require.NoError(t, inst.Close())
	}
}

func (s *shopper) as(name, password string) *shopper {
	s.Helper()
	token := regexp.MustCompile(`name="token" value="([^"]+)"`).FindStringSubmatch(s.get("/account").body)
	require.Len(s, token, 2)
	got := s.post("/account/sign-in", url.Values{"token": {token[1]}, "name": {name}, "password": {password}})
	require.Contains(s, got.body, "Signed in as")
	return s
}

func (s *shopper) ask(path string, header ...string) visit {
	s.Helper()
	r, err := http.NewRequestWithContext(s.Context(), http.MethodGet, s.inst.URL+path, nil)
	require.NoError(s, err)
	for i := 0; i+1 < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	res, err := (&http.Transport{DisableCompression: true}).RoundTrip(r)
	require.NoError(s, err)
	return s.read(res)
}

func TestTheCatalogueHasEveryRoleOfTheContract(t *testing.T) {
	raw, err := os.ReadFile("../../docs/contract/connector-v1.openapi.yaml")
	require.NoError(t, err)
	_, roles, found := strings.Cut(string(raw), "      enum:\n        - page-cache\n")
	require.True(t, found)
	cat := Fernhollow().Catalogue
	assert.GreaterOrEqual(t, len(cat.Settings), 60)
	for line := range strings.Lines("        - page-cache\n" + roles) {
		role, is := strings.CutPrefix(line, "        - ")
		if !is {
			break
		}
		assert.NotEmpty(t, cat.WithRole(settings.Role(strings.TrimSpace(role))), role)
	}
	for _, d := range Quillet().Catalogue.Settings {
		_, same := cat.Find(d.Key)
		assert.False(t, same, "%s: the observatory's keys are others", d.Key)
	}
}

func TestSignedInPeopleAreServedAsTheSettingsSay(t *testing.T) {
	open := settings.Values{"pages.neverWithCookies": []string{}, "pages.neverForRoles": []string{}, "pages.never": []string{"/account"}}
	for choice, leaks := range map[string]bool{"bypass": false, "own": false, "naive": true} {
		s, _ := start(t, open.With(settings.Values{"pages.signedIn": choice}))
		wren := s.fresh().as("wren", "harvest moon")
		assert.Contains(t, wren.get("/kits").body, "Wren Oakham")
		assert.Equal(t, leaks, strings.Contains(s.fresh().get("/kits").body, "Wren Oakham"), "%s: a stranger is shown her name", choice)
		again := wren.get("/kits")
		assert.Contains(t, again.body, "Wren Oakham", choice)
		assert.Equal(t, choice != "bypass", strings.Contains(again.header.Get("Cache-Status"), "hit"), choice)
	}
	s, _ := start(t, open.With(settings.Values{"pages.signedIn": "naive", "pages.neverForRoles": []string{"editor"}}))
	assert.Contains(t, s.fresh().as("ida", "second edition").get("/kits").header.Get("Cache-Status"), "detail=role")
	s, _ = start(t, settings.Values{"pages.neverForAgents": []string{"curious*crawler"}})
	assert.Contains(t, s.ask("/kits", "User-Agent", "A Curious little Crawler").header.Get("Cache-Status"), "detail=agent")
}

const phone = "Mozilla/5.0 (Linux; Android 14; Mobile)"

func TestPhonesHaveACopyOfTheirOwnUnlessThatIsOff(t *testing.T) {
	s, _ := start(t, nil)
	assert.Contains(t, s.ask("/kits", "User-Agent", phone).body, "Call the mill")
	assert.NotContains(t, s.ask("/kits").body, "Call the mill")
	s, _ = start(t, settings.Values{"pages.perDevice": false})
	s.ask("/kits", "User-Agent", phone)
	assert.Contains(t, s.ask("/kits").body, "Call the mill", "a desktop is served the phone's page")
}

func TestAPageThatHasNotChangedIsNotSentAgain(t *testing.T) {
	s, _ := start(t, settings.Values{"pages.notModified": true})
	first := s.ask("/kits")
	again := s.ask("/kits", "If-None-Match", first.header.Get("ETag"))
	assert.Equal(t, http.StatusNotModified, again.status)
	assert.Empty(t, again.body)
	assert.Equal(t, http.StatusOK, s.ask("/kits", "If-None-Match", `"other"`).status)
}

func TestAnExpiredPageIsServedWhileItIsMadeAnew(t *testing.T) {
	s, c := start(t, settings.Values{"pages.serveStale": true, "pages.lifetime": 60})
	first := s.get("/kits")
	c.add(2 * time.Minute)
	late := s.get("/kits")
	assert.Equal(t, first.body, late.body)
	assert.Contains(t, late.header.Get("Cache-Status"), "hit; ttl=-60")
	require.Eventually(t, func() bool { return s.get("/kits").body != first.body }, 10*time.Second, 10*time.Millisecond)
}

func TestPublishingRefreshesWhatHasToBe(t *testing.T) {
	s, _ := start(t, nil)
	for _, p := range []string{"/", "/kits", "/library/a-year-in-the-cellar"} {
		s.get(p)
	}
	assert.Equal(t, http.StatusForbidden, s.post("/library/reading-the-first-pins/edit", url.Values{"lead": {"Look twice."}}).status, "only editors write")
	editor := s.fresh().as("ida", "second edition")
	published := editor.post("/library/reading-the-first-pins/edit", url.Values{"lead": {"Look twice."}})
	assert.Empty(t, published.header.Get("X-Published"), "that is between the site and its layer")
	assert.Contains(t, s.get("/library/reading-the-first-pins").body, "Look twice.")
	home := s.get("/")
	assert.NotContains(t, home.header.Get("Cache-Status"), "hit")
	assert.Contains(t, home.body, "Look twice.")
	assert.NotContains(t, s.get("/library/a-year-in-the-cellar").header.Get("Cache-Status"), "hit")
	assert.Contains(t, s.get("/kits").header.Get("Cache-Status"), "hit", "what no pattern names stays cached")
	editor.post("/library/reading-the-first-pins/edit", url.Values{"lead": {"Nobody is told."}, "quietly": {"yes"}})
	assert.Contains(t, s.get("/library/reading-the-first-pins").body, "Look twice.", "the layer was not told")
	editor.post("/library/reading-the-first-pins/edit", url.Values{"back": {"yes"}})
	assert.NotContains(t, s.get("/library/reading-the-first-pins").body, "Nobody is told.")
	assert.Equal(t, http.StatusNotFound, editor.post("/library/no-such-article/edit", url.Values{"lead": {"x"}}).status)
}

func TestPagesAreWarmedFromTheSitemapOnASchedule(t *testing.T) {
	s, _ := start(t, settings.Values{"warm.on": true, "warm.every": 30})
	require.Eventually(t, func() bool { return s.inst.Layer.Status().Entries >= 20 }, 20*time.Second, 50*time.Millisecond)
	assert.Contains(t, s.get("/kits/winter-mane-duo").header.Get("Cache-Status"), "hit")
}

func TestTheObservatoryIsAnotherSiteOnAnotherHost(t *testing.T) {
	inst, err := Start(Quillet(), Options{Environment: "staging", Addr: "127.0.0.1:0", Token: "x"})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, inst.Close()) })
	s := (&shopper{T: t, inst: inst}).fresh()
	assert.Contains(t, s.get("/evenings").header.Get("Cache-Status"), "nightstore")
	assert.Contains(t, s.get("/evenings?month=march").body, "Comet, if it holds")
	s.post("/tickets", url.Values{"evening": {"the-owl"}})
	assert.Contains(t, s.post("/tickets", url.Values{"evening": {"the-dark-lane"}}).body, "The dark lane")
	assert.Contains(t, s.fresh().get("/tickets").body, "You have none yet")
	assert.Contains(t, s.post("/members", url.Values{"name": {"hale"}, "password": {"dark adapted"}}).body, "Hale Quillet")
	assert.Contains(t, s.get("/members/log/the-owl").body, "turns her head")
	assert.Contains(t, s.fresh().get("/members/log/the-owl").body, "for members")
	assert.Contains(t, s.get("/sitemap.xml").body, "sitemap-evenings.xml")
	v, etag := inst.Layer.Settings()
	_, ok := inst.Layer.Replace(v.With(settings.Values{"codeAfter": true, "imageLate": true, "markupTight": true}), etag)
	require.True(t, ok)
	inst.Layer.Purge(nil, true, false)
	body := s.fresh().get("/evenings/the-dark-lane").body
	assert.Contains(t, body, `src="/files/doors.js" defer`)
}
