package browser

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/site"
)

// What a page has done in the background reaches other hosts no more than the page itself does.
func TestWorkersReachNoOtherHost(t *testing.T) {
	var foreign, own atomic.Int32
	elsewhere := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		foreign.Add(1)
		w.Header().Set("Access-Control-Allow-Origin", "*")
	}))
	t.Cleanup(elsewhere.Close)
	mux := http.NewServeMux()
	worker := fmt.Sprintf(`const tried = fetch("/own").catch(() => 0).then(() => fetch(%q, { mode: "no-cors" })).catch(() => 0);`, elsewhere.URL+"/stolen")
	for path, script := range map[string]string{
		"/service.js":   worker + `self.addEventListener("install", (e) => { self.skipWaiting(); e.waitUntil(tried); }); self.addEventListener("activate", (e) => e.waitUntil(clients.claim()));`,
		"/shared.js":    worker + `onconnect = (e) => tried.then(() => e.ports[0].postMessage("done"));`,
		"/dedicated.js": worker + `tried.then(() => postMessage("done"));`,
	} {
		mux.HandleFunc(path, func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/javascript")
			_, _ = w.Write([]byte(script))
		})
	}
	mux.HandleFunc("/own", func(http.ResponseWriter, *http.Request) { own.Add(1) })
	mux.HandleFunc("/{$}", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		_, _ = w.Write([]byte(`<!doctype html><title>waiting</title><p>Three at work<script>
			Promise.all([
				navigator.serviceWorker.register("/service.js").then(() => navigator.serviceWorker.ready),
				new Promise((done) => { new SharedWorker("/shared.js").port.onmessage = done; }),
				new Promise((done) => { new Worker("/dedicated.js").onmessage = done; }),
			]).then(() => { document.title = "all done"; });
		</script>`))
	})
	srv := httptest.NewServer(mux)
	t.Cleanup(srv.Close)
	env := site.Environment{Name: "staging", URL: srv.URL}

	v, err := shared.Visitor(env, site.Desktop)
	require.NoError(t, err)
	t.Cleanup(v.Close)
	task := site.PageTask{Page: site.Page{Path: "/"}, Persona: site.Visitor, Device: site.Desktop}
	require.Eventually(t, func() bool {
		l, err := v.Look(t.Context(), task, State{}, httpcache.NewReader(env.Signal()), keepNothing)
		require.NoError(t, err)
		return l.Title == "all done"
	}, 30*time.Second, 10*time.Millisecond)
	assert.GreaterOrEqual(t, own.Load(), int32(3), "each asked the site")
	assert.Zero(t, foreign.Load(), "and nobody else")
}
