package httpcache

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
)

// SignalKind says by what a site tells that a response came from its page cache.
type SignalKind string

// The kinds of signals.
const (
	ByCacheStatus SignalKind = "cache-status" // RFC 9211
	ByHeader      SignalKind = "header"       // a field of the site's own
	ByAge         SignalKind = "age"          // Age alone: a field that only a cache adds (RFC 9111 §5.1)
	ByMarker      SignalKind = "marker"       // something in the page that changes with each rendering
	ByNothing     SignalKind = "none"
)

// Signal is how the responses of an environment tell whether they came from its page
// cache. The zero value is Cache-Status.
type Signal struct {
	Kind   SignalKind `json:"kind" enum:"cache-status,header,age,marker,none"`
	Header string     `json:"header,omitempty" doc:"Name of the site's own field, for the kind header."`
	Hit    []string   `json:"hit,omitempty" doc:"Parts of its value that mean: from the cache. Letter case is ignored."`
	Stale  []string   `json:"stale,omitempty" doc:"Parts that mean: from the cache, past its lifetime."`
	Miss   []string   `json:"miss,omitempty" doc:"Parts that mean: the origin was asked."`
	Bypass []string   `json:"bypass,omitempty" doc:"Parts that mean: the cache was not used for this request."`
	Marker string     `json:"marker,omitempty" doc:"A regular expression with one group, for the kind marker: what the group matches is another with each rendering of a page."`
}

// Text says it in words.
func (s Signal) Text() string {
	switch s.Kind {
	case ByHeader:
		return "by the field " + s.Header
	case ByAge:
		return "by the field Age alone"
	case ByMarker:
		return "by a marker in the page that changes with each rendering"
	case ByNothing:
		return "by nothing"
	}
	return "by Cache-Status (RFC 9211)"
}

// Check says what is wrong with a signal, nil when nothing is.
func (s Signal) Check() error {
	switch s.Kind {
	case ByHeader:
		if s.Header == "" || len(s.Hit) == 0 {
			return fmt.Errorf("a cache signal by a header needs the header's name and what means a hit")
		}
	case ByMarker:
		re, err := regexp.Compile(s.Marker)
		if err != nil {
			return fmt.Errorf("the marker %q is not a regular expression: %w", s.Marker, err)
		}
		if re.NumSubexp() != 1 {
			return fmt.Errorf("the marker %q needs exactly one group, which matches what changes", s.Marker)
		}
	case "", ByCacheStatus, ByAge, ByNothing:
	default:
		return fmt.Errorf("there is no cache signal %q. There are: cache-status, header, age, marker, none", s.Kind)
	}
	return nil
}

// Reader reads the facts of responses of one environment. With a marker it remembers
// which renderings it has seen. It is safe for concurrent use.
type Reader struct {
	signal Signal
	marker *regexp.Regexp

	mu    sync.Mutex
	empty bool                       // the whole cache was purged
	seen  map[string]map[string]bool // renderings by page
}

// NewReader returns a reader for a signal; a marker that is none reads nothing.
func NewReader(s Signal) *Reader {
	r := &Reader{signal: s, seen: map[string]map[string]bool{}}
	if s.Kind == ByMarker {
		if re, err := regexp.Compile(s.Marker); err == nil && re.NumSubexp() == 1 {
			r.marker = re
		}
	}
	return r
}

// NeedsPage tells whether the page itself has to be read, beside its fields.
func (r *Reader) NeedsPage() bool { return r.marker != nil }

// Facts is what a response tells about the cache that it came through.
type Facts struct {
	Served Served
	Note   string // the field or marker that says so, as it came
	Age    time.Duration
	HasAge bool
}

// Read reads one response: get gives the lines of a field by its name, body is the page
// ("" is no page to find a marker in), and page names what was asked for, with whatever
// makes another rendering of it.
func (r *Reader) Read(page string, get func(name string) []string, body []byte) Facts {
	f := Facts{Served: Unknown}
	f.Age, f.HasAge = ParseAge(get("Age"))
	switch r.signal.Kind {
	case ByHeader:
		lines := get(r.signal.Header)
		f.Served = r.signal.match(lines)
		f.Note = note(r.signal.Header, lines)
	case ByAge:
		f.Served, f.Note = Origin, "no Age"
		if len(get("Age")) > 0 {
			f.Served, f.Note = Cached, note("Age", get("Age"))
		}
	case ByMarker:
		f.Served, f.Note = r.rendering(page, body)
	case ByNothing:
	default:
		lines := get("Cache-Status")
		f.Served, f.Note = From(lines), note("Cache-Status", lines)
	}
	return f
}

func note(name string, lines []string) string {
	if len(lines) == 0 {
		return "no " + name
	}
	return name + ": " + strings.Join(lines, ", ")
}

func (s Signal) match(lines []string) Served {
	value := strings.ToLower(strings.Join(lines, ", "))
	if value == "" {
		return Unknown
	}
	has := func(parts []string) bool {
		return slices.ContainsFunc(parts, func(p string) bool { return p != "" && strings.Contains(value, strings.ToLower(p)) })
	}
	// The narrower words first: “STALE-HIT” has “hit” in it.
	switch {
	case has(s.Stale):
		return Stale
	case has(s.Bypass):
		return Bypass
	case has(s.Miss):
		return Origin
	case has(s.Hit):
		return Cached
	}
	return Unknown
}

// rendering tells by the page's marker: one that was seen before comes from a cache, a
// new one of a page that has been seen comes from the origin. Of a page's first answer
// nobody can tell.
func (r *Reader) rendering(page string, body []byte) (Served, string) {
	if r.marker == nil {
		return Unknown, "no marker"
	}
	m := r.marker.FindSubmatch(body)
	if m == nil {
		return Unknown, "the page has no marker"
	}
	mark := string(m[1])
	r.mu.Lock()
	defer r.mu.Unlock()
	known := r.seen[page]
	if known == nil {
		known = map[string]bool{}
		r.seen[page] = known
	}
	again, first := known[mark], len(known) == 0 && !r.empty
	known[mark] = true
	switch {
	case again:
		return Cached, "marker " + mark + ", seen before"
	case first:
		return Unknown, "marker " + mark + ", the first seen"
	}
	return Origin, "marker " + mark + ", a new one"
}

// Purged says that a page, or with "" every page, is not in the cache any more, so that
// its next rendering comes from the origin whatever was seen before.
func (r *Reader) Purged(page string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if page == "" {
		r.empty = true
	} else if r.seen[page] == nil {
		r.seen[page] = map[string]bool{}
	}
	for p := range r.seen {
		if page == "" || p == page || strings.HasPrefix(p, page+" ") {
			r.seen[p]["\x00purged"] = true // so that the next one is not the first
		}
	}
}

// ParseAge reads the Age field. Of a list the first member counts (RFC 9111 §5.1).
func ParseAge(lines []string) (age time.Duration, ok bool) {
	if len(lines) == 0 {
		return 0, false
	}
	value := firstMember(lines[0])
	for _, c := range value {
		if c < '0' || c > '9' {
			return 0, false
		}
	}
	return seconds(value), value != ""
}

// firstMember is the first member of a field that is a list by mistake.
func firstMember(line string) string {
	value, _, _ := strings.Cut(line, ",")
	return strings.TrimSpace(value)
}

// Sample is one response as a proposal of a signal needs it.
type Sample struct {
	Header map[string][]string // names as they came
	Body   []byte
}

var (
	cacheWord  = regexp.MustCompile(`(?i)\b(hit|miss|bypass|stale|expired|updating|dynamic)\b`)
	cacheName  = regexp.MustCompile(`(?i)cache`)
	stampNames = regexp.MustCompile(`(?is)<!--[^>]{0,200}?((?:\d{2,4}[-/:. T]){2,}\d{2}[\d.:]*Z?|\b\d{10,16}\b|\b[0-9a-f]{12,40}\b)[^>]{0,200}?-->`)
)

// Propose says by what a site seems to tell that a page came from its cache, from
// several answers for the same page, the first after a purge where that was possible.
func Propose(samples []Sample) (s Signal, why string) {
	has := func(name string) bool {
		return slices.ContainsFunc(samples, func(x Sample) bool { return len(lines(x, name)) > 0 })
	}
	if has("Cache-Status") {
		return Signal{Kind: ByCacheStatus}, "Its answers carry Cache-Status."
	}
	for _, x := range samples {
		for name, values := range x.Header {
			if !cacheName.MatchString(name) || strings.EqualFold(name, "Cache-Control") || !cacheWord.MatchString(strings.Join(values, " ")) {
				continue
			}
			return Signal{Kind: ByHeader, Header: name, Hit: []string{"hit"}, Stale: []string{"stale", "updating"}, Miss: []string{"miss", "expired"}, Bypass: []string{"bypass", "dynamic"}},
				fmt.Sprintf("Its answers carry %s: %s.", name, strings.Join(values, ", "))
		}
	}
	if has("Age") {
		return Signal{Kind: ByAge}, "Its answers carry Age, which only a cache adds."
	}
	if len(samples) > 1 {
		if m := stampNames.FindSubmatch(samples[0].Body); m != nil {
			return Signal{Kind: ByMarker, Marker: markerFor(samples[0].Body, m[1])}, fmt.Sprintf("A comment in the page has %q, which seems to tell when it was rendered.", m[1])
		}
	}
	return Signal{Kind: ByNothing}, "Nothing in its answers tells whether they came from a cache. Checks cannot confirm that a page is cached, and cannot tell a leak by the cache."
}

func lines(x Sample, name string) []string {
	for n, v := range x.Header {
		if strings.EqualFold(n, name) {
			return v
		}
	}
	return nil
}

// markerFor is an expression that finds the marker again: what stands before it in its
// comment, and then whatever is there in its place.
func markerFor(body, mark []byte) string {
	at := strings.Index(string(body), string(mark))
	begin := strings.LastIndex(string(body[:at]), "<!--")
	return regexp.QuoteMeta(string(body[begin:at])) + `([^\s>]+(?: [0-9:.]+Z?)?)`
}
