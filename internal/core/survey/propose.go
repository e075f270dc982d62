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

// Wanted says which found pages are meant; what is empty leaves nothing out.
type Wanted struct {
	Text  string `json:"q,omitempty" maxLength:"200" doc:"Part of an address or title, in any case."`
	Class string `json:"class,omitempty" enum:",home,listing,item,cart,checkout,account,membership,article,search,form,other"`
	Watch bool   `json:"watch,omitempty" doc:"Only pages of the test plan."`
}

// Matches tells whether a page is among those that are meant.
func (w Wanted) Matches(f Found) bool {
	text := strings.ToLower(strings.TrimSpace(w.Text))
	return (w.Class == "" || f.Class == w.Class) && (!w.Watch || f.Watch) &&
		(text == "" || strings.Contains(strings.ToLower(f.Path), text) || strings.Contains(strings.ToLower(f.Title), text))
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
			return []site.Persona{{Name: "member", Kind: "member", Prepare: signIn(p.Path, f)}}
		}
	}
	return []site.Persona{}
}

// signIn are the steps of signing in with a form; a person puts name and password in.
func signIn(path string, f Form) []journey.Step {
	name := func(x Field) string {
		if x.Type == "password" {
			return "" // a site is not registered without it
		}
		return "…"
	}
	return append(fill([]journey.Step{{Go: path}}, f, name),
		journey.Step{Click: &journey.Target{Role: "button", Name: f.Button}})
}

// fill appends a step for each field of a form.
func fill(steps []journey.Step, f Form, with func(Field) string) []journey.Step {
	for _, x := range f.Fields {
		in := journey.Target{Label: x.Label}
		if x.Label == "" {
			in = journey.Target{CSS: fmt.Sprintf("[name=%q]", x.Name)}
		}
		steps = append(steps, journey.Step{Fill: &journey.Input{In: in, Value: with(x), Secret: x.Type == "password"}})
	}
	return steps
}

// upToPaying goes from a page that sells something into the cart and on to the
// checkout, fills it in and stops before it is sent: what must be there is the button.
func upToPaying(item Found, buy Form, checkout Found) journey.Journey {
	j := journey.Journey{Name: "up to paying", Devices: []string{site.Desktop, site.Phone}, Where: []string{"staging"}, Steps: []journey.Step{
		{Go: item.Path}, {Click: &journey.Target{Role: "button", Name: buy.Button}}, {Expect: &journey.Expect{URL: buy.Action}}, {Go: checkout.Path}, {Expect: &journey.Expect{URL: checkout.Path, Status: 200}}}}
	for _, f := range checkout.Forms {
		if f.Post && !f.SignsIn() && f.Button != "" && len(f.Fields) > 0 {
			j.Steps = append(fill(j.Steps, f, sample), journey.Step{Expect: &journey.Expect{Visible: &journey.Target{Role: "button", Name: f.Button}}})
			break
		}
	}
	return j
}

// Journeys proposes what has to work, from what was found: the menu on a phone,
// search, into the cart, up to paying, signing in, a message. Those that order, sign
// in or write stay on staging.
func Journeys(pages []Found) []journey.Journey {
	out := []journey.Journey{}
	add := func(j journey.Journey) {
		if !slices.ContainsFunc(out, func(o journey.Journey) bool { return o.Name == j.Name }) {
			j.Persona = site.Visitor
			out = append(out, j)
		}
	}
	both := []string{site.Desktop, site.Phone}
	checkout := slices.IndexFunc(pages, func(p Found) bool { return p.Class == "checkout" && p.Status == 200 })
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
				if checkout >= 0 {
					add(upToPaying(p, f, pages[checkout]))
				}
			case f.SignsIn():
				hidden := journey.Target{CSS: "input[type=password]"}
				add(journey.Journey{Name: "signing in", Devices: both, Where: []string{"staging"}, Steps: append(signIn(p.Path, f),
					journey.Step{Expect: &journey.Expect{Status: 200, Hidden: &hidden}})})
			case f.Searches() && len(f.Fields) > 0:
				add(journey.Journey{Name: "search answers", Devices: both, Steps: []journey.Step{
					{Go: p.Path}, {Fill: &journey.Input{In: journey.Target{Label: f.Fields[0].Label}, Value: "a"}}, {Press: "Enter"}, {Expect: &journey.Expect{Status: 200}}}})
			case f.Writes():
				j := journey.Journey{Name: "a message is sent", Devices: both, Where: []string{"staging"}, Steps: fill([]journey.Step{{Go: p.Path}}, f, sample)}
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
func Document(name string, envs []site.Environment, pages []Found, personas []site.Persona, journeys []journey.Journey, edits []site.PublishingTest) site.Site {
	doc := site.Site{Name: name, Environments: envs, Personas: personas, Journeys: journeys, Publishing: edits, Pages: []site.Page{}}
	for _, p := range pages {
		if !p.Watch {
			continue
		}
		page := site.Page{Path: p.Path, Class: p.Class, Personas: []string{site.Visitor}, Devices: []string{site.Desktop, site.Phone}}
		if !site.Cacheable(p.Class) {
			for _, who := range personas {
				page.Personas = append(page.Personas, who.Name)
			}
		}
		doc.Pages = append(doc.Pages, page)
	}
	return doc
}
