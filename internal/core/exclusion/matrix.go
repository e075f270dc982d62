package exclusion

import (
	"fmt"
	"strings"
)

// Decided is a policy that somebody decided on for a class of pages and a persona.
type Decided struct {
	Class   string `json:"class"`
	Persona string `json:"persona"`
	Policy  Policy `json:"policy" enum:"never,all,own"`
	Reason  string `json:"reason"`
	Who     string `json:"who"`
}

// PolicyFor is the policy of a class of pages for a persona: what somebody decided, or
// the default. by is nil for the default.
func PolicyFor(decided []Decided, class, persona, kind string) (p Policy, by *Decided) {
	for i, d := range decided {
		if d.Class == class && d.Persona == persona {
			return d.Policy, &decided[i]
		}
	}
	return DefaultPolicy(class, kind), nil
}

// Sighting is how a page came when it was last looked at.
type Sighting string

// The sightings.
const (
	SeenCached Sighting = "cached"  // from a cached copy
	SeenOwn    Sighting = "own"     // from a copy that is one person's
	SeenMade   Sighting = "made"    // made for whoever asked
	SeenBoth   Sighting = "mixed"   // some pages cached, some made
	NotSeen    Sighting = "unknown" // nobody looked
)

// Trouble is in what policy, settings and sightings disagree.
type Trouble string

// The troubles, the gravest first.
const (
	Leaks  Trouble = "leaks"  // it was served from the cache, and never may be
	Opens  Trouble = "open"   // the settings let it be cached, and it never may be
	Wasted Trouble = "wasted" // it may be cached, and never is
	None   Trouble = ""
)

// CellPage is one page of a cell.
type CellPage struct {
	Path string   `json:"path"`
	Says Saying   `json:"says"`
	Seen Sighting `json:"seen" enum:"cached,own,made,unknown"`
}

// Cell is one class of pages for one persona on one device.
type Cell struct {
	Class   string     `json:"class"`
	Persona string     `json:"persona"`
	Device  string     `json:"device" enum:"desktop,phone"`
	Nobody  bool       `json:"nobody" doc:"The site has no persona of this kind: nobody looks as one, and its cookies are not known."`
	Policy  Policy     `json:"policy" enum:"never,all,own"`
	Decided *Decided   `json:"decided,omitempty" doc:"Who decided otherwise than the default, and why."`
	Says    string     `json:"says" enum:"never,all,own,mixed"`
	Seen    Sighting   `json:"seen" enum:"cached,own,made,mixed,unknown"`
	Trouble Trouble    `json:"trouble" enum:",leaks,open,wasted"`
	Text    string     `json:"text"`
	Pages   []CellPage `json:"pages"`
	Count   int        `json:"count" doc:"Pages known of the class; the first are listed."`
}

// Device is a kind of device and how it calls itself.
type Device struct{ Name, Agent string }

// Matrix holds policies, settings and sightings against each other: each class of the
// pages, in the order in which they first come, for each person on each device. seen
// tells how a page came for a persona on a device.
func Matrix(l Layer, pages []Page, people []Person, devices []Device, decided []Decided, seen func(path, persona, device string) Sighting) []Cell {
	var classes []string
	of := map[string][]Page{}
	for _, p := range pages {
		if of[p.Class] == nil {
			classes = append(classes, p.Class)
		}
		of[p.Class] = append(of[p.Class], p)
	}
	l = l.ready()
	out := []Cell{}
	for _, class := range classes {
		excluded := make([]*Rule, len(of[class])) // whoever comes
		for i, p := range of[class] {
			if l.On {
				excluded[i] = l.decides("path-exclude", p.Path)
			}
		}
		for _, who := range people {
			for _, d := range devices {
				out = append(out, l.cell(class, of[class], excluded, who, d, decided, seen))
			}
		}
	}
	return out
}

func (l Layer) cell(class string, pages []Page, excluded []*Rule, who Person, d Device, decided []Decided, seen func(path, persona, device string) Sighting) Cell {
	c := Cell{Class: class, Persona: who.Name, Device: d.Name, Nobody: who.Nobody, Count: len(pages), Pages: []CellPage{}, Seen: NotSeen}
	c.Policy, c.Decided = PolicyFor(decided, class, who.Name, who.Kind)
	n := map[Policy]int{}
	saws := map[Sighting]int{}
	var cached, owned, open []string
	person := l.forPerson(who, d.Agent)
	for i, p := range pages {
		policy := person.Policy
		if excluded[i] != nil {
			policy = Never
		}
		n[policy]++
		saw := seen(p.Path, who.Name, d.Name)
		switch saw {
		case SeenCached:
			cached = append(cached, p.Path)
		case SeenOwn:
			owned = append(owned, p.Path)
		}
		if saw != NotSeen {
			saws[saw]++
		}
		if policy == Shared {
			open = append(open, p.Path)
		}
		if len(c.Pages) < 50 || saw != NotSeen {
			c.Pages = append(c.Pages, CellPage{p.Path, onPage(excluded[i], person), saw})
		}
	}
	c.Says = "mixed"
	for p, k := range n {
		if k == len(pages) {
			c.Says = string(p)
		}
	}
	for saw := range saws {
		c.Seen = saw
	}
	if len(saws) > 1 {
		c.Seen = SeenBoth
	}
	c.judge(n[Never] == len(pages), cached, owned, open, strings.ReplaceAll(who.Kind, "-", " "))
	return c
}

// judge says what is wrong with a cell, or that nothing is: never says whether the
// settings cache none of its pages, and the lists which came from the cache, which from
// a copy of their own, and which the settings let be cached for all.
func (c *Cell) judge(never bool, cached, owned, open []string, kind string) {
	switch {
	case c.Nobody:
		// What cookies would decide is not known, so that nothing can be called wrong.
		c.Text = fmt.Sprintf("No persona is of the kind “%s”: nobody looks as one. %s by policy.", kind, map[Policy]string{Never: "Never served from the cache", Own: "A copy for each", Shared: "Cached for all"}[c.Policy])
	case c.Policy == Never && len(cached) > 0:
		c.Trouble, c.Text = Leaks, fmt.Sprintf("Never to be served from the cache, but %s was.", named(cached))
	case c.Policy == Own && len(cached) > 0:
		c.Trouble, c.Text = Leaks, fmt.Sprintf("Each is to have a copy of their own, but %s came from one that is for all.", named(cached))
	case c.Policy == Never && len(owned) > 0:
		c.Trouble, c.Text = Opens, fmt.Sprintf("Never to be served from the cache, but %s came from a copy of their own.", named(owned))
	case c.Policy != Shared && len(open) > 0:
		c.Trouble, c.Text = Opens, fmt.Sprintf("%s, but the settings let one copy of %s be cached for all.", map[Policy]string{Never: "Never to be served from the cache", Own: "Each has a copy of their own"}[c.Policy], named(open))
	case c.Policy == Shared && never:
		c.Trouble, c.Text = Wasted, "May be cached for all, but the settings never hold it."
	case c.Policy == Never:
		c.Text = "Never served from the cache, and the settings see to it."
	case c.Policy == Own:
		c.Text = "Each has a copy of their own."
	default:
		c.Text = "Cached for all."
	}
}

func named(paths []string) string {
	if len(paths) > 2 {
		return fmt.Sprintf("%s and %d more", paths[0], len(paths)-1)
	}
	return strings.Join(paths, " and ")
}
