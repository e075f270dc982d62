package browser

import (
	"net/http"
	"net/http/httptest"
	"os"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/stats"
)

// moving is a page whose content moves by a known way, and that is busy for a known time, after it was painted.
const moving = `<!doctype html><meta charset="utf-8"><style>body{margin:0} #block{height:400px;background:#9ab}</style><div id="new"></div><div id="block">Mushrooms</div>
<script>
requestAnimationFrame(() => setTimeout(() => {
	document.getElementById("new").style.height = "200px";
	setTimeout(() => { const until = performance.now() + 200; while (performance.now() < until); }, 100);
}, 300));
</script>`

// TestWhatIsMeasuredIsWhatThePageDoes holds what is measured against pages of which it is known: a server's delay of
// 400 ms within 5 %; a block of half the window that moves by a quarter of it; one task of 200 ms.
func TestWhatIsMeasuredIsWhatThePageDoes(t *testing.T) {
	var slow atomic.Bool
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/late" && slow.Load() {
			select {
			case <-r.Context().Done():
			case <-time.After(400 * time.Millisecond):
			}
		}
		w.Header().Set("Content-Type", "text/html")
		_, _ = w.Write([]byte(moving))
	}))
	t.Cleanup(srv.Close)
	env := site.Environment{Name: "staging", URL: srv.URL}
	load := func(path, device string) measure.Load {
		l, err := shared.Measure(t.Context(), env, site.PageTask{Page: site.Page{Path: path}, Persona: site.Visitor, Device: device}, State{}, httpcache.NewReader(env.Signal()))
		require.NoError(t, err)
		require.Empty(t, l.Dropped)
		return l
	}
	var with, without []float64
	for range 7 {
		slow.Store(false)
		without = append(without, load("/late", site.Desktop).Values[measure.FirstByte])
		slow.Store(true)
		with = append(with, load("/late", site.Desktop).Values[measure.FirstByte])
	}
	assert.InDelta(t, 400, stats.HodgesLehmann(without, with, 0.9).Estimate, 20)
	l := load("/", site.Desktop)
	// W3C Layout Instability: the impact fraction is 600 of 800 rows, the distance fraction 200 px of the
	// window's longer side, 1280 px.
	assert.InDelta(t, 600.0/800*200/1280, l.Values[measure.LayoutShift], 0.001)
	assert.Contains(t, l.Moved, "div#block")
	assert.GreaterOrEqual(t, l.Values[measure.Blocking], 145.0, "200 ms less the 50 that do not count")
	assert.Less(t, l.Values[measure.Blocking], 250.0, "and little besides, also on a busy machine")
	assert.Equal(t, 1.0, l.Values[measure.Requests])
	assert.Positive(t, l.Values[measure.Transferred])
	assert.GreaterOrEqual(t, l.Values[measure.Largest], l.Values[measure.FirstPaint])
	phone := load("/", site.Phone)
	assert.Greater(t, phone.Values[measure.FirstByte], l.Values[measure.FirstByte]+80, "its line is slower")

	gone, err := shared.Measure(t.Context(), site.Environment{URL: "http://127.0.0.1:1"}, site.PageTask{Page: site.Page{Path: "/"}, Persona: site.Visitor, Device: site.Desktop}, State{}, httpcache.NewReader(env.Signal()))
	require.NoError(t, err)
	assert.Contains(t, gone.Dropped, "could not be opened")
}

// TestVitalsAreThoseOfTheReferenceLibrary holds the largest paint and the layout shift against what npm's
// web-vitals says in the same page load.
func TestVitalsAreThoseOfTheReferenceLibrary(t *testing.T) {
	library, err := os.ReadFile("../../web/node_modules/web-vitals/dist/web-vitals.iife.js")
	require.NoError(t, err)
	var mu sync.Mutex
	said := map[string]float64{}
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/vitals.js":
			w.Header().Set("Content-Type", "text/javascript")
			_, _ = w.Write(library)
		case "/said":
			v, err := strconv.ParseFloat(r.URL.Query().Get("value"), 64)
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				said[r.URL.Query().Get("name")] = v
			}
		default:
			w.Header().Set("Content-Type", "text/html")
			_, _ = w.Write([]byte(`<!doctype html><script src="/vitals.js"></script><script>
				for (const on of [webVitals.onLCP, webVitals.onCLS, webVitals.onFCP]) on((m) => fetch("/said?name=" + m.name + "&value=" + m.value), { reportAllChanges: true });
			</script>` + moving + `<h1>A large heading that is painted at once</h1>`))
		}
	}))
	t.Cleanup(srv.Close)
	env := site.Environment{Name: "staging", URL: srv.URL}
	for _, device := range []string{site.Desktop, site.Phone} {
		l, err := shared.Measure(t.Context(), env, site.PageTask{Page: site.Page{Path: "/"}, Persona: site.Visitor, Device: device}, State{}, httpcache.NewReader(env.Signal()))
		require.NoError(t, err)
		require.Empty(t, l.Dropped)
		mu.Lock()
		assert.InDelta(t, said["LCP"], l.Values[measure.Largest], 1, device)
		assert.InDelta(t, said["FCP"], l.Values[measure.FirstPaint], 1, device)
		assert.InDelta(t, said["CLS"], l.Values[measure.LayoutShift], 1e-6, device)
		assert.Positive(t, said["CLS"])
		mu.Unlock()
	}
}
