package standin

import (
	"fmt"
	"net/http"
	"strings"

	"github.com/PuerkitoBio/goquery"
)

// workerPath is where the service worker is that keeps pages for when there is no network.
const workerPath = madePath + "offline.js"

// offlineWorker answers with the copy of a page that the browser has from earlier, and asks
// only for what it does not have yet. It never finds out that a page has another reader now,
// or was published anew.
const offlineWorker = `self.addEventListener("install", function () { self.skipWaiting(); });
self.addEventListener("activate", function (e) { e.waitUntil(self.clients.claim()); });
self.addEventListener("fetch", function (e) {
  if (e.request.mode !== "navigate" || e.request.method !== "GET") return;
  e.respondWith(caches.open("pages").then(function (kept) {
    return kept.match(e.request).then(function (had) {
      return had || fetch(e.request).then(function (came) {
        if (came.ok && !came.redirected) kept.put(e.request, came.clone());
        return came;
      });
    });
  }));
});
`

// withWorker has a page start the worker.
func withWorker(page *goquery.Document) {
	page.Find("body").AppendNodes(element("script", fmt.Sprintf("if (navigator.serviceWorker) navigator.serviceWorker.register(%q, { scope: \"/\" });", workerPath)))
}

// serveWorker delivers the worker as long as the setting is on; where it is gone, browsers that
// have it take it out.
func (l *Layer) serveWorker(w http.ResponseWriter, p policy) {
	if !p.feature("offline") {
		http.NotFound(w, nil)
		return
	}
	h := w.Header()
	h.Set("Content-Type", "text/javascript; charset=utf-8")
	h.Set("Service-Worker-Allowed", "/")
	h.Set("Cache-Control", "no-cache")
	_, _ = w.Write([]byte(offlineWorker))
}

// keepPage lets browsers keep a page that everybody is served, for as long as the setting says.
func (l *Layer) keepPage(p policy, r *http.Request, res *response) {
	span := p.featureNumber("keep pages")
	if span > 0 && isPage(*res) && res.status == http.StatusOK && r.Method == http.MethodGet && l.bypass(p, r) == "" && !strings.Contains(res.header.Get("Cache-Control"), "no-store") {
		res.header.Set("Cache-Control", fmt.Sprintf("private, max-age=%d", span))
	}
}
