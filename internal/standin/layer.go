package standin

import (
	"bytes"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/settings"
)

// cacheName is how the layer calls itself in Cache-Status.
const cacheName = "fernhollow-pages"

// Layer is a speed layer: it holds pages and rewrites them by its settings. A change
// of settings drops nothing that is held.
type Layer struct {
	origin http.Handler
	now    func() time.Time
	cat    settings.Catalogue

	mu     sync.RWMutex
	values settings.Values
	serial int // counts changes of the settings
	held   map[string]*heldPage
	sizes  pictureSizes
}

type heldPage struct {
	status int
	header http.Header
	body   []byte
	made   time.Time
	ttl    time.Duration
	stale  bool
}

func (p *heldPage) freshFor(now time.Time) time.Duration {
	if p.stale {
		return -time.Second
	}
	return p.ttl - now.Sub(p.made)
}

// NewLayer puts a speed layer with these settings in front of an origin.
func NewLayer(origin http.Handler, cat settings.Catalogue, values settings.Values, now func() time.Time) *Layer {
	return &Layer{origin: origin, now: now, cat: cat, values: values.Clone(), serial: 1, held: map[string]*heldPage{}}
}

func (l *Layer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	l.mu.RLock()
	v := l.values
	l.mu.RUnlock()
	if reason := bypass(v, r); reason != "" {
		res := l.make(v, r)
		if isPage(res) {
			res.header.Set("Cache-Status", fmt.Sprintf("%s; fwd=bypass; detail=%s", cacheName, reason))
		}
		res.write(w)
		return
	}
	key := cacheKey(v, r.URL)
	l.mu.RLock()
	p := l.held[key]
	l.mu.RUnlock()
	fwd := "uri-miss"
	if p != nil {
		left := p.freshFor(l.now())
		if left > 0 {
			h := maps.Clone(p.header)
			h.Set("Age", strconv.Itoa(int(l.now().Sub(p.made).Seconds())))
			h.Set("Cache-Status", fmt.Sprintf("%s; hit; ttl=%d", cacheName, int(left.Seconds())))
			response{p.status, h, p.body}.write(w)
			return
		}
		fwd = "stale"
	}
	res := l.make(v, r)
	if !isPage(res) {
		res.write(w)
		return
	}
	stored := ""
	if res.status == http.StatusOK && r.Method == http.MethodGet {
		seconds, _ := v[keyLifetime].(float64)
		h := res.header.Clone()
		h.Del("Set-Cookie")
		l.mu.Lock()
		l.held[key] = &heldPage{res.status, h, res.body, l.now(), time.Duration(seconds) * time.Second, false}
		l.mu.Unlock()
		stored = "; stored"
	}
	res.header.Set("Cache-Status", fmt.Sprintf("%s; fwd=%s%s", cacheName, fwd, stored))
	res.write(w)
}

// bypass says why a request is neither answered from nor put into the page cache.
func bypass(v settings.Values, r *http.Request) string {
	if on, _ := v[keyHold].(bool); !on {
		return "off"
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		return "method"
	}
	for _, p := range v.Strings(keyNever) {
		if exclusion.MatchPath(p, r.URL.RequestURI()) {
			return "path"
		}
	}
	for _, c := range r.Cookies() {
		for _, p := range v.Strings(keyCookies) {
			if exclusion.MatchName(p, c.Name) {
				return "cookie"
			}
		}
	}
	return ""
}

// cacheKey is the address without its ignored parameters; all others make a copy of
// their own.
func cacheKey(v settings.Values, u *url.URL) string {
	ignored := v.Strings(keyIgnore)
	q := u.Query()
	for name := range q {
		if slices.ContainsFunc(ignored, func(p string) bool { return exclusion.MatchName(p, name) }) {
			q.Del(name)
		}
	}
	return u.EscapedPath() + "?" + q.Encode()
}

// response is a whole answer.
type response struct {
	status int
	header http.Header
	body   []byte
}

func (r response) write(w http.ResponseWriter) {
	maps.Copy(w.Header(), r.header)
	w.Header().Set("Content-Length", strconv.Itoa(len(r.body)))
	w.WriteHeader(r.status)
	_, _ = w.Write(r.body)
}

func isPage(r response) bool {
	return strings.HasPrefix(r.header.Get("Content-Type"), "text/html")
}

// make asks the origin and rewrites its answer.
func (l *Layer) make(v settings.Values, r *http.Request) response {
	res := record(l.origin, r)
	if isPage(res) {
		if body, err := l.rewrite(v, res.body); err == nil {
			res.body = body
		}
	}
	res.header.Del("Content-Length")
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
// reports whether it was.
func (l *Layer) Replace(v settings.Values, ifMatch string) (etag string, matched bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if ifMatch != l.etag() {
		return l.etag(), false
	}
	l.values = v.Clone()
	l.serial++
	return l.etag(), true
}

// Purge drops held pages, or marks them stale, and says how many. Without addresses
// it concerns all of them; an address stands for the copy with exactly its path and
// query.
func (l *Layer) Purge(urls []string, all, stale bool) int {
	l.mu.Lock()
	defer l.mu.Unlock()
	n := 0
	drop := func(key string) {
		p, there := l.held[key]
		if !there {
			return
		}
		n++
		if stale {
			p.stale = true
		} else {
			delete(l.held, key)
		}
	}
	if all {
		for key := range maps.Clone(l.held) {
			drop(key)
		}
		return n
	}
	for _, raw := range urls {
		if u, err := url.Parse(raw); err == nil {
			drop(cacheKey(l.values, u))
		}
	}
	return n
}

// Counts is what the page cache holds.
type Counts struct {
	Entries int `json:"entries"`
	Fresh   int `json:"fresh"`
	Stale   int `json:"stale"`
	Bytes   int `json:"bytes"`
}

// Status counts what is held now.
func (l *Layer) Status() Counts {
	l.mu.RLock()
	defer l.mu.RUnlock()
	var c Counts
	for _, p := range l.held {
		c.Entries++
		c.Bytes += len(p.body)
		if p.freshFor(l.now()) > 0 {
			c.Fresh++
		} else {
			c.Stale++
		}
	}
	return c
}
