package exclusion

import (
	"fmt"
	"slices"
	"strings"

	"tidemarker/internal/core/words"
)

// Page is an address that is known of a site.
type Page struct {
	Path  string `json:"path"` // with its query
	Class string `json:"class"`
	Never bool   `json:"never"` // the policy for a stranger: never served from the cache
	// FormLives is for how long, in seconds, a form on it can be sent; 0 when not known.
	FormLives int `json:"formLives,omitempty"`
	// Shows is within how many seconds it has to show what is published; 0 when nobody said.
	Shows int `json:"shows,omitempty"`
}

// Parameter is one of which it is known whether the page's content depends on it.
type Parameter struct {
	Name    string
	Page    string
	Matters bool
}

// Known is what is known of a site, for rules to be compared with. A list that is nil is
// not known, and nothing is concluded from it.
type Known struct {
	Pages      []Page
	People     []Person
	Parameters []Parameter
	Agents     []string
	Resources  []string // addresses of scripts, styles and pictures
	Asked      []string // paths that pages ask for beside those
	Inside     Inside   // what documents have in them
}

// RemarkKind says what is remarked about a rule, or about what no rule covers.
type RemarkKind string

// The remarks, the gravest first.
const (
	Uncovered  RemarkKind = "uncovered"  // a page of a protected kind that no rule covers
	Personal   RemarkKind = "personal"   // a cookie that marks a person and is not excluded
	Dependent  RemarkKind = "dependent"  // a parameter is ignored although the page depends on it
	Expires    RemarkKind = "expires"    // a page is cached for longer than its form can be sent
	Late       RemarkKind = "late"       // a page is cached for longer than it may go without what was published
	Wide       RemarkKind = "wide"       // a rule switches off caching for pages that should be cached
	Both       RemarkKind = "both"       // two rules that contradict each other
	Impossible RemarkKind = "impossible" // a rule that can match nothing
	Useless    RemarkKind = "useless"    // other rules do all it does
	Idle       RemarkKind = "idle"       // it matches nothing that is known
)

// Mend is a change of one setting's patterns.
type Mend struct {
	Role   string   `json:"role"`
	Key    string   `json:"key,omitempty"`
	Add    []string `json:"add,omitempty"`
	Remove []string `json:"remove,omitempty"`
}

// Remark is one thing to be said about a site's rules.
type Remark struct {
	Kind  RemarkKind `json:"kind" enum:"uncovered,personal,dependent,expires,late,wide,both,impossible,useless,idle"`
	Rule  *Rule      `json:"rule,omitempty"`
	Text  string     `json:"text"`
	By    []string   `json:"by,omitempty" doc:"Patterns that make it so."`
	Pages []string   `json:"pages,omitempty" doc:"The first addresses concerned."`
	Count int        `json:"count,omitempty"`
	Share float64    `json:"share,omitempty" doc:"Of the pages that should be cached."`
	Mend  *Mend      `json:"mend,omitempty" doc:"The smallest change that fixes it."`
}

const mostPages = 12

// Coverage holds a layer's rules against what is known, and remarks what is wrong: the
// gravest first, then in the order of the rules.
func Coverage(l Layer, k Known) []Remark {
	out := []Remark{}
	l = l.ready()
	out = append(out, relations(l)...)
	c := cover{l: l, k: k}
	out = append(out, c.pages()...)
	out = append(out, c.people()...)
	out = append(out, c.parameters()...)
	out = append(out, c.lifetimes()...)
	out = append(out, c.idle()...)
	slices.SortStableFunc(out, func(a, b Remark) int { return rank[a.Kind] - rank[b.Kind] })
	return out
}

var rank = map[RemarkKind]int{Uncovered: 0, Personal: 1, Dependent: 2, Expires: 3, Late: 4, Wide: 5, Both: 6, Impossible: 7, Useless: 8, Idle: 9}

// cover is the work of holding rules against a site.
type cover struct {
	l Layer
	k Known
}

// pages remarks protected pages that nothing covers, and rules so wide that pages are
// not cached that should be.
func (c cover) pages() []Remark {
	if c.k.Pages == nil {
		return nil
	}
	_, of := byRole(c.l.Rules)
	list := of["path-exclude"]
	matched := make([][]int, len(c.k.Pages))
	if len(list) > 0 {
		set := c.l.by["path-exclude"].set
		for i, p := range c.k.Pages {
			matched[i] = set.Matching(p.Path)
		}
	}
	cached := 0
	wide := map[int][]string{}
	guards := map[int][]string{} // protected pages that a rule covers
	bare := map[string][]string{}
	var classes []string
	for i, p := range c.k.Pages {
		if !p.Never {
			cached++
		}
		for _, n := range matched[i] {
			switch {
			case p.Never:
				guards[n] = append(guards[n], p.Path)
			case !slices.Contains(c.l.Rules[list[n]].For, p.Class): // else it is meant
				wide[n] = append(wide[n], p.Path)
			}
		}
		if p.Never && len(matched[i]) == 0 && c.l.On {
			if bare[p.Class] == nil {
				classes = append(classes, p.Class)
			}
			bare[p.Class] = append(bare[p.Class], p.Path)
		}
	}
	var out []Remark
	slices.Sort(classes)
	for _, class := range classes {
		pages := bare[class]
		out = append(out, Remark{Kind: Uncovered, Pages: first(pages), Count: len(pages), Mend: &Mend{Role: "path-exclude", Add: c.smallest(pages)},
			Text: fmt.Sprintf("%s of the class “%s” can be served from the page cache; none ever should be.", words.Count(len(pages), "page"), class)})
	}
	for n, i := range list {
		pages := wide[n]
		if len(pages) == 0 {
			continue
		}
		r := c.l.Rules[i]
		mend := &Mend{Role: r.Role, Key: r.Key, Remove: []string{r.Pattern}, Add: c.smallest(guards[n])}
		out = append(out, Remark{Kind: Wide, Rule: &r, Pages: first(pages), Count: len(pages), Share: float64(len(pages)) / float64(cached), Mend: mend,
			Text: fmt.Sprintf("“%s” keeps %s from being cached that should be, %.0f %% of all such.", r.Pattern, words.Count(len(pages), "page"), 100*float64(len(pages))/float64(cached))})
	}
	return out
}

// lifetimes remarks pages that are cached for longer than what is on them is good for.
func (c cover) lifetimes() []Remark {
	var out []Remark
	if c.l.Lifetime == 0 || !c.l.On {
		return nil
	}
	for _, p := range c.k.Pages {
		if (p.FormLives == 0 || p.FormLives >= c.l.Lifetime) && (p.Shows == 0 || p.Shows >= c.l.Lifetime) || c.l.decides("path-exclude", p.Path) != nil {
			continue
		}
		if p.FormLives > 0 && p.FormLives < c.l.Lifetime {
			out = append(out, Remark{Kind: Expires, Pages: []string{p.Path}, Count: 1, Mend: &Mend{Role: "path-exclude", Add: c.smallest([]string{p.Path})},
				Text: fmt.Sprintf("The form on %s can be sent for %s, but the page is cached for %s. Anybody who opens it later than that is refused.", p.Path, words.Span(p.FormLives), words.Span(c.l.Lifetime))})
		}
		if p.Shows > 0 && p.Shows < c.l.Lifetime && c.l.decides("always-refresh", p.Path) == nil {
			out = append(out, Remark{Kind: Late, Pages: []string{p.Path}, Count: 1, Mend: &Mend{Role: "always-refresh", Add: []string{p.Path + "$"}},
				Text: fmt.Sprintf("%s has to show what is published within %s, but is cached for %s and not refreshed.", p.Path, words.Span(p.Shows), words.Span(c.l.Lifetime))})
		}
	}
	return out
}

// smallest are the fewest and shortest path rules that cover pages without touching
// one that should be cached: the beginning of their addresses that goes to the end of a
// segment, or the address itself.
func (c cover) smallest(pages []string) []string {
	var out []string
	left := slices.Clone(pages)
	slices.Sort(left)
	for len(left) > 0 {
		best := c.narrowest(left[0])
		out = append(out, best)
		left = slices.DeleteFunc(left[1:], func(p string) bool { return MatchPath(best, p) })
	}
	return out
}

// narrowest is the shortest beginning of an address that touches no page that should
// be cached, or the address itself and nothing else.
func (c cover) narrowest(page string) string {
	path, _, _ := strings.Cut(page, "?")
	tries := []string{}
	for i := 1; i < len(path); i++ {
		if path[i] == '/' {
			tries = append(tries, path[:i], path[:i+1])
		}
	}
	tries = append(tries, path, page)
	for _, t := range tries {
		t = literal(t)
		if t == "" || t == "/" || !MatchPath(t, page) {
			continue
		}
		if !slices.ContainsFunc(c.k.Pages, func(p Page) bool { return !p.Never && MatchPath(t, p.Path) }) {
			return t
		}
	}
	return literal(page) + "$"
}

// literal is the pattern that stands for an address as it is written.
func literal(path string) string { return special.Replace(path) }

func (c cover) people() []Remark {
	if !c.l.On {
		return nil
	}
	var out []Remark
	for _, p := range c.k.People {
		if !p.SignedIn || c.l.forPerson(p, "").Policy != Shared {
			continue
		}
		if len(p.Cookies) == 0 {
			out = append(out, Remark{Kind: Personal, Text: fmt.Sprintf("%s is served what is cached for all, and no cookie of the site tells %s apart.", p.Name, p.Name)})
			continue
		}
		add := smallestNames(p.Cookies)
		out = append(out, Remark{Kind: Personal, By: p.Cookies, Mend: &Mend{Role: "cookie-exclude", Add: add},
			Text: fmt.Sprintf("%s marks %s, who is served what is cached for all.", strings.Join(p.Cookies, ", "), p.Name)})
	}
	return out
}

// smallestNames leaves a wildcard in place of what a site makes up for each person: a
// run of eight or more hexadecimal digits at the end of a cookie's name.
func smallestNames(names []string) []string {
	var out []string
	for _, n := range names {
		cut := strings.TrimRight(n, "0123456789abcdef")
		if len(n)-len(cut) >= 8 && cut != "" {
			n = cut + "*"
		}
		if !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	return out
}

func (c cover) parameters() []Remark {
	var out []Remark
	said := map[string]bool{}
	for _, p := range c.k.Parameters {
		t, r := c.l.Treats(p.Name)
		if !p.Matters || t != Ignored || said[p.Name] || !c.l.On {
			continue
		}
		said[p.Name] = true
		mend := &Mend{Role: r.Role, Key: r.Key, Remove: []string{r.Pattern}}
		if r.Pattern != p.Name {
			mend = nil // the pattern stands for others, too; a person has to part it
		}
		out = append(out, Remark{Kind: Dependent, Rule: r, Pages: []string{p.Page}, Count: 1, Mend: mend,
			Text: fmt.Sprintf("“%s” is ignored by “%s”, although %s depends on it.", p.Name, r.Pattern, p.Page)})
	}
	return out
}

// idle remarks rules that match nothing that is known.
func (c cover) idle() []Remark {
	var texts = map[string][]string{}
	for _, p := range c.k.Pages {
		texts["path-exclude"] = append(texts["path-exclude"], p.Path)
	}
	if len(texts["path-exclude"]) > 0 {
		texts["path-exclude"] = slices.Concat(texts["path-exclude"], c.k.Asked, c.k.Inside.Links)
	}
	texts["always-refresh"], texts["prefetch-exclude"] = texts["path-exclude"], texts["path-exclude"]
	for _, p := range c.k.People {
		texts["cookie-exclude"] = append(texts["cookie-exclude"], p.Cookies...)
	}
	for _, p := range c.k.Parameters {
		texts["query-vary"] = append(texts["query-vary"], p.Name)
	}
	texts["agent-exclude"] = c.k.Agents
	for role, k := range kinds {
		if k == Part && role != "data-exclude" && role != "prefetch-exclude" {
			texts[role] = slices.Concat(c.k.Resources, c.k.Inside.For(role))
		}
	}
	var out []Remark
	roles, of := byRole(c.l.Rules)
	for _, role := range roles {
		if len(texts[role]) == 0 {
			continue
		}
		set := c.l.by[role].set
		met := map[int]bool{}
		for _, t := range texts[role] {
			for _, n := range set.Matching(t) {
				met[n] = true
			}
		}
		k, _ := KindOf(role)
		for n, i := range of[role] {
			r := c.l.Rules[i]
			if !met[n] && Possible(k, r.Pattern) {
				out = append(out, Remark{Kind: Idle, Rule: &r, Text: fmt.Sprintf("“%s” matches nothing that is known of the site.", r.Pattern)})
			}
		}
	}
	return out
}

func first(pages []string) []string { return slices.Clone(pages[:min(len(pages), mostPages)]) }
