package evidence

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"tidemarker/internal/core/site"
	"tidemarker/internal/core/words"
)

func policyFindings(m, p PageLook) []Finding {
	if !site.Cacheable(p.Class) && p.Served.FromCache() && !m.Served.FromCache() {
		return []Finding{p.about(PolicyKind, Broken, cachedTitle(p.Class)).
			with("%s. Pages of this class are made for one person each time.", p.CacheNote).caused("cached " + p.Class)}
	}
	if m.Served.FromCache() && p.Served.FromOrigin() {
		return []Finding{p.about(PolicyKind, Note, "Is no longer served from the page cache").
			with("%s.", p.CacheNote).caused("no longer cached")}
	}
	return nil
}

// NoLongerCached tells whether the finding is that a page which was cached is not now.
func (f Finding) NoLongerCached() bool {
	return f.OwnCause() == string(PolicyKind)+": no longer cached"
}

func cachedTitle(class string) string {
	article := "A"
	if strings.ContainsAny(class[:min(1, len(class))], "aeiou") {
		article = "An"
	}
	return fmt.Sprintf("%s %s page is served from the page cache", article, class)
}

// ownerFindings tells of text that only another persona may see.
func ownerFindings(base Baseline, m, p PageLook) []Finding {
	var out []Finding
	marks := base.PrivateTexts
	for _, owner := range slices.Sorted(maps.Keys(marks)) {
		if owner == p.Persona {
			continue
		}
		var seen []string
		for _, text := range marks[owner] {
			if has(p.Lines, text) && !has(m.Lines, text) && !(site.Cacheable(p.Class) && base.Public(text)) {
				seen = append(seen, text)
			}
		}
		if len(seen) > 0 {
			out = append(out, p.about(LeakKind, Broken, p.Persona+" is shown what belongs to "+owner).
				with("The page has%s It was served %s. %s.", listed(" ", seen), p.Served, p.CacheNote).caused("shows what belongs to "+owner))
		}
	}
	return out
}

func leakFindings(base Baseline, p Probe) []Finding {
	if len(p.Second.PrivateTexts) > 0 {
		k := p.Key
		owner := k.Persona
		k.Persona = site.Visitor
		return []Finding{k.about(LeakKind, Broken, "A visitor is shown what belongs to "+owner).
			with("Right after %s opened the page, a visitor's request was answered with %s %s.", owner, listed("", p.Second.PrivateTexts), p.Second.CacheNote).
			caused("shown to a visitor")}
	}
	if !p.Second.Served.FromCache() {
		return nil
	}
	// Content that changes by itself is cached too. Where no private text proves a leak, a
	// line does only when the mark knows it for that person's own.
	var foreign []string
	for _, l := range p.Second.Lines {
		if slices.Contains(p.First.Lines, l) && !slices.Contains(p.Fresh.Lines, l) && base.personal(p, l) {
			foreign = append(foreign, l)
		}
	}
	if len(foreign) == 0 {
		return nil
	}
	k := p.Key
	owner := k.Persona
	k.Persona = site.Visitor
	return []Finding{k.about(LeakKind, Broken, "A visitor is shown the page made for "+owner).
		with("A cached copy was served that has %s.%s %s.", words.Count(len(foreign), "line that only "+owner+" gets"), listed(" Lines: ", foreign), p.Second.CacheNote).
		caused("shown to a visitor")}
}

// personal tells whether a line was steadily there for who asked first and for nobody else,
// in both looks of the mark: a basket's count, a greeting. What changes by itself, such as
// a quotation that each page has another of, is nobody's own.
func (b Baseline) personal(p Probe, line string) bool {
	m, there := b.earlier(p)
	if !there {
		return false
	}
	again, twice := b.Probes[p.key()]
	if !twice {
		again = m
	}
	for _, q := range []Probe{m, again} {
		if !slices.Contains(q.First.Lines, line) || slices.Contains(q.Fresh.Lines, line) || slices.Contains(q.Second.Lines, line) {
			return false
		}
	}
	for _, q := range b.Look.Pages {
		if slices.ContainsFunc(q.Lines, func(l Line) bool {
			return clean(l.Text) == line && (q.Persona != p.Persona || q.within(l.Box, b.restless(q.Key)))
		}) {
			return false
		}
	}
	return true
}

// restless are the elements of a page that change by themselves, by their paths.
func (b Baseline) restless(k Key) map[string]bool {
	out := map[string]bool{}
	for _, path := range b.Volatile[k].Paths {
		out[path] = true
	}
	return out
}

// variantFindings tells whether a parameter that made another page when the mark was
// taken makes the same page now.
func variantFindings(base Baseline, p Probe) []Finding {
	var own []string // lines that only the page's own value brought, in both looks of the mark
	for _, m := range base.Look.Probes {
		if m.key() != p.key() || m.Missing != "" {
			continue
		}
		again, there := base.Probes[m.key()]
		if !there {
			again = m
		}
		for _, l := range m.First.Lines {
			if slices.Contains(again.First.Lines, l) && !slices.Contains(m.Second.Lines, l) && !slices.Contains(again.Second.Lines, l) {
				own = append(own, l)
			}
		}
	}
	// All of them have to be in both answers: a quotation that comes run again is one
	// line that happens to be in each.
	var confused []string
	for _, l := range own {
		if !slices.Contains(p.First.Lines, l) {
			continue
		}
		if !slices.Contains(p.Second.Lines, l) {
			return nil
		}
		confused = append(confused, l)
	}
	if len(confused) == 0 {
		return nil
	}
	title, how := fmt.Sprintf("Another %q shows the same page", p.Parameter), "with another value of"
	if p.Kind == WithoutParameter {
		title, how = fmt.Sprintf("Without %q it is the same page", p.Parameter), "without"
	}
	return []Finding{p.about(VariantKind, Broken, title).
		with("Asked %s %q, the site answered with the page of this one.%s %s.", how, p.Parameter, listed(" It has ", confused), p.Second.CacheNote).
		caused("parameter " + p.Parameter)}
}

// Public tells whether strangers were shown a text on a page for everybody when the mark was
// taken: then on such a page it tells nothing of whom the page belongs to, whatever the site
// file says. In a basket or an account it does.
func (b Baseline) Public(text string) bool {
	return slices.ContainsFunc(b.Look.Pages, func(p PageLook) bool {
		return p.Persona == site.Visitor && site.Cacheable(p.Class) && has(p.Lines, text)
	})
}
