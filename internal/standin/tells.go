package standin

import (
	"fmt"
	"net/http"
	"strings"

	"tidemarker/internal/core/httpcache"
)

// OwnHeader is the field of a site's own in which a speed layer of the kind
// httpcache.ByHeader tells how a page was served.
const OwnHeader = "X-Page-Cache"

func tellable(k httpcache.SignalKind) error {
	switch k {
	case "", httpcache.ByCacheStatus, httpcache.ByHeader, httpcache.ByAge, httpcache.ByMarker, httpcache.ByNothing:
		return nil
	}
	return fmt.Errorf("no stand-in tells by %q that a page was cached; there are cache-status, header, age, marker, none", k)
}

// tell replaces what an answer says of the page cache by what this layer says of it.
func (l *Layer) tell(h http.Header) {
	status := h.Get("Cache-Status")
	if status == "" || l.tells == "" || l.tells == httpcache.ByCacheStatus {
		return
	}
	h.Del("Cache-Status")
	switch l.tells {
	case httpcache.ByHeader:
		h.Del("Age")
		word := "MISS"
		switch {
		case strings.Contains(status, "; hit; ttl=-") || strings.Contains(status, "; hit; ttl=0"):
			word = "STALE"
		case strings.Contains(status, "; hit"):
			word = "HIT"
		case strings.Contains(status, "fwd=bypass"):
			word = "BYPASS"
		}
		h.Set(OwnHeader, word)
	case httpcache.ByMarker, httpcache.ByNothing:
		h.Del("Age")
	}
}

// stamp writes into a page which rendering of it this is, for a layer that tells by a
// marker alone.
func (l *Layer) stamp(res *response) {
	if l.tells != httpcache.ByMarker {
		return
	}
	n := l.renderings.Add(1)
	res.body = fmt.Appendf(res.body, "\n<!-- rendering %012d -->\n", n)
}
