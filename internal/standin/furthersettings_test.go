package standin

import (
	"image"
	"net/http"
	"net/url"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/settings"
	"tidemarker/internal/standin/origin"
)

func TestFilesAreDeliveredAsTheSettingsSay(t *testing.T) {
	s, _ := start(t, settings.Values{"browser.keep": true, "browser.keepFor": 600, "delivery.pack": "gzip", "styles.compact": true, "scripts.compact": true,
		"scripts.compactNot": []string{"tabs.js"}, "images.convert": "jpeg", "images.widest": 200})
	css := s.ask("/assets/fern.css")
	assert.Equal(t, "public, max-age=600", css.header.Get("Cache-Control"))
	assert.NotContains(t, css.body, "\n.top")
	assert.NotContains(t, s.ask("/assets/fern.js").body, "// A small library")
	assert.Contains(t, s.ask("/assets/tabs.js").body, "\n", "excluded")
	packed := s.ask("/assets/fern.css", "Accept-Encoding", "gzip")
	assert.Equal(t, "gzip", packed.header.Get("Content-Encoding"))
	assert.Less(t, len(packed.body), len(css.body))
	picture := s.ask("/pictures/hero.png")
	assert.Equal(t, "image/jpeg", picture.header.Get("Content-Type"))
	cfg, _, err := image.DecodeConfig(strings.NewReader(picture.body))
	require.NoError(t, err)
	assert.Equal(t, 200, cfg.Width)
	assert.Equal(t, 75, cfg.Height, "1120 × 420, smaller")
}

func TestEachFurtherSettingRewritesThePage(t *testing.T) {
	for name, tc := range map[string]struct {
		edits    settings.Values
		at       string
		has, not []string
	}{
		"a signature":              {settings.Values{"markup.signature": true, "markup.compact": true}, "/", []string{"<!-- made by Fernhollow pages 4 -->"}, nil},
		"styles combined":          {settings.Values{"styles.combine": true}, "/", []string{`href="/_speed/made/`}, []string{"fern.css", "icons.css"}},
		"a style excluded":         {settings.Values{"styles.combine": true, "styles.not": []string{"icons"}}, "/", []string{"fern.css", "icons.css"}, nil},
		"styles later":             {settings.Values{"styles.later": true}, "/", []string{`rel="preload" href="/assets/fern.css?v=3" as="style" onload=`}, nil},
		"scripts combined":         {settings.Values{"scripts.combine": true, "scripts.combineNot": []string{"clock.js"}}, "/", []string{`src="/_speed/made/`, "clock.js", "Fern.config("}, []string{"menu.js", "basket.js"}},
		"inline code made compact": {settings.Values{"scripts.compact": true, "scripts.inlineToo": true}, "/", []string{`Fern.config({season:"autumn"`}, []string{"The season"}},
		"inline code, too":         {settings.Values{"scripts.combine": true, "scripts.inlineToo": true}, "/", nil, []string{"Fern.config("}},
		"inline code deferred":     {settings.Values{"scripts.defer": true, "scripts.inlineToo": true}, "/", []string{`<script src="data:text/javascript,`}, []string{"<script>"}},
		"no query":                 {settings.Values{"delivery.stripQuery": true}, "/", []string{`href="/assets/fern.css"`}, []string{"?v=3"}},
		"another host":             {settings.Values{"delivery.assetHost": "http://files.example", "delivery.assetHostNot": []string{"menu.js"}}, "/", []string{"http://files.example/assets/fern.js", `src="/assets/menu.js"`, "http://files.example/pictures/hero.png"}, nil},
		"first picture early":      {settings.Values{"images.keyFirst": true, "images.lazy": true, "images.lazySkip": 0}, "/", []string{`rel="preload" as="image" href="/pictures/hero.png"`, `fetchpriority="high"`}, nil},
		"a picture not lazy":       {settings.Values{"images.lazy": true, "images.lazySkip": 0, "images.lazyNot": []string{"slide-spring"}}, "/", []string{`slide-spring.png" alt="" width="720" height="300"/>`}, nil},
		"frames on demand":         {settings.Values{"frames.onDemand": true}, "/contact", []string{`data-frame="/frames/mill"`, "Show Where the mill is"}, []string{"<iframe class"}},
		"own lettering":            {settings.Values{"fonts.own": true, "fonts.early": true}, "/", []string{`href="/type/fern-type.css"`, `as="font" type="font/woff2" crossorigin="" href="/type/fern-serif.woff2"`}, []string{"localhost"}},
		"links ahead":              {settings.Values{"links.ahead": true, "links.hosts": []string{"https://type.example"}}, "/", []string{`["/cart","/checkout","/account"]`, `rel="preconnect" href="https://type.example"`}, nil},
		"no shop script":           {settings.Values{"trim.basketScript": true}, "/contact", nil, []string{"basket.js"}},
		"shop script where sold":   {settings.Values{"trim.basketScript": true}, "/kits", []string{"basket.js"}, nil},
		"no glyphs, no feed":       {settings.Values{"trim.glyphs": true, "trim.feed": true}, "/", nil, []string{"icons.css", "feed.xml"}},
		"calls home":               {settings.Values{"background.every": 0}, "/", []string{`data-pulse="0"`}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			s, _ := start(t, tc.edits)
			body := s.get(tc.at).body
			for _, x := range tc.has {
				assert.Contains(t, body, x)
			}
			for _, x := range tc.not {
				assert.NotContains(t, body, x)
			}
		})
	}
	s, _ := start(t, settings.Values{"trim.feed": true})
	assert.Equal(t, http.StatusNotFound, s.get("/feed.xml").status)
	s, _ = start(t, settings.Values{"fonts.own": true, "fonts.swap": true})
	assert.Contains(t, s.get("/type/fern-type.css").body, "font-display")
}

func TestCachedLookUpsMixBasketsUnlessSessionsAreExcluded(t *testing.T) {
	for _, left := range []bool{true, false} {
		not := []string{}
		if left {
			not = []string{"this session"}
		}
		s, c := start(t, settings.Values{"data.cache": true, "data.not": not})
		s.post("/cart", url.Values{"kit": {"tawny-mane-block"}})
		s.get("/cart")
		assert.Equal(t, !left, strings.Contains(s.fresh().get("/cart").body, "Tawny mane block"), "sessions excluded: %v", left)
		c.add(6 * time.Minute)
		assert.NotContains(t, s.fresh().get("/cart").body, "Tawny mane block", "after five minutes it is looked up again")
	}
}

func TestATidySaysWhatItDeletesAndKeepsTheNewest(t *testing.T) {
	s, _ := start(t, nil)
	d, _ := s.inst.catalogue().Find("tidy.revisions")
	assert.Contains(t, d.Summary, "There are 36 now.")
	assert.True(t, d.Irreversible)
	v, etag := s.inst.Layer.Settings()
	_, ok := s.inst.Layer.Replace(v.With(settings.Values{"tidy.revisions": true, "tidy.keep": 4}), etag)
	require.True(t, ok)
	d, _ = s.inst.catalogue().Find("tidy.revisions")
	assert.Contains(t, d.Summary, "There are 4 now.")
	d, _ = s.inst.catalogue().Find("tidy.spam")
	assert.Contains(t, d.Summary, "There are 31 now.", "only what was asked for")
}

// What the protocol says of settings that delete: they do when they come into force, and not with each other setting that is changed.
func TestATidyDeletesWhenItComesIntoForceAndNotAgain(t *testing.T) {
	s, _ := start(t, nil)
	would := func() int {
		d, _ := s.inst.catalogue().Find("tidy.revisions")
		return *d.Records
	}
	put := func(edits settings.Values) {
		v, etag := s.inst.Layer.Settings()
		_, ok := s.inst.Layer.Replace(v.With(edits), etag)
		require.True(t, ok)
	}
	put(settings.Values{"tidy.keep": 4})
	assert.Equal(t, 32, would(), "all but the newest four")
	put(settings.Values{"tidy.revisions": true})
	assert.Zero(t, would())
	s.inst.Gather(origin.Revisions, 5)
	put(settings.Values{"markup.compact": true})
	assert.Equal(t, 5, would(), "another setting deletes nothing")
	put(settings.Values{"tidy.revisions": false})
	assert.Equal(t, 5, would())
	put(settings.Values{"tidy.revisions": true})
	assert.Zero(t, would(), "off and on again it deletes what has gathered")
	s.inst.Gather(origin.Revisions, 5)
	put(settings.Values{"tidy.keep": 3})
	assert.Zero(t, would(), "so does keeping fewer")
}

func TestPagesOnDiskOutliveARestartAndMemoryHasLimitedRoom(t *testing.T) {
	keep := filepath.Join(t.TempDir(), "settings.json")
	for _, store := range []string{"disk", "memory"} {
		run := func(ask func(s *shopper)) {
			inst, err := StartFernhollow(Options{Environment: "staging", Addr: "127.0.0.1:0", Token: "x", Keep: keep})
			require.NoError(t, err)
			v, etag := inst.Layer.Settings()
			_, ok := inst.Layer.Replace(v.With(settings.Values{"pages.store": store}), etag)
			require.True(t, ok)
			require.NoError(t, inst.save())
			ask((&shopper{T: t, inst: inst}).fresh())
			require.NoError(t, inst.Close())
		}
		run(func(s *shopper) { s.get("/kits"); s.inst.Layer.Purge(nil, true, false); s.get("/contact") })
		run(func(s *shopper) {
			assert.Equal(t, store == "disk", strings.Contains(s.get("/contact").header.Get("Cache-Status"), "hit"), store)
			for i := range memoryPlaces + 20 {
				s.get("/kits?n=" + strconv.Itoa(i))
			}
			assert.Equal(t, store == "disk", s.inst.Layer.Status().Entries > memoryPlaces, store)
		})
	}
}
