package measure

import (
	"slices"

	"tidemarker/internal/core/site"
)

// Scope is what a measurement measures. What is left empty is as usual: the first page of each class that
// strangers see, on each of its devices, for strangers who come for the first time and are served from the
// page cache.
type Scope struct {
	Pages    []string `json:"pages,omitempty" doc:"Paths of the test plan. Empty: of each class the first that visitors see."`
	Devices  []string `json:"devices,omitempty" doc:"Empty: all that the pages have." enum:"desktop,phone"`
	Personas []string `json:"personas,omitempty" doc:"Empty: visitors."`
	Repeat   bool     `json:"repeat,omitempty" doc:"Also with what the first visit left in the browser."`
	Uncached bool     `json:"uncached,omitempty" doc:"Also without the page cache."`
	Film     bool     `json:"film,omitempty" doc:"Also how the page comes into view."`
	Journeys []string `json:"journeys,omitempty" doc:"Journeys that are taken to see how fast pages react; none when empty."`
	Main     []Metric `json:"main,omitempty" doc:"Metrics that have to be decided. Empty: first and largest paint."`
	Rounds   int      `json:"rounds,omitempty" minimum:"0" maximum:"30" doc:"At most; 0 for 15."`
	Before   int64    `json:"before,omitempty" doc:"The measurement that it goes on from, which was not sure; then there are 30 rounds at most."`
}

// mostPages is how many pages are measured on each device when nobody says which.
const mostPages = 3

// Tasks are the pages that are loaded, out of a test plan.
func (s Scope) Tasks(plan site.Plan) []site.PageTask {
	personas := s.Personas
	if len(personas) == 0 {
		personas = []string{site.Visitor}
	}
	var out []site.PageTask
	taken := map[[3]string]bool{}
	count := map[[2]string]int{}
	for _, t := range plan.Pages {
		if !slices.Contains(personas, t.Persona) || len(s.Devices) > 0 && !slices.Contains(s.Devices, t.Device) {
			continue
		}
		if len(s.Pages) > 0 {
			if slices.Contains(s.Pages, t.Page.Path) {
				out = append(out, t)
			}
			continue
		}
		of, each := [3]string{t.Device, t.Persona, t.Page.Class}, [2]string{t.Device, t.Persona}
		if taken[of] || count[each] >= mostPages {
			continue
		}
		taken[of] = true
		count[each]++
		out = append(out, t)
	}
	return out
}

// Taken are the journeys that are taken, out of a test plan.
func (s Scope) Taken(plan site.Plan) []site.JourneyTask {
	var out []site.JourneyTask
	for _, t := range plan.Journeys {
		if slices.Contains(s.Journeys, t.Journey.Name) && (len(s.Devices) == 0 || slices.Contains(s.Devices, t.Device)) {
			out = append(out, t)
		}
	}
	return out
}

// Cases are those in which one page is loaded on each side of a round, in that order.
func (s Scope) Cases(device, persona string) []Case {
	var out []Case
	if s.Uncached {
		out = append(out, Case{Device: device, Persona: persona, Visit: First, Uncached: true})
	}
	out = append(out, Case{Device: device, Persona: persona, Visit: First})
	if s.Repeat {
		out = append(out, Case{Device: device, Persona: persona, Visit: Repeat})
	}
	return out
}

// LoadsOf is how many loads one page brings on each side of a round.
func (s Scope) LoadsOf() int { return len(s.Cases("", "")) }

// Limit is after how many rounds it ends, whatever is shown by then.
func (s Scope) Limit() int {
	limit := Usual
	if s.Before > 0 {
		limit = Looks[len(Looks)-1]
	}
	if s.Rounds > 0 {
		limit = min(Looks[len(Looks)-1], s.Rounds)
	}
	return limit
}
