package standin

import (
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"path/filepath"
	"regexp"
	"strings"
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

// clock is a time that a test moves on.
type clock struct{ now time.Time }

func start(t *testing.T, edits settings.Values) (*shopper, *clock) {
	t.Helper()
	c := &clock{now: time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)}
	inst, err := StartFernhollow(Options{Environment: "staging", Addr: "127.0.0.1:0", Token: "x", Now: func() time.Time { return c.now }})
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

func TestPagesAreHeldForTheirLifetime(t *testing.T) {
	s, c := start(t, settings.Values{"pages.lifetime": 60})
	first := s.get("/kits")
	assert.Equal(t, "fernhollow-pages; fwd=uri-miss; stored", first.header.Get("Cache-Status"))
	c.now = c.now.Add(45 * time.Second)
	held := s.fresh().get("/kits")
	assert.Equal(t, "fernhollow-pages; hit; ttl=15", held.header.Get("Cache-Status"))
	assert.Equal(t, "45", held.header.Get("Age"))
	assert.Equal(t, first.body, held.body)
	c.now = c.now.Add(15 * time.Second)
	assert.Equal(t, "fernhollow-pages; fwd=stale; stored", s.get("/kits").header.Get("Cache-Status"))
	assert.Contains(t, s.get("/cart").header.Get("Cache-Status"), "fwd=bypass")
	assert.Empty(t, s.get("/assets/fern.css").header.Get("Cache-Status"), "only pages are held")
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

func TestABasketIsItsOwnersUnlessThePageIsHeld(t *testing.T) {
	s, _ := start(t, nil)
	s.post("/cart", url.Values{"kit": {"tawny-mane-block"}})
	assert.Contains(t, s.get("/cart").body, "Tawny mane block")
	assert.Contains(t, s.fresh().get("/cart").body, "Your basket is empty")
	held, _ := start(t, settings.Values{"pages.never": []string{}})
	held.post("/cart", url.Values{"kit": {"tawny-mane-block"}})
	assert.Contains(t, held.fresh().get("/cart").body, "Tawny mane block", "a stranger is shown the basket")
}

func TestACheckoutFormIsRefusedWhenItsTokenWasHeldTooLong(t *testing.T) {
	token := regexp.MustCompile(`name="token" value="([^"]+)"`)
	for _, held := range []bool{false, true} {
		never := []string{"/checkout"}
		if held {
			never = []string{}
		}
		s, c := start(t, settings.Values{"pages.never": never})
		s.get("/checkout")
		c.now = c.now.Add(61 * time.Minute)
		form := s.get("/checkout")
		m := token.FindStringSubmatch(form.body)
		require.Len(t, m, 2)
		want := http.StatusOK
		if held {
			want = http.StatusForbidden
		}
		assert.Equal(t, want, s.post("/checkout", url.Values{"token": {m[1]}}).status, "held: %v", held)
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
