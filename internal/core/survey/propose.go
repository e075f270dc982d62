package survey

import (
	"fmt"
	"slices"
	"strings"

	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/site"
)

// Found is a page of the survey with what was made of it.
type Found struct {
	Observation
	Suggestion
	Watch bool `json:"watch"`
}

// perClass is how many pages of each class a watch list has: every class is covered,
// and no site has 5,000 products watched.
var perClass = map[string]int{"home": 1, "listing": 2, "item": 2, "cart": 1, "checkout": 1, "account": 1, "membership": 2, "article": 2, "search": 1, "form": 2, "other": 2}

// WatchList marks the few pages that are worth watching. Shorter addresses come first;
// pages that did not answer are left out.
func WatchList(pages []Found) []Found {
	out := slices.Clone(pages)
	order := make([]int, len(out))
	for i := range order {
		order[i] = i
		out[i].Watch = false
	}
	slices.SortStableFunc(order, func(a, b int) int {
		if d := strings.Count(out[a].Path, "?") - strings.Count(out[b].Path, "?"); d != 0 {
			return d
		}
		return len(out[a].Path) - len(out[b].Path)
	})
	taken := map[string]int{}
	for _, i := range order {
		p := &out[i]
		if p.Status != 200 || taken[p.Class] >= perClass[p.Class] {
			continue
		}
		taken[p.Class]++
		p.Watch = true
	}
	return out
}

// Personas proposes who looks besides a stranger: somebody who signs in, where there
// is a form for it. Name and password are left for a person to fill in.
func Personas(pages []Found) []site.Persona {
	for _, p := range pages {
		for _, f := range p.Forms {
			if !f.SignsIn() {
				continue
			}
			member := site.Persona{Name: "member", Kind: "member", Prepare: []journey.Step{{Go: p.Path}}}
			for _, x := range f.Fields {
				member.Prepare = append(member.Prepare, journey.Step{Fill: &journey.Input{In: journey.Target{Label: x.Label}, Value: "…"}})
			}
			member.Prepare = append(member.Prepare, journey.Step{Click: &journey.Target{Role: "button", Name: f.Button}})
			return []site.Persona{member}
		}
	}
	return []site.Persona{}
}

// Journeys proposes what has to work, from what was found: the menu on a phone,
// search, into the cart, a message. Those that order or write stay on staging.
func Journeys(pages []Found) []journey.Journey {
	out := []journey.Journey{}
	add := func(j journey.Journey) {
		if !slices.ContainsFunc(out, func(o journey.Journey) bool { return o.Name == j.Name }) {
			j.Persona = site.Visitor
			out = append(out, j)
		}
	}
	both := []string{site.Desktop, site.Phone}
	for _, p := range pages {
		if p.Status != 200 {
			continue
		}
		if p.Menu != "" && p.MenuLink != "" {
			add(journey.Journey{Name: "the phone menu opens", Devices: []string{site.Phone}, Steps: []journey.Step{
				{Go: p.Path}, {Click: &journey.Target{Role: "button", Name: p.Menu}}, {Expect: &journey.Expect{Visible: &journey.Target{Role: "link", Name: p.MenuLink}}}}})
		}
		for _, f := range p.Forms {
			switch {
			case f.Buys():
				add(journey.Journey{Name: "into the cart", Devices: both, Where: []string{"staging"}, Steps: []journey.Step{
					{Go: p.Path}, {Click: &journey.Target{Role: "button", Name: f.Button}}, {Expect: &journey.Expect{URL: f.Action}}}})
			case f.Searches() && !f.SignsIn() && len(f.Fields) > 0:
				add(journey.Journey{Name: "search answers", Devices: both, Steps: []journey.Step{
					{Go: p.Path}, {Fill: &journey.Input{In: journey.Target{Label: f.Fields[0].Label}, Value: "a"}}, {Press: "Enter"}, {Expect: &journey.Expect{Status: 200}}}})
			case f.Writes():
				j := journey.Journey{Name: "a message is sent", Devices: both, Where: []string{"staging"}, Steps: []journey.Step{{Go: p.Path}}}
				for _, x := range f.Fields {
					j.Steps = append(j.Steps, journey.Step{Fill: &journey.Input{In: journey.Target{Label: x.Label}, Value: sample(x)}})
				}
				j.Steps = append(j.Steps, journey.Step{Click: &journey.Target{Role: "button", Name: f.Button}}, journey.Step{Expect: &journey.Expect{Status: 200}})
				add(j)
			}
		}
	}
	return out
}

// sample is something to fill in.
func sample(f Field) string {
	switch f.Type {
	case "email":
		return "tide@example.org"
	case "number":
		return "1"
	case "textarea":
		return "A message that a check of this site writes."
	}
	return fmt.Sprintf("Tide %s", strings.ToLower(f.Name))
}

// Document makes the site's document of what was confirmed.
func Document(name string, envs []site.Environment, pages []Found, personas []site.Persona, journeys []journey.Journey) site.Site {
	doc := site.Site{Name: name, Environments: envs, Personas: personas, Journeys: journeys, Pages: []site.Page{}}
	for _, p := range pages {
		if !p.Watch {
			continue
		}
		page := site.Page{Path: p.Path, Class: p.Class, Personas: []string{site.Visitor}, Devices: []string{site.Desktop, site.Phone}}
		if !site.Held(p.Class) {
			for _, who := range personas {
				page.Personas = append(page.Personas, who.Name)
			}
		}
		doc.Pages = append(doc.Pages, page)
	}
	return doc
}
