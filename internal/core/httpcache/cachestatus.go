package httpcache

import (
	"fmt"
	"time"

	"github.com/dunglas/httpsfv"
)

// Served says where a response came from.
type Served string

// Where a response can have come from.
const (
	Cached  Served = "cached"  // a cache had it
	Stale   Served = "stale"   // a cache had it, and it was past its lifetime
	Origin  Served = "origin"  // the origin was asked
	Bypass  Served = "bypass"  // the cache was not used for this request
	Unknown Served = "unknown" // nothing says
)

// FromCache tells whether a cached copy was served, fresh or stale.
func (s Served) FromCache() bool { return s == Cached || s == Stale }

// FromOrigin tells whether the origin was asked.
func (s Served) FromOrigin() bool { return s == Origin || s == Bypass }

// Handled is one member of Cache-Status: what one cache did with the request.
type Handled struct {
	Cache  string        `json:"cache"`
	Hit    bool          `json:"hit"`
	Fwd    string        `json:"fwd,omitempty" doc:"Why the request was forwarded: bypass, miss, stale, …"`
	Stored bool          `json:"stored,omitempty"`
	TTL    time.Duration `json:"ttl,omitempty" doc:"Freshness left, in nanoseconds; negative when stale."`
	Key    string        `json:"key,omitempty"`
	Detail string        `json:"detail,omitempty"`
}

// ParseCacheStatus reads the values of all Cache-Status fields of a response. The
// first member is the cache closest to the origin (RFC 9211 §2). It fails when the
// value is not a structured-field list (RFC 9651).
func ParseCacheStatus(values []string) ([]Handled, error) {
	if len(values) == 0 {
		return nil, nil
	}
	list, err := httpsfv.UnmarshalList(values)
	if err != nil {
		return nil, fmt.Errorf("Cache-Status %q is not a structured-field list: %w", values, err)
	}
	out := make([]Handled, 0, len(list))
	for _, m := range list {
		item, ok := m.(httpsfv.Item)
		if !ok {
			return nil, fmt.Errorf("Cache-Status %q has an inner list; RFC 9211 §2 allows only a cache's name", values)
		}
		h := Handled{Cache: text(item.Value)}
		param := func(name string) any { v, _ := item.Params.Get(name); return v }
		h.Hit, _ = param("hit").(bool)
		h.Stored, _ = param("stored").(bool)
		h.Fwd, h.Key, h.Detail = text(param("fwd")), text(param("key")), text(param("detail"))
		if s, ok := param("ttl").(int64); ok {
			h.TTL = time.Duration(s) * time.Second
		}
		out = append(out, h)
	}
	return out, nil
}

// From says whether any cache on the way served a cached copy.
func From(values []string) Served {
	handled, err := ParseCacheStatus(values)
	if err != nil || len(handled) == 0 {
		return Unknown
	}
	out := Origin
	for _, h := range handled {
		switch {
		case h.Hit && h.TTL < 0:
			return Stale
		case h.Hit:
			return Cached
		case h.Fwd == "bypass":
			out = Bypass
		}
	}
	return out
}

func text(v any) string {
	switch x := v.(type) {
	case string:
		return x
	case httpsfv.Token:
		return string(x)
	}
	return ""
}
