package evidence

import (
	"fmt"
	"maps"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"tidemarker/internal/core/words"
)

// headFacts are what the head of a page says to programs, in the order in which it is told.
var headFacts = []string{"robots", "canonical", "structured data", "title", "description"}

// surfaceFindings tell of what a picture does not show: what no longer listens, what the
// head says, pictures without pixels, fonts that fell back, what is fetched without
// encryption, and what browsers keep for long.
func surfaceFindings(m PageLook, rest Volatile, p PageLook) []Finding {
	out := deafFindings(m, rest, p)
	out = append(out, focusFindings(m, rest, p)...)
	out = append(out, headFindings(m, rest, p)...)
	out = append(out, emptyFindings(m, p)...)
	if fonts := newIn(m.Fonts, p.Fonts); len(fonts) > 0 {
		out = append(out, p.about(MissingKind, Unsure, "Another font stands in for "+fonts[0]).
			with("The browser could not use%s", listed(" ", fonts)).caused("font "+fonts[0]))
	}
	out = append(out, mixedFindings(m, p)...)
	out = append(out, bareFindings(m, p)...)
	return append(out, keptFindings(m, p)...)
}

// newIn are those of a list that are not in an earlier one.
func newIn(before, now []string) []string {
	return slices.DeleteFunc(slices.Clone(now), func(x string) bool { return slices.Contains(before, x) })
}

// deafFindings tell of elements that are still there and no longer listen to what they
// listened to. One that comes anew with each page has no such place.
func deafFindings(m PageLook, rest Volatile, p PageLook) []Finding {
	if m.Listens == nil {
		return nil // a look from before this was looked at
	}
	volatile := map[string]bool{}
	for _, path := range rest.Paths {
		volatile[path] = true
	}
	var gone []string
	names := map[string]bool{}
	for _, l := range newIn(p.Listens, m.Listens) {
		at := strings.LastIndex(l, " ")
		path, event := l[:at], l[at+1:]
		name := "the document"
		if path != "document" {
			i, there := p.box(path)
			if j, was := m.box(path); !there || !was || p.Outline[i].Name != m.Outline[j].Name || p.within(i, volatile) {
				continue
			}
			name = p.Outline[i].Name
		}
		gone = append(gone, name+" to "+event)
		names[name] = true
	}
	if len(gone) == 0 {
		return nil
	}
	first := slices.Sorted(maps.Keys(names))[0]
	return []Finding{p.about(ScriptErrorKind, Unsure, first+" no longer reacts").
		with("%s no longer listened to.%s", words.Count(len(gone), "event is"), listed(" ", gone)).caused("deaf " + first)}
}

// focusFindings tell of elements that are still there and that the keyboard no longer reaches,
// and of another order in which it does (WCAG 2.2, 2.1.1 and 2.4.3).
func focusFindings(m PageLook, rest Volatile, p PageLook) []Finding {
	if m.Focus == nil {
		return nil // a look from before this was looked at
	}
	volatile := map[string]bool{}
	for _, path := range rest.Paths {
		volatile[path] = true
	}
	same := func(path string) (name string, ok bool) {
		i, there := p.box(path)
		j, was := m.box(path)
		if !there || !was || p.Outline[i].Name != m.Outline[j].Name || p.within(i, volatile) {
			return "", false
		}
		return called(p, i), true
	}
	now := map[string]bool{}
	for _, path := range p.Focus {
		now[path] = true
	}
	var lost, before, after []string
	for _, path := range m.Focus {
		name, ok := same(path)
		switch {
		case ok && !now[path]:
			lost = append(lost, name)
		case ok:
			before = append(before, path)
		}
	}
	for _, path := range p.Focus {
		if slices.Contains(before, path) {
			after = append(after, path)
		}
	}
	var out []Finding
	if len(lost) > 0 {
		out = append(out, p.about(ScriptErrorKind, Broken, "The keyboard no longer reaches "+lost[0]).
			with("%s there and can no longer be focused.%s", map[bool]string{true: "1 element is", false: fmt.Sprintf("%d elements are", len(lost))}[len(lost) == 1], listed(" ", lost)).caused("focus lost "+lost[0]))
	}
	for i := range before {
		if i < len(after) && before[i] != after[i] {
			first, _ := same(after[i])
			was, _ := same(before[i])
			out = append(out, p.about(ScriptErrorKind, Unsure, "The keyboard reaches parts in another order").
				with("As number %d it came to %s, and comes to %s now.", i+1, was, first).caused("focus order"))
			break
		}
	}
	return out
}

// headFindings tell of what the page says of itself to search engines and other programs.
func headFindings(m PageLook, rest Volatile, p PageLook) []Finding {
	if m.Facts == nil {
		return nil
	}
	var out []Finding
	for _, name := range headFacts {
		was, is := m.Facts[name], p.Facts[name]
		if was == is || slices.Contains(rest.Facts, name) {
			continue
		}
		severity, title := Unsure, fmt.Sprintf("The page's %s is another", name)
		switch {
		case name == "robots" && strings.Contains(strings.ToLower(is), "noindex"):
			severity, title = Broken, "The page asks search engines to leave it out"
		case is == "":
			severity, title = Broken, fmt.Sprintf("The page's %s is gone", name)
		}
		out = append(out, p.about(ContentKind, severity, title).with("It was “%s” and is “%s”.", was, is).caused("head "+name))
	}
	return out
}

// emptyFindings tell of pictures that were answered and show nothing.
func emptyFindings(m, p PageLook) []Finding {
	failed := map[string]bool{} // those are told of as missing
	for _, r := range p.Requests {
		failed[r.URL] = r.Broken() || r.Blocked
	}
	var out []Finding
	was := paths(m.Empty)
	for _, address := range p.Empty {
		if at := pathOf(address); !failed[address] && !slices.Contains(was, at) {
			out = append(out, p.about(MissingKind, Broken, "The picture "+at+" is empty").
				with("It was answered, but has no pixels: cut off, or of another type than it says.").caused("empty "+at))
		}
	}
	return out
}

func paths(addresses []string) []string {
	out := make([]string, len(addresses))
	for i, a := range addresses {
		out[i] = pathOf(a)
	}
	return out
}

// bareFindings tell of a page that is drawn before its styles have come: what held up the first
// drawing does not any more. Where rules stand in the page itself, they may be enough to start with.
func bareFindings(m, p PageLook) []Finding {
	late := newIn(paths(m.Late), paths(p.Late))
	held := addresses(m, asRead("stylesheet"))
	late = slices.DeleteFunc(late, func(at string) bool { return !slices.Contains(held, at) })
	if len(late) == 0 {
		return nil
	}
	severity, start := Broken, ""
	if p.Rules > m.Rules {
		severity, start = Unsure, " There are rules in the page itself that may be enough to start with; see to it on a slow line."
	}
	return []Finding{p.about(ShiftKind, severity, "The page is drawn before its styles have come").
		with("It no longer waits for%s%s", listed(" ", late), start).caused("drawn bare")}
}

// mixedFindings tell of what a page that came over HTTPS asks for without it: browsers
// refuse some of it (W3C Mixed Content §5.3).
func mixedFindings(m, p PageLook) []Finding {
	plain := func(l PageLook) (out []string) {
		if !strings.HasPrefix(l.Address, "https:") {
			return nil
		}
		for _, r := range l.Requests {
			if strings.HasPrefix(r.URL, "http:") {
				out = append(out, pathOf(r.URL))
			}
		}
		return unique(out)
	}
	was := plain(m)
	fresh := slices.DeleteFunc(plain(p), func(x string) bool { return slices.Contains(was, x) })
	if len(fresh) == 0 || !strings.HasPrefix(m.Address, "https:") {
		return nil
	}
	return []Finding{p.about(RequestKind, Broken, "Is asked for without encryption: "+fresh[0]).
		with("The page came over HTTPS, and asks for %s over HTTP.%s", words.Count(len(fresh), "thing"), listed(" ", fresh)).caused("mixed content")}
}

// longKept is from when on what browsers keep counts as kept for long. Common practice: up
// to some minutes is no matter, since a release takes as long.
const longKept = time.Hour

// keptFindings tell of what browsers keep for long now and did not: pages, and styles and
// scripts under an address that a release does not change. Whoever was here before goes on
// with the old ones.
func keptFindings(m, p PageLook) []Finding {
	was := map[string]int{}
	for _, r := range m.Requests {
		was[pathOf(r.URL)] = max(was[pathOf(r.URL)], r.Keeps)
	}
	var assets, pages []string
	longest := 0
	for _, r := range p.Requests {
		at := pathOf(r.URL)
		had, known := was[at]
		if !known || r.Broken() || r.Blocked {
			continue // another address: nobody has it from before
		}
		switch {
		case r.Kind == "document" && r.Keeps >= 60 && had < 60:
			pages, longest = append(pages, at), max(longest, r.Keeps)
		case (r.Kind == "script" || r.Kind == "stylesheet") && r.Keeps >= int(longKept.Seconds()) && had < int(longKept.Seconds()) && !versioned(r.URL):
			assets, longest = append(assets, at), max(longest, r.Keeps)
		}
	}
	var out []Finding
	if len(assets) > 0 {
		assets = unique(assets)
		f := p.about(StaleKind, Unsure, "Browsers keep styles and scripts under an address that stays the same").
			with("For %s nobody who was here before asks for%s again. After a release they go on with the old ones, with pages that are new.", inWords(longest), listed(" ", assets)).caused("cached assets")
		f.Known = true
		out = append(out, f)
	}
	if len(pages) > 0 {
		f := p.about(StaleKind, Unsure, "Browsers keep the page itself").
			with("For %s a returning visitor is shown what their browser has, also after they signed in or put something in a basket.", inWords(longest)).caused("page in the browser cache")
		f.Known = true
		out = append(out, f)
	}
	return out
}

// version is what makes an address another one with each release: a digest or a number of
// six and more in the name, or a query. Common practice.
var version = regexp.MustCompile(`(?i)[._-](?:[0-9a-f]{6,}|v?\d+(?:\.\d+)+|\d{6,})[._-]`)

func versioned(address string) bool {
	u, err := url.Parse(address)
	return err == nil && (u.RawQuery != "" || version.MatchString(u.Path))
}

func inWords(seconds int) string {
	switch d := time.Duration(seconds) * time.Second; {
	case d >= 48*time.Hour:
		return words.Count(int(d.Hours()/24), "day")
	case d >= 2*time.Hour:
		return words.Count(int(d.Hours()), "hour")
	case d >= 2*time.Minute:
		return words.Count(int(d.Minutes()), "minute")
	}
	return words.Count(seconds, "second")
}

// linkFindings tell of links that led somewhere and lead nowhere now, and of new ones that do.
func linkFindings(base Baseline, p Probe) []Finding {
	m, there := base.earlier(p)
	if !there {
		return nil
	}
	var out []Finding
	for _, path := range slices.Sorted(maps.Keys(p.Leads)) {
		l := p.Leads[path]
		if was, known := m.Leads[path]; !l.Dead() || known && was.Dead() {
			continue
		}
		why := l.Failed
		if why == "" {
			why = fmt.Sprintf("It answers %d.", l.Status)
		}
		k := Key{Page: l.From, Persona: p.Persona, Device: p.Device}
		if l.Past {
			out = append(out, k.about(RequestKind, Broken, "An address is gone: "+path).
				with("%s linked to it when the mark was taken, and does not now. A feed reader or search engine that has it finds nothing. %s", l.From, why).caused("link "+path))
			continue
		}
		out = append(out, k.about(RequestKind, Broken, "A link leads nowhere: "+path).with("%s links to it. %s", l.From, why).caused("link "+path))
	}
	return out
}
