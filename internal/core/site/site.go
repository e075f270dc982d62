package site

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/journey"
)

// Site is one site as a document.
type Site struct {
	Name         string            `json:"site"`
	Labels       []string          `json:"labels,omitempty" doc:"What it is listed under, with others."`
	Environments []Environment     `json:"environments"`
	Personas     []Persona         `json:"personas,omitempty"`
	Pages        []Page            `json:"pages"`
	Journeys     []journey.Journey `json:"journeys,omitempty"`
	Publishing   []PublishingTest  `json:"publishing,omitempty"`
	Budgets      []Budget          `json:"budgets,omitempty" doc:"What pages may cost; checks on staging measure it after each change."`
	Keep         *Keeping          `json:"keep,omitempty" doc:"For how many days evidence is kept."`
	Promotion    *Promotion        `json:"promotion,omitempty" doc:"What holds for promotions."`
	FindCulprit  bool              `json:"findCulprit,omitempty" doc:"When a change with several edits breaks staging, the culprit is searched for at once."`
}

// Budget is what pages may cost by one metric. Either Most or Over is set.
type Budget struct {
	Metric string   `json:"metric" enum:"first-byte,first-contentful-paint,largest-contentful-paint,layout-shift,total-blocking-time,visually-complete,load,transferred,content,requests"`
	Class  string   `json:"class,omitempty" doc:"Of pages; absent: each."`
	Device string   `json:"device,omitempty" enum:"desktop,phone" doc:"Absent: each."`
	Most   *float64 `json:"most,omitempty" minimum:"0" doc:"In milliseconds, octets, or the number itself."`
	Over   *float64 `json:"over,omitempty" minimum:"0" maximum:"10" doc:"How much more than at the mark, as a part of it: 0.1 for a tenth."`
}

// Text names a budget, whatever it says it may cost.
func (b Budget) Text() string {
	text := "of the " + b.Metric
	if b.Class != "" {
		text += ", " + b.Class
	}
	if b.Device != "" {
		text += ", " + b.Device
	}
	return text
}

// Environment is one instance of a site.
type Environment struct {
	Name        string            `json:"name"`
	Role        Role              `json:"role,omitempty" enum:"staging,production,other" doc:"What it is for."`
	URL         string            `json:"url"`
	Hosts       []string          `json:"hosts,omitempty"`
	Connector   *Connector        `json:"connector,omitempty"`
	Outbox      string            `json:"outbox,omitempty" doc:"Address of the page that lists the mail and payments that it sends; journeys ask it whether something was delivered."`
	CacheSignal *httpcache.Signal `json:"cacheSignal,omitempty" doc:"How its responses tell that they came from its page cache; Cache-Status when absent."`
}

// Signal is how the environment's responses tell that they came from its page cache.
func (e Environment) Signal() httpcache.Signal {
	if e.CacheSignal == nil {
		return httpcache.Signal{Kind: httpcache.ByCacheStatus}
	}
	return *e.CacheSignal
}

// Connector is how an environment's speed layer is reached.
type Connector struct {
	Kind  string `json:"kind"`
	URL   string `json:"url,omitempty"`
	Token string `json:"token,omitempty" doc:"The token itself, or env:NAME."`
}

// Persona is who looks.
type Persona struct {
	Name         string         `json:"name"`
	Kind         string         `json:"kind"`
	Prepare      []journey.Step `json:"prepare,omitempty"`
	SignOut      []journey.Step `json:"signOut,omitempty" doc:"Signing out: the site no longer knows them."`
	PrivateTexts []string       `json:"privateTexts,omitempty" doc:"Text that only this persona may see."`
}

// PublishingTest is something that an editor publishes, to see that the pages show it in time. It
// is never published on production.
type PublishingTest struct {
	Name    string         `json:"name"`
	Persona string         `json:"persona,omitempty"`
	Steps   []journey.Step `json:"steps" doc:"One of them fills in {canary}, a word made up each time."`
	Undo    []journey.Step `json:"undo,omitempty" doc:"Takes it back."`
	Shows   []Showing      `json:"shows"`
}

// Showing is a page that has to show an edit.
type Showing struct {
	Page   string `json:"page"`
	Within int    `json:"within,omitempty" doc:"Seconds; 0 leaves it to the settings: at once, or when what is cached has lived its time."`
}

// Page is an address that is watched.
type Page struct {
	Path     string   `json:"path"`
	Class    string   `json:"class,omitempty"`
	Personas []string `json:"personas,omitempty"`
	Devices  []string `json:"devices,omitempty"`
	Masks    []Mask   `json:"masks,omitempty"`
	// Steady are the paths of elements that must not differ, although they were learned to
	// change by themselves.
	Steady []string `json:"steady,omitempty"`
	// FormLives is for how long, in seconds, a form can be sent after its page was made; 0
	// when nobody said.
	FormLives int `json:"formLives,omitempty"`
}

// Mask is a part of a page that may differ.
type Mask struct {
	Selector string `json:"selector"`
	Reason   string `json:"reason,omitempty"`
}

// Visitor is the persona that every site has: a stranger.
const Visitor = "visitor"

// The devices that pages are looked at with.
const (
	Desktop = "desktop"
	Phone   = "phone"
)

// Environment returns the environment of that name and its position.
func (s Site) Environment(name string) (Environment, int, bool) {
	for i, e := range s.Environments {
		if e.Name == name {
			return e, i, true
		}
	}
	return Environment{}, -1, false
}

// Persona returns the persona of that name; visitor is always known.
func (s Site) Persona(name string) (Persona, bool) {
	for _, p := range s.Personas {
		if p.Name == name {
			return p, true
		}
	}
	return Persona{Name: Visitor, Kind: Visitor}, name == Visitor
}

// Page returns the watched page with that path.
func (s Site) Page(path string) (Page, bool) {
	for _, p := range s.Pages {
		if p.Path == path {
			return p, true
		}
	}
	return Page{}, false
}

// WithHost is the site with one more host of an environment; added is false when it has it
// already, or the environment is not there.
func (s Site) WithHost(environment, host string) (out Site, added bool) {
	i := slices.IndexFunc(s.Environments, func(e Environment) bool { return e.Name == environment })
	if i < 0 || slices.ContainsFunc(s.Environments[i].Hosts, func(h string) bool { return strings.EqualFold(h, host) }) {
		return s, false
	}
	s.Environments = slices.Clone(s.Environments)
	s.Environments[i].Hosts = append(slices.Clone(s.Environments[i].Hosts), host)
	return s, true
}

// WithMask is the site with one more mask on a page, on every page for "", and on how many
// pages that is new.
func (s Site) WithMask(page string, m Mask) (out Site, added int) {
	s.Pages = slices.Clone(s.Pages)
	for i, p := range s.Pages {
		if page != "" && p.Path != page || slices.ContainsFunc(p.Masks, func(x Mask) bool { return x.Selector == m.Selector }) {
			continue
		}
		s.Pages[i].Masks = append(slices.Clone(p.Masks), m)
		added++
	}
	return s, added
}

// Owns tells whether an address belongs to this environment: its own host or one of
// the further hosts. Only those are ever fetched.
func (e Environment) Owns(u *url.URL) bool {
	if u.Scheme != "http" && u.Scheme != "https" {
		return false
	}
	base, err := url.Parse(e.URL)
	if err != nil {
		return false
	}
	if sameHost(u.Host, base.Host) {
		return true
	}
	return slices.ContainsFunc(e.Hosts, func(h string) bool {
		if strings.Contains(h, ":") {
			return sameHost(h, u.Host)
		}
		return sameHost(h, u.Hostname())
	})
}

// sameHost compares two hosts, with or without ports: in any case, and with or without the dot of the root (RFC 1034 §3.1).
func sameHost(a, b string) bool {
	rootless := func(host string) string {
		name, port, _ := strings.Cut(host, ":")
		if strings.HasPrefix(host, "[") {
			return host
		}
		return strings.TrimSuffix(name, ".") + ":" + port
	}
	return strings.EqualFold(rootless(a), rootless(b))
}

// Address is the full address of a path on this environment.
func (e Environment) Address(path string) string {
	return strings.TrimSuffix(e.URL, "/") + path
}

// Cacheable tells whether pages of a class may be served from a shared page cache. Cart,
// checkout, account and membership pages never are (common practice).
func Cacheable(class string) bool {
	switch class {
	case "cart", "checkout", "account", "membership":
		return false
	}
	return true
}

// faults are the contradictions that the schema cannot see.
func (s Site) faults() []string {
	var out []string
	seen := map[string]bool{}
	for i, e := range s.Environments {
		if seen[e.Name] {
			out = append(out, fmt.Sprintf("environments[%d]: the name %q is there twice", i, e.Name))
		}
		seen[e.Name] = true
		if u, err := url.Parse(e.URL); err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") {
			out = append(out, fmt.Sprintf("environments[%d].url: %q is not an http or https address", i, e.URL))
		}
		if u, err := url.Parse(e.Outbox); e.Outbox != "" && (err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https")) {
			out = append(out, fmt.Sprintf("environments[%d].outbox: %q is not an http or https address", i, e.Outbox))
		}
		if c := e.Connector; c != nil && c.Kind == "http" && c.URL == "" {
			out = append(out, fmt.Sprintf("environments[%d].connector: kind http needs a url", i))
		}
		if err := e.Signal().Check(); err != nil {
			out = append(out, fmt.Sprintf("environments[%d].cacheSignal: %v", i, err))
		}
	}
	out = append(append(out, s.roleFaults()...), s.Promotes().faults()...)
	personas := map[string]bool{Visitor: true}
	for i, p := range s.Personas {
		if personas[p.Name] && p.Name != Visitor {
			out = append(out, fmt.Sprintf("personas[%d]: the name %q is there twice", i, p.Name))
		}
		personas[p.Name] = true
	}
	paths := map[string]bool{}
	for i, p := range s.Pages {
		if paths[p.Path] {
			out = append(out, fmt.Sprintf("pages[%d]: the path %q is there twice", i, p.Path))
		}
		paths[p.Path] = true
		for _, who := range p.Personas {
			if !personas[who] {
				out = append(out, fmt.Sprintf("pages[%d] (%s): there is no persona %q", i, p.Path, who))
			}
		}
	}
	names := map[string]bool{}
	for i, j := range s.Journeys {
		if names[j.Name] {
			out = append(out, fmt.Sprintf("journeys[%d]: the name %q is there twice", i, j.Name))
		}
		names[j.Name] = true
		if !personas[j.Persona] {
			out = append(out, fmt.Sprintf("journeys[%d] (%s): there is no persona %q", i, j.Name, j.Persona))
		}
		for _, w := range j.Where {
			if _, _, known := s.Environment(w); !known {
				out = append(out, fmt.Sprintf("journeys[%d] (%s): there is no environment %q", i, j.Name, w))
			}
		}
	}
	return append(out, s.publishingFaults(personas, paths)...)
}

func (s Site) publishingFaults(personas, paths map[string]bool) []string {
	var out []string
	names := map[string]bool{}
	for i, e := range s.Publishing {
		if names[e.Name] {
			out = append(out, fmt.Sprintf("publishing[%d]: the name %q is there twice", i, e.Name))
		}
		names[e.Name] = true
		if !personas[e.Persona] {
			out = append(out, fmt.Sprintf("publishing[%d] (%s): there is no persona %q", i, e.Name, e.Persona))
		}
		if !journey.HasCanary(e.Steps) {
			out = append(out, fmt.Sprintf("publishing[%d] (%s): no step fills in %s; without a word of its own nobody can tell which edit a page shows", i, e.Name, journey.Canary))
		}
		for _, at := range e.Shows {
			if !paths[at.Page] {
				out = append(out, fmt.Sprintf("publishing[%d] (%s): %q is not one of the pages", i, e.Name, at.Page))
			}
		}
	}
	return out
}

// PublishingTestsOn are the publishing tests that may be made on an environment: all on
// staging, none anywhere else.
func (s Site) PublishingTestsOn(environment string) []PublishingTest {
	if e, _, known := s.WithRoles().Environment(environment); !known || e.Role != Staging {
		return nil
	}
	return s.Publishing
}

// withDefaults fills in what the schema says is meant when a member is absent.
func (s Site) withDefaults() Site {
	s = s.WithRoles()
	for i := range s.Pages {
		p := &s.Pages[i]
		if p.Class == "" {
			p.Class = "other"
		}
		if len(p.Personas) == 0 {
			p.Personas = []string{Visitor}
		}
		if len(p.Devices) == 0 {
			p.Devices = []string{Desktop, Phone}
		}
	}
	for i := range s.Journeys {
		j := &s.Journeys[i]
		if j.Persona == "" {
			j.Persona = Visitor
		}
		if len(j.Devices) == 0 {
			j.Devices = []string{Desktop}
		}
	}
	for i := range s.Publishing {
		if s.Publishing[i].Persona == "" {
			s.Publishing[i].Persona = Visitor
		}
	}
	return s.MarkSensitive()
}

// ClassOf is the class of a page of the test plan; "" when it has none.
func (s Site) ClassOf(path string) string {
	for _, p := range s.Pages {
		if p.Path == path {
			return p.Class
		}
	}
	return ""
}
