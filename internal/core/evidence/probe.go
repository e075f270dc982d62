package evidence

import (
	"fmt"
	"slices"
	"time"

	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/words"
)

// ProbeKind says what a probe asked.
type ProbeKind string

// The probes. Each asks twice what a page cache could confuse, and once more when the
// page was dropped in between.
const (
	// StrangerAfter asks as a stranger right after a persona did.
	StrangerAfter ProbeKind = "stranger-after"
	// StrangerTwice asks as a stranger, and as another one.
	StrangerTwice ProbeKind = "stranger-twice"
	// PersonaAfter asks as one persona right after another did.
	PersonaAfter ProbeKind = "persona-after"
	// DeviceAfter asks with one device right after another did.
	DeviceAfter ProbeKind = "device-after"
	// OtherValue asks for a page with another value of one of its parameters.
	OtherValue ProbeKind = "other-value"
	// WithoutParameter asks for a page without one of its parameters.
	WithoutParameter ProbeKind = "without-parameter"
	// IgnoredParameter asks for a page with a parameter more that the settings ignore.
	IgnoredParameter ProbeKind = "ignored-parameter"
	// PersonaTwice asks as a persona, and as the same again.
	PersonaTwice ProbeKind = "persona-twice"
	// AfterSignOut asks with what a persona's browser has left once it signed out.
	AfterSignOut ProbeKind = "after-sign-out"
	// AsCached asks for a page as it stands, before anything is purged.
	AsCached ProbeKind = "as-cached"
	// Published asks for a page after something on it was published.
	Published ProbeKind = "published"
	// Links asks for what pages link to.
	Links ProbeKind = "links"
)

// MadeUp stands in a probe for the word that was made up for a persona, or for an edit:
// each time another, so that two probes of it can be compared.
func MadeUp(whose string) string { return "the word made up for " + whose }

// Answer is what a plain request, without a browser, got.
type Answer struct {
	Status       int                 `json:"status"`
	Received     time.Time           `json:"received,omitzero" doc:"When it came."`
	Served       httpcache.Served    `json:"served"`
	CacheNote    string              `json:"cacheNote,omitempty" doc:"What says how it was served, as it came."`
	Fields       map[string][]string `json:"fields,omitempty" doc:"What it says about caching, names in lower case; of Set-Cookie the names only."`
	Lines        []string            `json:"lines,omitempty"`
	Body         string              `json:"body,omitempty" doc:"SHA-256 of the body kept."`
	Shape        string              `json:"shape,omitempty" doc:"SHA-256 of its elements and their classes, without texts."`
	Tokens       []string            `json:"tokens,omitempty" doc:"SHA-256 of the values that its forms hide, by name."`
	PrivateTexts []string            `json:"privateTexts,omitempty" doc:"Which of the private texts asked for stand in it."`
}

// Probe is a pair of requests that a page cache could confuse.
type Probe struct {
	Key
	Class     string          `json:"class"`
	Kind      ProbeKind       `json:"kind" enum:"stranger-after,stranger-twice,persona-after,device-after,other-value,without-parameter,ignored-parameter,persona-twice,after-sign-out,as-cached,published,links"`
	Missing   string          `json:"missing,omitempty"`
	Unready   string          `json:"unready,omitempty" doc:"The persona that could not be made ready, which is why it is missing."`
	Personal  []string        `json:"personal,omitempty" doc:"Names of the cookies that tell one person from another."`
	Parameter string          `json:"parameter,omitempty"`
	Before    string          `json:"before,omitempty" doc:"Who asked first: a persona, or a device."`
	Edit      string          `json:"edit,omitempty" doc:"What was published."`
	Rule      string          `json:"rule,omitempty" doc:"How old the page may be, or how soon it has to show what is published, in words."`
	Allowed   int             `json:"allowed,omitempty" doc:"The same in seconds; 0 for at once, -1 when nothing says."`
	FormLives int             `json:"formLives,omitempty" doc:"For how many seconds a form on it can be sent; 0 when not known."`
	Leads     map[string]Lead `json:"leads,omitempty" doc:"Where links lead, by path."`
	Waited    float64         `json:"waited,omitempty" doc:"Seconds from the edit, or from the first answer, to the second."`
	First     Answer          `json:"first" doc:"What came first: the persona's answer, or the page's with its own value."`
	Second    Answer          `json:"second" doc:"The answer right after it."`
	Fresh     Answer          `json:"fresh" doc:"The second answer again, when nothing was cached."`
}

// Lead is where a link leads.
type Lead struct {
	From   string `json:"from" doc:"A page that has the link."`
	Status int    `json:"status"`
	Failed string `json:"failed,omitempty" doc:"Why no answer came."`
	Past   bool   `json:"past,omitempty" doc:"No page links to it any more; one did when the mark was taken."`
}

// Dead tells whether the link leads nowhere. What is only for somebody who is signed in
// answers a stranger with 401 or 403.
func (l Lead) Dead() bool {
	return l.Failed != "" || l.Status >= 400 && l.Status != 401 && l.Status != 403 && l.Status != 429
}

// CompareProbe holds one probe against the baseline.
func CompareProbe(base Baseline, p Probe) []Finding {
	p = base.tellingOnly(p)
	if p.Missing != "" {
		f := p.about(NotCheckedKind, Broken, "A probe could not be made").with("%s", p.Missing).caused(p.Missing)
		if p.Unready != "" {
			f = f.dueTo(notReady(p.Unready))
		}
		return []Finding{f}
	}
	switch p.Kind {
	case StrangerAfter:
		return append(leakFindings(base, p), ownFindings(base, p)...)
	case StrangerTwice:
		return append(cachedFindings(base, p), p.contradictions(base)...)
	case PersonaAfter:
		return personaFindings(base, p)
	case DeviceAfter:
		return append(deviceFindings(p), p.contradictions(base)...)
	case IgnoredParameter:
		return ignoredFindings(base, p)
	case PersonaTwice:
		return nil // it tells how the page comes; what it must not show, others ask for
	case AfterSignOut:
		return leftFindings(base, p)
	case AsCached:
		return oldFindings(p)
	case Published:
		return publishedFindings(base, p)
	case Links:
		return linkFindings(base, p)
	}
	return variantFindings(base, p)
}

// earlier is the same probe when the mark was taken.
// Led are the addresses that led somewhere when the mark was taken, with the page that linked
// to each.
func (b Baseline) Led() map[string]string {
	out := map[string]string{}
	for _, m := range b.Look.Probes {
		for path, l := range m.Leads {
			if !l.Dead() {
				out[path] = l.From
			}
		}
	}
	return out
}

func (b Baseline) earlier(p Probe) (Probe, bool) {
	for _, m := range b.Look.Probes {
		if m.key() == p.key() && m.Missing == "" {
			return b.tellingOnly(m), true
		}
	}
	return Probe{}, false
}

// tellingOnly is a probe without the texts that tell nobody from others on its page.
func (b Baseline) tellingOnly(p Probe) Probe {
	if !site.Cacheable(p.Class) {
		return p
	}
	for _, a := range []*Answer{&p.First, &p.Second, &p.Fresh} {
		if slices.ContainsFunc(a.PrivateTexts, b.Public) {
			a.PrivateTexts = slices.DeleteFunc(slices.Clone(a.PrivateTexts), b.Public)
		}
	}
	return p
}

// ownFindings tell of a persona who is no longer shown what is its own: because it is served
// another's cached answer, or because the page that is generated for it lacks it.
func ownFindings(base Baseline, p Probe) []Finding {
	m, there := base.earlier(p)
	if !there {
		return nil
	}
	var gone []string
	for _, mark := range m.First.PrivateTexts {
		if !slices.Contains(p.First.PrivateTexts, mark) {
			gone = append(gone, mark)
		}
	}
	if len(gone) == 0 {
		return nil
	}
	if !p.First.Served.FromCache() {
		return []Finding{p.about(ContentKind, Broken, "The page generated for "+p.Persona+" lacks what it had").
			with("When the mark was taken, it had%s %s, so that it is no cached copy of somebody else's.", listed(" ", gone), p.First.CacheNote).caused("lacks what was theirs")}
	}
	return []Finding{p.about(VariantKind, Broken, p.Persona+" is not shown what is their own").
		with("When the mark was taken, the page had%s It has not now. %s.", listed(" ", gone), p.First.CacheNote).caused("not shown their own")}
}

// cachedFindings tell of a page that is cached although it is made for one person, of one
// that shows a stranger what is somebody's, and of one form token for everybody.
func cachedFindings(base Baseline, p Probe) []Finding {
	if len(p.Second.PrivateTexts) > 0 {
		return []Finding{p.about(LeakKind, Broken, "A visitor is shown what belongs to somebody").
			with("Without signing in a request was answered with %s %s.", listed("", p.Second.PrivateTexts), p.Second.CacheNote).caused("shown to a visitor")}
	}
	if !p.Second.Served.FromCache() {
		return nil
	}
	m, there := base.earlier(p)
	if there && m.Second.Served.FromCache() {
		return tokenFindings(m, p)
	}
	var out []Finding
	if !site.Cacheable(p.Class) {
		out = append(out, p.about(PolicyKind, Broken, cachedTitle(p.Class)).
			with("The second visitor who asked was served the first one's copy. %s. Pages of this class are made for one person each time.", p.Second.CacheNote).caused("cached "+p.Class))
	}
	return append(out, tokenFindings(m, p)...)
}

// tokenFindings tell of hidden values that come anew with each page and are the same in
// a cached copy: the form is refused once one of them is used, or grows old.
func tokenFindings(m, p Probe) []Finding {
	shared := func(p Probe) int {
		n := 0
		for _, t := range p.Second.Tokens {
			if slices.Contains(p.First.Tokens, t) && !slices.Contains(p.Fresh.Tokens, t) {
				n++
			}
		}
		return n
	}
	n := shared(p)
	if n == 0 || m.Second.Served.FromCache() && shared(m) > 0 {
		return nil
	}
	return []Finding{p.about(FormKind, Broken, "A form's token is the same for everybody").
		with("The page is cached with %s that is generated fresh with each page. A form that brings it back late, or second, is refused. %s.", words.Count(n, "hidden value"), p.Second.CacheNote).caused("cached token")}
}

// lag is by how much the site's clock is behind ours, by an answer that came from the
// origin just now: its Date would make every page look older than it is.
func (a Answer) lag() time.Duration {
	for _, form := range a.Fields["date"] {
		if at, ok := httpcache.ParseDate(form); ok && !a.Received.IsZero() {
			return max(0, a.Received.Sub(at).Truncate(time.Second))
		}
	}
	return 0
}

// contradictions are where the answer says something else than what was done with it.
//
// A page that is built otherwise for another device depends on the User-Agent.
func (p Probe) contradictions(base Baseline) []Finding {
	kinds := func(p Probe) map[httpcache.ContradictionKind]string {
		e := httpcache.Exchange{Method: "GET", Status: p.Second.Status, Request: httpcache.Header{}, Response: httpcache.Header(p.Second.Fields), Received: p.Second.Received.Add(-p.Fresh.lag())}
		seen := httpcache.Seen{Served: p.Second.Served, Cookies: map[string]bool{}}
		if p.Kind == DeviceAfter && p.First.Shape != p.Fresh.Shape {
			seen.Differs = []string{"user-agent"}
		}
		for _, name := range p.Personal {
			seen.Cookies[name] = true
		}
		out := map[httpcache.ContradictionKind]string{}
		for _, c := range e.Contradictions(seen) {
			out[c.Kind] = c.Text
		}
		return out
	}
	before := map[httpcache.ContradictionKind]string{}
	if m, there := base.earlier(p); there {
		before = kinds(m)
	}
	var out []Finding
	now := kinds(p)
	for _, k := range []httpcache.ContradictionKind{httpcache.CookieCached, httpcache.PrivateCached, httpcache.PastLife, httpcache.VaryMissing} {
		text, said := now[k]
		if _, was := before[k]; !said || was {
			continue
		}
		severity := Broken
		kind := PolicyKind
		switch k {
		case httpcache.PastLife:
			severity, kind = Unsure, StaleKind
		case httpcache.VaryMissing:
			severity = Unsure // whether a cache on the way confuses them is not seen here
		}
		out = append(out, p.about(kind, severity, "The page contradicts its own headers").with("%s %s.", text, p.Second.CacheNote).caused(string(k)))
	}
	return out
}

// personaFindings tell of what is one persona's in the answer to another, and of a
// persona who is served the page made for a stranger.
func personaFindings(base Baseline, p Probe) []Finding {
	if p.Before == site.Visitor {
		return strangersFindings(base, p)
	}
	if len(p.Second.PrivateTexts) == 0 {
		return nil
	}
	return []Finding{p.about(LeakKind, Broken, fmt.Sprintf("%s is shown what belongs to %s", p.Persona, p.Before)).
		with("Right after %s opened the page, %s was answered with %s %s.", p.Before, p.Persona, listed("", p.Second.PrivateTexts), p.Second.CacheNote).
		caused("shows what belongs to " + p.Before)}
}

// strangersFindings tell of a persona who gets the cached copy that was made for a
// stranger, without what is their own.
func strangersFindings(base Baseline, p Probe) []Finding {
	lacking := func(p Probe) (out []string) {
		for _, m := range p.Fresh.PrivateTexts {
			if !slices.Contains(p.Second.PrivateTexts, m) {
				out = append(out, m)
			}
		}
		return out
	}
	gone := lacking(p)
	if m, there := base.earlier(p); !p.Second.Served.FromCache() || len(gone) == 0 || there && len(lacking(m)) > 0 {
		return nil
	}
	return []Finding{p.about(VariantKind, Broken, p.Persona+" is served the page made for a visitor").
		with("Right after a visitor opened the page, %s got a cached copy. Generated fresh, it has%s %s.", p.Persona, listed(" ", gone), p.Second.CacheNote).caused("the page of a visitor")}
}

// deviceFindings tell of one device's page served to another: the very same copy,
// although a page generated fresh for that device is built otherwise.
func deviceFindings(p Probe) []Finding {
	if !p.Second.Served.FromCache() || p.Second.Body != p.First.Body || p.Second.Shape == p.Fresh.Shape {
		return nil
	}
	return []Finding{p.about(VariantKind, Broken, fmt.Sprintf("A %s is served the page made for a %s", p.Device, p.Before)).
		with("Right after a %s asked, a %s got the same cached copy; generated fresh, its page is built otherwise. %s.", p.Before, p.Device, p.Second.CacheNote).
		caused("the page of another device")}
}
