package standin

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/standin/origin"
)

// Layer is a speed layer: it holds pages and rewrites them by its settings. A change
// of settings drops nothing that is cached.
type Layer struct {
	site   Site
	origin Origin
	now    func() time.Time
	base   string
	tells  httpcache.SignalKind

	renderings atomic.Int64 // counted only for a layer that tells by them
	mu         sync.RWMutex
	values     settings.Values
	serial     int // counts changes of the settings
	cached     cachedPages
	rebuilding map[cachedKey]bool
	data       dataCache
	made       madeAssets
	sizes      pictureSizes
	background sync.WaitGroup
	falters    func(settings.Values, *http.Request) bool
}

// Falter has files not come where a function says so, by the settings and the request: a speed layer that is overloaded now
// and then. Nil has them come again.
func (l *Layer) Falter(when func(settings.Values, *http.Request) bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.falters = when
}

// faltering tells whether a file does not come this time.
func (l *Layer) faltering(r *http.Request) bool {
	l.mu.RLock()
	defer l.mu.RUnlock()
	return l.falters != nil && l.falters(l.values, r)
}

// NewLayer puts a speed layer with these settings in front of a site's origin.
func NewLayer(s Site, o Origin, base string, values settings.Values, now func() time.Time) *Layer {
	return &Layer{site: s, origin: o, base: base, now: now, values: values.Clone(), serial: 1, rebuilding: map[cachedKey]bool{}}
}

func (l *Layer) policyLocked() policy { return policy{l.site.Catalogue, l.values, l.site.Features} }

func (l *Layer) policy() policy {
	l.mu.RLock()
	defer l.mu.RUnlock()
	return l.policyLocked()
}

func (l *Layer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p := l.policy()
	if r.URL.Path == workerPath {
		l.serveWorker(w, p)
		return
	}
	if l.site.isAsset(r.URL.Path) {
		l.serveAsset(w, r, p)
		return
	}
	res := l.page(p, r)
	l.tell(res.header)
	l.keepPage(p, r, &res)
	if isPage(res) && p.on("page-cache-not-modified") && res.status == http.StatusOK && r.Method == http.MethodGet {
		res.header.Set("ETag", tag(res.body))
		if r.Header.Get("If-None-Match") == tag(res.body) {
			res.status, res.body = http.StatusNotModified, nil
		}
	}
	l.compress(p, r, &res)
	res.write(w)
}

func tag(body []byte) string {
	sum := sha256.Sum256(body)
	return `"` + hex.EncodeToString(sum[:8]) + `"`
}

// page is an answer from the page cache, or from the origin through it.
func (l *Layer) page(p policy, r *http.Request) response {
	if reason := l.bypass(p, r); reason != "" {
		res := l.make(p, r)
		if isPage(res) {
			res.header.Set("Cache-Status", fmt.Sprintf("%s; fwd=bypass; detail=%s", l.site.CacheName, reason))
		}
		return res
	}
	key := cachedKey{address(p, r.URL), l.variant(p, r)}
	l.mu.RLock()
	cached := l.cached.pages[key]
	l.mu.RUnlock()
	fwd := "uri-miss"
	if cached != nil {
		left := cached.freshFor(l.now())
		if left > 0 || p.on("page-cache-serve-stale") {
			if left <= 0 {
				l.rebuild(p, key, r)
			}
			h := maps.Clone(cached.Header)
			h.Set("Age", strconv.Itoa(int(l.now().Sub(cached.Made).Seconds())))
			h.Set("Cache-Status", fmt.Sprintf("%s; hit; ttl=%d", l.site.CacheName, int(left.Seconds())))
			return response{cached.Status, h, cached.Body}
		}
		fwd = "stale"
	}
	res := l.make(p, r)
	if !isPage(res) {
		return res
	}
	stored := ""
	if l.hold(p, key, r, res) {
		stored = "; stored"
	}
	res.header.Set("Cache-Status", fmt.Sprintf("%s; fwd=%s%s", l.site.CacheName, fwd, stored))
	return res
}

// hold keeps a page that came well.
func (l *Layer) hold(p policy, key cachedKey, r *http.Request, res response) bool {
	if res.status != http.StatusOK || r.Method != http.MethodGet {
		return false
	}
	h := res.header.Clone()
	h.Del("Set-Cookie")
	l.mu.Lock()
	defer l.mu.Unlock()
	l.cached.put(key, &cachedPage{res.status, h, res.body, l.now(), time.Duration(p.number("page-cache-ttl")) * time.Second, false}, p.text("page-cache-store") == "memory")
	return true
}

// rebuild makes a stale page again while the old one is being served, once at a time.
func (l *Layer) rebuild(p policy, key cachedKey, r *http.Request) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.rebuilding[key] {
		return
	}
	l.rebuilding[key] = true
	again := r.Clone(context.WithoutCancel(r.Context()))
	l.background.Go(func() {
		res := l.make(p, again)
		if isPage(res) {
			l.hold(p, key, again, res)
		}
		l.mu.Lock()
		delete(l.rebuilding, key)
		l.mu.Unlock()
	})
}

// bypass says why a request is neither answered from nor put into the page cache.
func (l *Layer) bypass(p policy, r *http.Request) string {
	if !p.on("page-cache") {
		return "off"
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		return "method"
	}
	if matches(p.list("path-exclude"), func(x string) bool { return exclusion.MatchPath(x, r.URL.RequestURI()) }) {
		return "path"
	}
	for _, c := range r.Cookies() {
		if matches(p.list("cookie-exclude"), func(x string) bool { return exclusion.MatchName(x, c.Name) }) {
			return "cookie"
		}
	}
	if matches(p.list("agent-exclude"), func(x string) bool { return exclusion.MatchAgent(x, r.UserAgent()) }) {
		return "agent"
	}
	if role, _ := l.signedIn(r); role != "" {
		if slices.Contains(p.list("role-exclude"), role) {
			return "role"
		}
		if p.text("page-cache-logged-in") == "bypass" {
			return "signed-in"
		}
	}
	return ""
}

func matches(patterns []string, match func(string) bool) bool {
	return slices.ContainsFunc(patterns, match)
}

// signedIn is the role of whoever is signed in, as the member cookie begins with it,
// and the cookie's value.
func (l *Layer) signedIn(r *http.Request) (role, value string) {
	c, err := r.Cookie(l.site.MemberCookie)
	if err != nil {
		return "", ""
	}
	role, _, _ = strings.Cut(c.Value, "-")
	return role, c.Value
}

// address is the address without its ignored parameters. Those that make pages of
// their own come in the order of their names; so do all others.
func address(p policy, u *url.URL) string {
	ignored := p.list("query-ignore")
	q := u.Query()
	for name := range q {
		if matches(ignored, func(x string) bool { return exclusion.MatchName(x, name) }) {
			q.Del(name)
		}
	}
	return u.EscapedPath() + "?" + q.Encode()
}

// variant is for whom a copy is made, where the settings ask for copies of their own.
func (l *Layer) variant(p policy, r *http.Request) string {
	v := ""
	if p.on("page-cache-device-variants") && strings.Contains(r.UserAgent(), "Mobile") {
		v = "phone"
	}
	if _, value := l.signedIn(r); value != "" && p.text("page-cache-logged-in") == "own" {
		v += "|" + value
	}
	return v
}

// response is a whole answer.
type response struct {
	status int
	header http.Header
	body   []byte
}

func (r response) write(w http.ResponseWriter) {
	maps.Copy(w.Header(), r.header)
	if r.status != http.StatusNotModified {
		w.Header().Set("Content-Length", strconv.Itoa(len(r.body)))
	}
	w.WriteHeader(r.status)
	_, _ = w.Write(r.body)
}

func isPage(r response) bool {
	return strings.HasPrefix(r.header.Get("Content-Type"), "text/html")
}

// make asks the origin and rewrites its answer.
func (l *Layer) make(p policy, r *http.Request) response {
	if p.on("trim-feature") && l.trimmed(p, r.URL.Path) {
		return response{http.StatusNotFound, http.Header{"Content-Type": {"text/plain; charset=utf-8"}}, []byte("This is switched off.\n")}
	}
	res := record(l.origin, l.withData(p, r))
	if isPage(res) && !strings.HasPrefix(r.URL.Path, l.site.FramePath) {
		if body, err := l.rewrite(p, r, res.body); err == nil {
			res.body = body
		}
		if p.feature("signature") {
			res.body = fmt.Appendf(res.body, "\n<!-- made by %s -->\n", l.site.Software)
		}
		l.stamp(&res)
	}
	res.header.Del("Content-Length")
	if path := res.header.Get(origin.Published); path != "" {
		res.header.Del(origin.Published)
		l.published(path)
	}
	return res
}

// recorder takes an answer in memory.
type recorder struct {
	status int
	header http.Header
	body   bytes.Buffer
}

func (r *recorder) Header() http.Header { return r.header }
func (r *recorder) WriteHeader(status int) {
	if r.status == 0 {
		r.status = status
	}
}
func (r *recorder) Write(b []byte) (int, error) {
	r.WriteHeader(http.StatusOK)
	return r.body.Write(b)
}

func record(h http.Handler, r *http.Request) response {
	rec := &recorder{header: http.Header{}}
	h.ServeHTTP(rec, r)
	rec.WriteHeader(http.StatusOK)
	return response{rec.status, rec.header, rec.body.Bytes()}
}

// Settings returns the values in force and their entity tag.
func (l *Layer) Settings() (settings.Values, string) {
	l.mu.RLock()
	defer l.mu.RUnlock()
	return l.values.Clone(), l.etag()
}

func (l *Layer) etag() string {
	fp, err := l.values.Fingerprint()
	if err != nil {
		fp = "none"
	}
	return fmt.Sprintf(`"%d-%s"`, l.serial, fp[:min(16, len(fp))])
}

// Replace puts new values in force when the entity tag still is the one given. It
// reports whether it was. Records that a tidy is to delete are gone then, where it was not in force before.
func (l *Layer) Replace(v settings.Values, ifMatch string) (etag string, matched bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if ifMatch != l.etag() {
		return l.etag(), false
	}
	before := l.policyLocked()
	l.values = v.Clone()
	l.serial++
	l.tidy(before, l.policyLocked())
	return l.etag(), true
}

// published drops the copies of a page that was edited, and those that are always
// refreshed when something is published.
func (l *Layer) published(path string) {
	p := l.policy()
	l.mu.Lock()
	defer l.mu.Unlock()
	l.cached.concern(func(k cachedKey) bool {
		at, _, _ := strings.Cut(k.address, "?")
		return at == path || matches(p.list("always-refresh"), func(x string) bool { return exclusion.MatchPath(x, strings.TrimSuffix(k.address, "?")) })
	}, false)
}
