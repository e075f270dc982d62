package standin

import (
	"net/http"
	"strings"
	"sync"
	"time"

	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/standin/origin"
)

// dataLifetime is how long the answer of a look-up is cached.
const dataLifetime = 5 * time.Minute

// dataCache holds the answers of look-ups by the query's text.
type dataCache struct {
	mu     sync.Mutex
	cached map[string]cachedData
}

type cachedData struct {
	value any
	until time.Time
}

// dataFor is the data cache as one request's settings have it.
type dataFor struct {
	cache *dataCache
	now   time.Time
	not   []string
}

// Lookup answers from what is cached, unless the query is to be excluded.
func (d dataFor) Lookup(query string, find func() any) any {
	if matches(d.not, func(x string) bool { return exclusion.MatchPart(x, query) }) {
		return find()
	}
	d.cache.mu.Lock()
	cached, there := d.cache.cached[query]
	d.cache.mu.Unlock()
	if there && d.now.Before(cached.until) {
		return cached.value
	}
	v := find()
	d.cache.mu.Lock()
	defer d.cache.mu.Unlock()
	if d.cache.cached == nil {
		d.cache.cached = map[string]cachedData{}
	}
	d.cache.cached[query] = cachedData{v, d.now.Add(dataLifetime)}
	return v
}

// withData lets the data cache in when it is on.
func (l *Layer) withData(p policy, r *http.Request) *http.Request {
	if !p.on("data-cache") {
		return r
	}
	return r.WithContext(origin.WithLookups(r.Context(), dataFor{&l.data, l.now(), p.list("data-exclude")}))
}

// trimmed tells whether a path belongs to a feature that is switched off.
func (l *Layer) trimmed(p policy, path string) bool {
	return p.feature("feed") && strings.HasPrefix(path, "/feed")
}

// tidies are the kinds of records that a tidy can delete.
var tidies = []string{origin.Revisions, origin.Drafts, origin.Spam, origin.Expired}

// tidy deletes records whose tidy came into force, or keeps another number of them now, but for the newest.
func (l *Layer) tidy(before, now policy) {
	newest := now.featureNumber("tidy keep")
	for _, kind := range tidies {
		if now.feature("tidy "+kind) && (!before.feature("tidy "+kind) || newest != before.featureNumber("tidy keep")) {
			l.origin.Tidy(kind, newest)
		}
	}
}
