package browser

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/site"
)

// What went wrong is kept, also of an attempt that failed and was followed by one that did not.
func TestWhatWentWrongIsKept(t *testing.T) {
	hung, err := Start(Options{Tabs: 1, Timeout: 8 * time.Second})
	require.NoError(t, err)
	defer hung.Close()
	var asked, flaky atomic.Int32
	whole := numbered("3.png")
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/":
			w.Header().Set("Content-Type", "text/html")
			_, _ = w.Write([]byte(`<!doctype html><h1>Well</h1><img src="/cut.png" width="240" height="160"><script>console.error("attempt " + ` + fmt.Sprint(asked.Add(1)) + `);
				fetch("/once").then((r) => { if (!r.ok) return fetch("/once"); });</script>`))
			if asked.Load() == 1 {
				_, _ = w.Write([]byte(`<script src="/gone.js"></script><script>for (;;) {}</script>`))
			}
		case "/cut.png":
			w.Header().Set("Content-Type", "image/png")
			_, _ = w.Write(append(bytes.Clone(whole[:41]), make([]byte, 400)...))
		case "/once":
			if flaky.Add(1)%2 == 1 {
				w.WriteHeader(http.StatusBadGateway)
			}
		default:
			http.NotFound(w, r)
		}
	}))
	t.Cleanup(s.Close)
	l, err := hung.Look(t.Context(), site.Environment{Name: "staging", URL: s.URL}, site.PageTask{Page: site.Page{Path: "/"}, Persona: "visitor", Device: site.Desktop}, State{}, httpcache.NewReader(httpcache.Signal{}), keepNothing, nil)
	require.NoError(t, err)
	require.Empty(t, l.Missing)
	assert.Equal(t, 2, l.Attempts)
	require.Len(t, l.Earlier, 1)
	assert.NotEmpty(t, l.Earlier[0].Why)
	assert.Equal(t, []string{"attempt 1"}, l.Earlier[0].Console)
	assert.True(t, strings.Contains(fmt.Sprint(l.Earlier[0].Requests), "/gone.js"), "%v", l.Earlier[0].Requests)
	assert.Equal(t, []string{"attempt 2"}, l.Console)
	var answers []int
	for _, r := range l.Requests {
		if strings.HasSuffix(r.URL, "/once") {
			answers = append(answers, r.Status)
		}
	}
	assert.Equal(t, 2, len(answers), "a request that failed once stands beside the one that did not: %v", answers)
	assert.Equal(t, []string{s.URL + "/cut.png"}, append(l.Undecoded, l.Empty...))
	for name, part := range map[string]float64{"opening": l.Spent.Opening, "network": l.Spent.Network, "painting": l.Spent.Painting, "reading": l.Spent.Reading} {
		assert.Positive(t, part, name)
	}
}

// A long page is looked at in tiles that fit together, up to a limit that the look states.
func TestALongPageIsLookedAtInFull(t *testing.T) {
	var stripes strings.Builder
	for i := range 175 {
		fmt.Fprintf(&stripes, `<div style="height:200px;background:rgb(%d,%d,120)">Stripe %d</div>`, i, 255-i, i)
	}
	env, _ := pages(t, map[string]string{"/": `<style>body{margin:0}</style>` + stripes.String()})
	var mu sync.Mutex
	var raw []byte
	l, err := shared.Look(t.Context(), env, site.PageTask{Page: site.Page{Path: "/", Class: "other"}, Persona: "visitor", Device: site.Phone}, State{}, httpcache.NewReader(httpcache.Signal{}), func(_ context.Context, _ string, b []byte) (string, error) {
		mu.Lock()
		defer mu.Unlock()
		raw = b
		return digest(b), nil
	}, nil)
	require.NoError(t, err)
	require.Empty(t, l.Missing)
	assert.Equal(t, image.Pt(390, tallest), image.Pt(l.Picture.Width, l.Picture.Height))
	assert.Equal(t, []string{fmt.Sprintf("The page is 35000 pixels tall; its first %d were looked at.", tallest)}, l.Noted)
	m := decoded(t, raw)
	for i := range tallest / 200 {
		for _, y := range []int{i*200 + 1, i*200 + 198} {
			assert.Equal(t, color.NRGBA{uint8(i), uint8(255 - i), 120, 255}, m.NRGBAAt(380, y), "%d pixels from the top", y)
		}
	}
}

// A list without an end is followed to the limit and no further.
func TestAListWithoutEndIsFollowedToTheLimit(t *testing.T) {
	env, asked := pages(t, map[string]string{"/more/": "more", "/": `<ul></ul><div id="end" style="height:10px"></div><script>
		const end = document.querySelector("#end");
		new IntersectionObserver((l) => { if (l[0].isIntersecting) fetch("/more/").then(() => { for (let i = 0; i < 20; i++) { const li = document.createElement("li"); li.style.height = "90px"; li.textContent = "Item"; document.querySelector("ul").append(li); } }); }, { rootMargin: "300px" }).observe(end);</script>`})
	l := look(t, env, "/", site.Phone, State{})
	require.Empty(t, l.Missing)
	assert.Equal(t, tallest, l.Picture.Height)
	require.Len(t, l.Noted, 1)
	assert.Contains(t, l.Noted[0], "pixels tall")
	assert.Less(t, asked["/more/"].Load(), int32(60))
}
