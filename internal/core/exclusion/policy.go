package exclusion

import (
	"fmt"
	"net/url"
	"slices"

	"tidemarker/internal/core/site"
)

// Policy is whether somebody may be served a cached page.
type Policy string

// The policies.
const (
	Never  Policy = "never" // generated fresh for whoever asks
	Shared Policy = "all"   // one cached copy for all
	Own    Policy = "own"   // a cached copy for each person
)

// Person is who asks for a page.
type Person struct {
	Name     string   `json:"name"`    // of the persona
	Kind     string   `json:"kind"`    // visitor, visitor-with-cart, customer, member, editor
	Cookies  []string `json:"cookies"` // names that the site gave it
	SignedIn bool     `json:"signedIn"`
	Nobody   bool     `json:"nobody"` // a kind that the site has no persona of: nobody looks as one
}

// Kinds are the kinds of personas, in the order in which they come closer to a site.
var Kinds = []string{"visitor", "visitor-with-cart", "customer", "member", "editor"}

// AllKinds is the people of a site and, after them, somebody of each kind that it has no
// persona of: the policy holds for them, too.
func AllKinds(people []Person) []Person {
	out := slices.Clone(people)
	for _, k := range Kinds {
		if !slices.ContainsFunc(people, func(p Person) bool { return p.Kind == k }) {
			out = append(out, Person{Name: k, Kind: k, SignedIn: SignedIn(k), Nobody: true})
		}
	}
	return out
}

// SignedIn tells whether a kind of persona is signed in.
func SignedIn(kind string) bool { return kind == "customer" || kind == "member" || kind == "editor" }

// DefaultPolicy is what holds when nobody said otherwise: cart, checkout, account and
// membership pages and people who are signed in are never served a shared copy (common
// practice).
func DefaultPolicy(class, personaKind string) Policy {
	if !site.Cacheable(class) || SignedIn(personaKind) {
		return Never
	}
	return Shared
}

// Rule is one pattern of a setting.
type Rule struct {
	Key     string   `json:"key"`
	Role    string   `json:"role"`
	Pattern string   `json:"pattern"`
	For     []string `json:"for,omitempty" doc:"Classes of pages that the ledger says it is for."`
}

// Layer is what a revision says of the page cache, by roles.
type Layer struct {
	On       bool   // pages are cached at all
	LoggedIn string // what is done for people who are signed in: bypass, own, or anything else for one copy
	Lifetime int    // seconds for which a cached page may be served; 0 when no setting says
	Stale    bool   // a page that has lived its time is served once more while it is made anew
	Rules    []Rule

	by map[string]*decider // by role; nil until many texts are asked about ([Layer.ready])
}

// decider knows at once which of a role's rules match a text.
type decider struct {
	set  *Set
	list []int // the rules' places in the layer
}

// ready is the layer made ready for being asked about many texts.
func (l Layer) ready() Layer {
	if l.by != nil {
		return l
	}
	l.by = map[string]*decider{}
	roles, of := byRole(l.Rules)
	for _, role := range roles {
		l.by[role] = &decider{compiled(l.Rules, of[role]), of[role]}
	}
	return l
}

// Saying is what the settings say of one page for one person.
type Saying struct {
	Policy Policy `json:"policy" enum:"never,all,own"`
	Why    string `json:"why"`
	Rule   *Rule  `json:"rule,omitempty" doc:"The rule that decides; of several the one with most octets (RFC 9309 §2.2.2)."`
}

// Says computes what the settings say of a page, path with query, for a person with a
// User-Agent.
func (l Layer) Says(page string, who Person, agent string) Saying {
	if !l.On {
		return l.forPerson(who, agent)
	}
	return onPage(l.decides("path-exclude", page), l.forPerson(who, agent))
}

// onPage is what the settings say of a page with what they say for a person: rule excludes its address, nil when none does.
func onPage(rule *Rule, person Saying) Saying {
	if rule != nil {
		return Saying{Never, fmt.Sprintf("Its address is excluded by “%s”.", rule.Pattern), rule}
	}
	return person
}

// forPerson is what the settings say for a person wherever an address decides nothing.
func (l Layer) forPerson(who Person, agent string) Saying {
	if !l.On {
		return Saying{Never, "Pages are not cached at all.", nil}
	}
	if r := l.decides("agent-exclude", agent); r != nil {
		return Saying{Never, fmt.Sprintf("The browser is excluded by “%s”.", r.Pattern), r}
	}
	for _, c := range who.Cookies {
		if r := l.decides("cookie-exclude", c); r != nil {
			return Saying{Never, fmt.Sprintf("The cookie %s is excluded by “%s”.", c, r.Pattern), r}
		}
	}
	if who.SignedIn {
		if r := l.decides("role-exclude", who.Kind); r != nil {
			return Saying{Never, fmt.Sprintf("The role “%s” is excluded.", r.Pattern), r}
		}
		switch l.LoggedIn {
		case "bypass":
			return Saying{Never, "People who are signed in are never served a cached page.", nil}
		case "own":
			return Saying{Own, "People who are signed in have copies of their own.", nil}
		}
		return Saying{Shared, "People who are signed in are served what is cached for all.", nil}
	}
	return Saying{Shared, "Nothing excludes it.", nil}
}

// decides is the rule of a role that matches a text, the one with most octets.
func (l Layer) decides(role, text string) *Rule {
	k, known := KindOf(role)
	if !known || text == "" {
		return nil
	}
	var best *Rule
	if l.by != nil {
		d := l.by[role]
		if d == nil {
			return nil
		}
		for _, n := range d.set.Matching(text) {
			if r := &l.Rules[d.list[n]]; best == nil || PathOctets(r.Pattern) > PathOctets(best.Pattern) {
				best = r
			}
		}
		return best
	}
	for i, r := range l.Rules {
		if r.Role == role && Matches(k, r.Pattern, text) && (best == nil || PathOctets(r.Pattern) > PathOctets(best.Pattern)) {
			best = &l.Rules[i]
		}
	}
	return best
}

// Treatment is what happens to a parameter of an address.
type Treatment string

// The treatments.
const (
	Ignored  Treatment = "ignored"  // makes no other page
	Separate Treatment = "separate" // each value is a page of its own
	Open     Treatment = "open"     // neither: the site chooses
)

// Treats tells what the settings do with a parameter. One that is in both lists is
// ignored, as the protocol says.
func (l Layer) Treats(parameter string) (Treatment, *Rule) {
	if r := l.decides("query-ignore", parameter); r != nil {
		return Ignored, r
	}
	if r := l.decides("query-vary", parameter); r != nil {
		return Separate, r
	}
	return Open, nil
}

// Parameters are the names in an address's query, each once, in order.
func Parameters(page string) []string {
	u, err := url.Parse(page)
	if err != nil {
		return nil
	}
	var out []string
	for name := range u.Query() {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}
