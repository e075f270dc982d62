// Package waterfall knows what a page load asked for and when: it ties the requests of two loads to each
// other, says what became of each, and reads and writes them as HAR 1.2.
package waterfall

import (
	"cmp"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"
)

// Fetch is one request of a page load. Times are milliseconds since the navigation began.
type Fetch struct {
	URL         string  `json:"url"`
	Method      string  `json:"method"`
	Kind        string  `json:"kind" doc:"document, script, stylesheet, image, font, fetch, other."`
	Status      int     `json:"status,omitempty" doc:"0 when no answer came."`
	Type        string  `json:"type,omitempty" doc:"Media type of the answer."`
	Protocol    string  `json:"protocol,omitempty"`
	Started     float64 `json:"started"`
	Answered    float64 `json:"answered" doc:"When its first octet came; 0 when none did."`
	Ended       float64 `json:"ended" doc:"0 while it goes on."`
	Transferred int     `json:"transferred" doc:"Octets as they came, headers too; 0 from the browser's cache."`
	Content     int     `json:"content" doc:"Octets when decoded."`
	Cached      bool    `json:"cached,omitempty" doc:"From the browser's cache."`
	Blocking    bool    `json:"blocking,omitempty" doc:"The page was not drawn before it was there."`
	From        string  `json:"from,omitempty" doc:"Address of what asked for it, when the page itself did not."`
	Failed      string  `json:"failed,omitempty" doc:"Why no answer came."`
	Refused     bool    `json:"refused,omitempty" doc:"Tide Marker did not send it, since the host is not one of the site's."`
}

// Host is the host that is asked.
func (r Fetch) Host() string {
	u, err := url.Parse(r.URL)
	if err != nil {
		return ""
	}
	return u.Host
}

// took is how long it took, in milliseconds; 0 when it did not end.
func (r Fetch) took() float64 { return max(0, r.Ended-r.Started) }

var (
	// digest is what a build puts into a file's name so that its address changes with it (common practice).
	digest = regexp.MustCompile(`(?i)[._-](?:[0-9a-f]{6,}|v?\d+(?:\.\d+)+|\d{6,})(?:[._-]|$)`)
	// busting are parameters that say a version or a moment, and nothing else (common practice).
	busting = []string{"v", "ver", "version", "rev", "t", "ts", "_", "cb", "hash", "m", "tide-marker-look"}
)

// Identity is what makes a request the same in two loads: the method and the address, without versions and
// without what is only there to pass a cache by.
func (r Fetch) Identity() string {
	u, err := url.Parse(r.URL)
	if err != nil {
		return r.Method + " " + r.URL
	}
	dir, file := path.Split(u.Path)
	for digest.MatchString(file) {
		file = digest.ReplaceAllStringFunc(file, func(s string) string {
			if end := s[len(s)-1]; strings.ContainsRune("._-", rune(end)) {
				return string(end)
			}
			return ""
		})
	}
	q := u.Query()
	for name := range q {
		if slices.Contains(busting, strings.ToLower(name)) {
			q.Del(name)
		}
	}
	if strings.Contains(u.RawQuery, "=") || len(q) == 0 { // "?3f2a" is a version too
		u.RawQuery = q.Encode()
	}
	if !strings.Contains(u.RawQuery, "=") {
		u.RawQuery = ""
	}
	text := u.Scheme + "://" + u.Host + dir + file
	if u.RawQuery != "" {
		text += "?" + u.RawQuery
	}
	return r.Method + " " + text
}

// Became is what became of a request.
type Became string

// What may have become of it; several may be true at once, of which the gravest is told first.
const (
	Failing   Became = "fails now"
	Vanished  Became = "gone"
	Came      Became = "new"
	Mended    Became = "works now"
	Blocks    Became = "blocks drawing now"
	Frees     Became = "no longer blocks drawing"
	FromCache Became = "from the browser's cache now"
	Asked     Became = "no longer from the browser's cache"
	Grew      Became = "larger"
	Shrank    Became = "smaller"
	Slower    Became = "slower"
	Faster    Became = "faster"
	Later     Became = "later"
	Earlier   Became = "earlier"
)

// Row is one request on both sides.
type Row struct {
	Name   string   `json:"name" doc:"Its address without the site's own host."`
	Host   string   `json:"host"`
	Third  bool     `json:"third,omitempty" doc:"It is another host than the page's."`
	Kind   string   `json:"kind"`
	Before *Fetch   `json:"before,omitempty"`
	After  *Fetch   `json:"after,omitempty"`
	Became []Became `json:"became,omitempty"`
}

// What differs by less than this is the same: milliseconds and a part, octets and a part (common practice).
const (
	sameTime, sameTimePart = 50, 0.3
	sameSize, sameSizePart = 200, 0.05
)

// Align ties the requests of two loads to each other, in the order in which they began: where both sides
// have one, when it began before the change.
func Align(before, after []Fetch) []Row {
	type place struct {
		row Row
		at  float64
	}
	waiting := map[string][]int{} // rows that have no counterpart yet
	var rows []place
	for i := range before {
		id := before[i].Identity()
		waiting[id] = append(waiting[id], len(rows))
		rows = append(rows, place{Row{Before: &before[i]}, before[i].Started})
	}
	for i := range after {
		id := after[i].Identity()
		if w := waiting[id]; len(w) > 0 {
			rows[w[0]].row.After = &after[i]
			waiting[id] = w[1:]
			continue
		}
		rows = append(rows, place{Row{After: &after[i]}, after[i].Started})
	}
	slices.SortStableFunc(rows, func(a, b place) int { return cmp.Compare(a.at, b.at) })
	own := ""
	for _, list := range [][]Fetch{before, after} {
		if len(list) > 0 && own == "" {
			own = list[0].Host()
		}
	}
	out := make([]Row, 0, len(rows))
	for _, p := range rows {
		r := p.row
		one := cmp.Or(r.After, r.Before)
		r.Host, r.Kind = one.Host(), one.Kind
		r.Third = r.Host != own
		r.Name = one.URL
		if u, err := url.Parse(one.URL); err == nil && !r.Third {
			r.Name = u.RequestURI()
		}
		r.Became = became(r.Before, r.After)
		out = append(out, r)
	}
	return out
}

// AlignAnyHost is Align for loads of different environments of one site: what is asked of the page's own host is the
// same wherever that is.
func AlignAnyHost(before, after []Fetch) []Row {
	if len(before) == 0 || len(after) == 0 {
		return Align(before, after)
	}
	own, theirs := before[0].Host(), after[0].Host()
	moved := slices.Clone(after)
	for i, r := range moved {
		if u, err := url.Parse(r.URL); err == nil && u.Host == theirs {
			if b, err := url.Parse(before[0].URL); err == nil {
				u.Scheme, u.Host = b.Scheme, own
				moved[i].URL = u.String()
			}
		}
	}
	return Align(before, moved)
}

func became(b, a *Fetch) []Became {
	switch {
	case a == nil:
		return []Became{Vanished}
	case b == nil && (a.Failed != "" || a.Status >= 400):
		return []Became{Came, Failing}
	case b == nil:
		return []Became{Came}
	}
	var out []Became
	bad := func(r *Fetch) bool { return r.Failed != "" || r.Status >= 400 }
	when := func(now, was bool, yes, no Became) {
		if now && !was {
			out = append(out, yes)
		} else if was && !now {
			out = append(out, no)
		}
	}
	when(bad(a), bad(b), Failing, Mended)
	when(a.Blocking, b.Blocking, Blocks, Frees)
	when(a.Cached, b.Cached, FromCache, Asked)
	if a.Cached == b.Cached {
		differs(&out, float64(b.Transferred), float64(a.Transferred), sameSize, sameSizePart, Grew, Shrank)
		differs(&out, b.took(), a.took(), sameTime, sameTimePart, Slower, Faster)
	}
	differs(&out, b.Started, a.Started, sameTime, sameTimePart, Later, Earlier)
	return out
}

func differs(out *[]Became, was, now, least, part float64, more, less Became) {
	if d := now - was; d > max(least, part*was) {
		*out = append(*out, more)
	} else if -d > max(least, part*was) {
		*out = append(*out, less)
	}
}

// Sum is what some requests come to.
type Sum struct {
	Name        string `json:"name" doc:"The kind, or the host."`
	Requests    int    `json:"requests"`
	Transferred int    `json:"transferred"`
	Content     int    `json:"content"`
}

// Sums adds the requests of a load up by kind or by host, the heaviest first. What was not sent does not count.
func Sums(list []Fetch, by func(Fetch) string) []Sum {
	of := map[string]*Sum{}
	for _, r := range list {
		if r.Refused {
			continue
		}
		name := by(r)
		if of[name] == nil {
			of[name] = &Sum{Name: name}
		}
		of[name].Requests++
		of[name].Transferred += r.Transferred
		of[name].Content += r.Content
	}
	out := make([]Sum, 0, len(of))
	for _, s := range of {
		out = append(out, *s)
	}
	slices.SortFunc(out, func(a, b Sum) int {
		return cmp.Or(cmp.Compare(b.Transferred, a.Transferred), strings.Compare(a.Name, b.Name))
	})
	return out
}
