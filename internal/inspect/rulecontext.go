package inspect

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// RuleContext is what an environment's exclusions are compared with: what its settings say,
// what is known of the site, and how its pages came when they were last looked at.
type RuleContext struct {
	Environment store.Environment
	Layer       exclusion.Layer
	Known       exclusion.Known
	Decided     []exclusion.Decided
	Run         int64 // the run whose looks count, 0 when there is none

	seen   map[[3]string]exclusion.Sighting
	bodies map[string]string // SHA-256 of what a stranger was last served, by page
}

// Devices are what pages are looked at with.
func (g RuleContext) Devices() []exclusion.Device {
	return []exclusion.Device{{Name: site.Desktop, Agent: browser.Agent(site.Desktop)}, {Name: site.Phone, Agent: browser.Agent(site.Phone)}}
}

// Seen is how a page came for a persona on a device.
func (g RuleContext) Seen(path, persona, device string) exclusion.Sighting {
	if s, there := g.seen[[3]string{path, persona, device}]; there {
		return s
	}
	return exclusion.NotSeen
}

// RuleContextOf gathers the ground of an environment from what is stored; the site is not
// asked for anything.
func RuleContextOf(ctx context.Context, st *store.Store, envID int64) (RuleContext, error) {
	env, err := st.Environment(ctx, envID)
	if err != nil {
		return RuleContext{}, err
	}
	g := RuleContext{Environment: env, seen: map[[3]string]exclusion.Sighting{}, bodies: map[string]string{}}
	row, err := st.Site(ctx, env.SiteID)
	if err != nil {
		return g, err
	}
	doc := row.Document.V
	if env.Catalogue.V != nil && env.Fingerprint != "" {
		v, err := st.Revision(ctx, env.SiteID, env.Fingerprint)
		if err != nil {
			return g, err
		}
		g.Layer = exclusion.LayerOf(*env.Catalogue.V, v)
	}
	if err := g.meanings(ctx, st); err != nil {
		return g, err
	}
	decided, err := st.Policies(ctx, env.SiteID)
	if err != nil {
		return g, err
	}
	for _, d := range decided {
		g.Decided = append(g.Decided, exclusion.Decided{Class: d.Class, Persona: d.Persona, Policy: exclusion.Policy(d.Policy), Reason: d.Reason, Who: d.Who})
	}
	if err := g.pages(ctx, st, doc); err != nil {
		return g, err
	}
	g.Known.People = []exclusion.Person{{Name: site.Visitor, Kind: site.Visitor}}
	for _, p := range doc.Personas {
		if p.Name != site.Visitor {
			g.Known.People = append(g.Known.People, exclusion.Person{Name: p.Name, Kind: p.Kind, SignedIn: exclusion.SignedIn(p.Kind)})
		}
	}
	for _, d := range g.Devices() {
		g.Known.Agents = append(g.Known.Agents, d.Agent)
	}
	return g, g.sightings(ctx, st)
}

// Inside reads what is in the documents that strangers were last served. Those that are
// no longer kept are passed over.
func (g RuleContext) Inside(ctx context.Context, blobs store.Blobs) (exclusion.Inside, error) {
	var in exclusion.Inside
	for _, page := range slices.Sorted(maps.Keys(g.bodies)) {
		b, err := blobs.Get(ctx, g.bodies[page])
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return in, err
		}
		in.Read(b.Bytes)
	}
	return in, nil
}

// meanings puts to each rule what the ledger says it is for.
func (g *RuleContext) meanings(ctx context.Context, st *store.Store) error {
	rows, err := st.SiteExclusions(ctx, g.Environment.SiteID)
	places := map[[2]string][]int{}
	for i, r := range g.Layer.Rules {
		at := [2]string{r.Key, r.Pattern}
		places[at] = append(places[at], i)
	}
	for _, e := range rows {
		if e.RetiredAt != nil {
			continue
		}
		for _, i := range places[[2]string{e.Key, e.Pattern}] {
			g.Layer.Rules[i].For = append(g.Layer.Rules[i].For, e.Classes.V...)
		}
	}
	return err
}

// pages are those watched and those that the site is known to have.
func (g *RuleContext) pages(ctx context.Context, st *store.Store, doc site.Site) error {
	watched := map[string]bool{}
	never := map[string]bool{} // by class
	add := func(p exclusion.Page) {
		if !watched[p.Path] {
			watched[p.Path] = true
			if _, decided := never[p.Class]; !decided {
				policy, _ := exclusion.PolicyFor(g.Decided, p.Class, site.Visitor, site.Visitor)
				never[p.Class] = policy == exclusion.Never
			}
			p.Never = never[p.Class]
			g.Known.Pages = append(g.Known.Pages, p)
		}
	}
	within := map[string]int{}
	for _, e := range doc.Publishing {
		for _, at := range e.Shows {
			if w := within[at.Page]; at.Within > 0 && (w == 0 || at.Within < w) {
				within[at.Page] = at.Within
			}
		}
	}
	for _, p := range doc.Pages {
		add(exclusion.Page{Path: p.Path, Class: p.Class, FormLives: p.FormLives, Shows: within[p.Path]})
		// A page that is watched with its query is another page because of it.
		for _, name := range exclusion.Parameters(p.Path) {
			g.Known.Parameters = append(g.Known.Parameters, exclusion.Parameter{Name: name, Page: p.Path, Matters: true})
		}
	}
	more, err := st.Addresses(ctx, g.Environment.SiteID)
	for _, a := range more {
		add(exclusion.Page{Path: a.Path, Class: a.Class})
	}
	return err
}

// sightings reads the environment's last run that looked at pages, and what was
// proved by requests since.
func (g *RuleContext) sightings(ctx context.Context, st *store.Store) error {
	runs, err := st.Runs(ctx, g.Environment.SiteID, 60)
	if err != nil {
		return err
	}
	for _, r := range runs {
		if r.EnvironmentID != g.Environment.ID || r.State != release.Done {
			continue
		}
		rows, err := st.LookRows(ctx, r.ID, 1)
		if err != nil {
			return err
		}
		before := len(g.seen)
		looked, err := g.read(rows)
		if err != nil {
			return err
		}
		if len(g.seen) > before && g.Run == 0 {
			g.Run = r.ID
		}
		if looked {
			return nil // what is older was of other settings
		}
	}
	return nil
}

// sees notes how a page came, unless something newer is known.
func (g *RuleContext) sees(k evidence.Key, served httpcache.Served) {
	s, told := map[httpcache.Served]exclusion.Sighting{httpcache.Cached: exclusion.SeenCached, httpcache.Stale: exclusion.SeenCached, httpcache.Origin: exclusion.SeenMade, httpcache.Bypass: exclusion.SeenMade}[served]
	at := [3]string{k.Page, k.Persona, k.Device}
	if _, known := g.seen[at]; told && !known {
		g.seen[at] = s
	}
}

// read takes in what a run saw: probes first, since they ask twice and so know
// whether a page is cached. looked is true when it looked at pages.
func (g *RuleContext) read(rows []store.LookRow) (looked bool, err error) {
	var twice []evidence.Probe
	shared := map[evidence.Key]bool{} // a stranger got the copy made for somebody
	for _, row := range rows {
		if row.Kind != "probe" {
			continue
		}
		var p evidence.Probe
		if err := json.Unmarshal(row.Document, &p); err != nil {
			return looked, fmt.Errorf("read look %d: %w", row.ID, err)
		}
		switch {
		case p.Missing != "":
		case p.Kind == evidence.StrangerTwice:
			g.sees(p.Key, p.Second.Served)
			if g.bodies[p.Page] == "" {
				g.bodies[p.Page] = p.Second.Body
			}
		case p.Kind == evidence.StrangerAfter:
			shared[p.Key] = p.Second.Served.FromCache() && p.Second.Body == p.First.Body
		case p.Kind == evidence.PersonaTwice:
			twice = append(twice, p)
		}
	}
	for _, p := range twice {
		at := [3]string{p.Page, p.Persona, p.Device}
		if _, known := g.seen[at]; p.Second.Served.FromCache() && !known && !shared[p.Key] {
			g.seen[at] = exclusion.SeenOwn
			continue
		}
		g.sees(p.Key, p.Second.Served)
	}
	for _, row := range rows {
		switch row.Kind {
		case "page":
			looked = true
			var p evidence.PageLook
			if err := json.Unmarshal(row.Document, &p); err != nil {
				return looked, fmt.Errorf("read look %d: %w", row.ID, err)
			}
			g.sees(p.Key, p.Served)
			g.requested(p.Requests)
		case "journey":
			var j evidence.JourneyLook
			if err := json.Unmarshal(row.Document, &j); err != nil {
				return looked, fmt.Errorf("read look %d: %w", row.ID, err)
			}
			for i, p := range g.Known.People {
				if p.Name == j.Persona && len(p.Cookies) == 0 && len(j.Cookies) > 0 {
					g.Known.People[i].Cookies = j.Cookies
				}
			}
		}
	}
	return looked, nil
}

// requested takes in what a page loaded, and which addresses its scripts asked for.
func (g *RuleContext) requested(requests []evidence.Request) {
	for _, r := range requests {
		if u, err := url.Parse(r.URL); err == nil && r.Kind == "fetch" && !slices.Contains(g.Known.Asked, u.RequestURI()) {
			g.Known.Asked = append(g.Known.Asked, u.RequestURI())
		}
		if (r.Kind == "script" || r.Kind == "stylesheet" || r.Kind == "image") && !slices.Contains(g.Known.Resources, r.URL) {
			g.Known.Resources = append(g.Known.Resources, r.URL)
		}
	}
}
