package settings

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// companions are roles that mean something only beside another: who is excluded by
// what, for how long, from where on. They go where that one goes.
var companions = map[Role]Role{
	"page-cache-ttl": "page-cache", "page-cache-store": "page-cache", "path-exclude": "page-cache", "cookie-exclude": "page-cache", "agent-exclude": "page-cache",
	"query-ignore": "page-cache", "query-vary": "page-cache", "always-refresh": "page-cache",
	"role-exclude": "page-cache-logged-in", "warm-interval": "warm", "browser-cache-ttl": "browser-cache",
	"css-keep": "css-drop-unused", "css-exclude": "css-combine", "js-exclude-minify": "js-minify", "js-exclude-combine": "js-combine",
	"js-exclude-defer": "js-defer", "js-exclude-delay": "js-delay", "lazy-skip-first": "lazy-images", "lazy-exclude": "lazy-images",
	"dimensions-exclude": "add-dimensions", "font-swap": "font-self-host", "font-preload": "font-self-host",
	"prefetch-exclude": "prefetch-links", "asset-host-exclude": "asset-host", "data-exclude": "data-cache",
}

// Part is one part of a change that can be tried and promoted by itself, after those
// before it.
type Part struct {
	Title string `json:"title"`
	Edits Values `json:"edits"`
	Risk  int    `json:"risk"`
}

// risky is the risk from which on a setting is better changed by itself.
const risky = 2

// Piled tells whether edits change so much at once that, when something breaks, it is
// hard to say what did: two or more settings of risk 2 or 3 that are better tried
// apart, or a tidy beside anything else.
func (c Catalogue) Piled(edits Values) bool {
	n, tidies := 0, 0
	for key := range edits {
		d, known := c.Find(key)
		if known && d.tidies() {
			tidies++
		} else if known && d.Risk >= risky && companions[d.Role] == "" {
			n++
		}
	}
	return (n >= 2 || tidies > 0 && tidies < len(edits)) && len(c.Split(edits)) > 1
}

// Split parts edits into an ordered series: what can hardly break anything first and
// together, then the others one by one, the least risky first. What requires or
// collides with each other, and what is excluded by a setting, stays together, so
// that every step can stand on those before it. A tidy is a step of its own, the last.
func (c Catalogue) Split(edits Values) []Part {
	groups, tidy := c.together(edits)
	safe := Part{Edits: Values{}}
	var safeNames []string
	var rest []Part
	for _, keys := range groups {
		p, names := c.part(keys, edits)
		if _, tidies := p.Edits[tidy]; p.Risk >= risky || tidies {
			rest = append(rest, p)
			continue
		}
		safe.Risk = max(safe.Risk, p.Risk)
		safeNames = append(safeNames, names...)
		maps.Copy(safe.Edits, p.Edits)
	}
	slices.SortStableFunc(rest, func(a, b Part) int {
		if _, last := b.Edits[tidy]; last {
			return -1
		} else if _, last := a.Edits[tidy]; last {
			return 1
		}
		return a.Risk - b.Risk
	})
	if len(safe.Edits) == 0 {
		return rest
	}
	safe.Title = strings.Join(safeNames, ", ")
	if len(safeNames) > 3 {
		safe.Title = fmt.Sprintf("%s and %d more of little risk", safeNames[0], len(safeNames)-1)
	}
	return append([]Part{safe}, rest...)
}

// together groups the edited keys that have to change in one step, in the catalogue's
// order; tidy is one of the keys that delete data, "" when none does.
func (c Catalogue) together(edits Values) (groups [][]string, tidy string) {
	root := map[string]string{}
	var find func(string) string
	find = func(k string) string {
		if root[k] != k {
			root[k] = find(root[k])
		}
		return root[k]
	}
	join := func(a, b string) {
		if root[a] != "" && root[b] != "" {
			root[find(a)] = find(b)
		}
	}
	var keys []string
	for _, d := range c.Settings {
		if _, edited := edits[d.Key]; edited {
			keys, root[d.Key] = append(keys, d.Key), d.Key
		}
	}
	for _, k := range keys {
		d, _ := c.Find(k)
		if d.tidies() {
			if tidy != "" {
				join(k, tidy)
			}
			tidy = k
		}
		for _, cond := range slices.Concat(d.Requires, d.Conflicts) {
			join(k, cond.Key)
		}
		if lead := companions[d.Role]; lead != "" {
			for _, other := range c.WithRole(lead) {
				join(k, other.Key)
			}
		}
	}
	at := map[string]int{}
	for _, k := range keys {
		i, there := at[find(k)]
		if !there {
			i = len(groups)
			at[find(k)], groups = i, append(groups, nil)
		}
		groups[i] = append(groups[i], k)
	}
	return groups, tidy
}

// part is one step, and the titles of what it changes but for what goes with something
// else.
func (c Catalogue) part(keys []string, edits Values) (p Part, names []string) {
	p.Edits = Values{}
	for _, k := range keys {
		d, _ := c.Find(k)
		p.Edits[k], p.Risk = edits[k], max(p.Risk, d.Risk)
		if companions[d.Role] == "" || len(names) == 0 {
			names = append(names, d.Title)
		}
	}
	p.Title = strings.Join(names, ", ")
	return p, names
}

// Lead is the role beside which this one means something, "" when it means something alone.
func (r Role) Lead() Role { return companions[r] }

// excludedBy says by lists of which roles something is excluded from an action, those first that
// leave out the least.
var excludedBy = map[Role][]Role{
	"js-defer": {"js-exclude-defer"}, "js-delay": {"js-exclude-delay"}, "js-combine": {"js-exclude-combine"}, "js-minify": {"js-exclude-minify"},
	"css-drop-unused": {"css-keep", "css-exclude"}, "css-async": {"css-exclude"}, "css-combine": {"css-exclude"}, "css-minify": {"css-exclude"},
	"lazy-images": {"lazy-exclude"}, "lazy-frames": {"lazy-exclude"}, "add-dimensions": {"dimensions-exclude"}, "asset-host": {"asset-host-exclude"},
	"page-cache": {"path-exclude", "cookie-exclude", "query-vary"}, "page-cache-logged-in": {"role-exclude", "cookie-exclude"},
	"query-ignore": {"query-vary"}, "data-cache": {"data-exclude"}, "prefetch-links": {"prefetch-exclude"},
}

// ExcludedBy are the roles of the lists that exclude something from an action, in the order in which they
// are tried; none when nothing can be excluded from it.
func (r Role) ExcludedBy() []Role { return excludedBy[r] }

// Protects tells whether a list of this role keeps something out of an action, so that an entry
// more can only mend what the action breaks.
func (r Role) Protects() bool {
	switch r {
	case "path-exclude", "cookie-exclude", "agent-exclude", "role-exclude", "query-vary", "always-refresh", "css-keep", "css-exclude", "js-exclude-minify",
		"js-exclude-combine", "js-exclude-defer", "js-exclude-delay", "lazy-exclude", "dimensions-exclude", "prefetch-exclude", "asset-host-exclude", "data-exclude":
		return true
	}
	return false
}
