package site

import (
	"slices"
	"strings"
	"time"

	"tidemarker/internal/core/journey"
)

// PageTask is one page to be looked at by one persona on one device.
type PageTask struct {
	Page    Page   `json:"page"`
	Persona string `json:"persona"`
	Device  string `json:"device"`
	// Ask is the path to ask for in place of the page's, to be answered by a page that is
	// generated fresh; "" asks for the page's.
	Ask string `json:"-"`
	// Clock is what the browser's clock says when the page begins to come; the real time
	// when zero. The same in every look that is to be compared.
	Clock time.Time `json:"-"`
}

// Address is the path that is asked for.
func (t PageTask) Address() string {
	if t.Ask != "" {
		return t.Ask
	}
	return t.Page.Path
}

// Uncached is a path with a parameter that no page has, so that no cached copy answers.
func Uncached(path, token string) string {
	path, fragment, marked := strings.Cut(path, "#")
	join := "?"
	if strings.Contains(path, "?") {
		join = "&"
	}
	path += join + "tide-marker-look=" + token
	if marked {
		path += "#" + fragment
	}
	return path
}

// JourneyTask is one journey to be taken on one device.
type JourneyTask struct {
	Journey journey.Journey `json:"journey"`
	Device  string          `json:"device"`
}

// Plan is what one check of an environment has to look at.
type Plan struct {
	Pages    []PageTask    `json:"pages"`
	Journeys []JourneyTask `json:"journeys"`
	Others   [][2]string   `json:"-"` // who else is made ready: persona and device
}

// Size is the number of looks planned.
func (p Plan) Size() int { return len(p.Pages) + len(p.Journeys) }

// Plan lists every page × persona × device and every journey × device that may run
// on an environment. Pages come before journeys, a page's personas before the next
// page, strangers first.
func (s Site) Plan(environment string) Plan {
	var p Plan
	for _, page := range s.Pages {
		for _, who := range page.Personas {
			for _, device := range page.Devices {
				p.Pages = append(p.Pages, PageTask{Page: page, Persona: who, Device: device})
			}
		}
	}
	for _, j := range s.Journeys {
		if !j.RunsOn(environment) {
			continue
		}
		for _, device := range j.Devices {
			p.Journeys = append(p.Journeys, JourneyTask{j, device})
		}
	}
	return p
}

// Who is everybody that the plan needs, by persona and device.
func (p Plan) Who() map[[2]string]bool {
	out := map[[2]string]bool{}
	for _, t := range p.Pages {
		out[[2]string{t.Persona, t.Device}] = true
	}
	for _, t := range p.Journeys {
		out[[2]string{t.Journey.Persona, t.Device}] = true
	}
	for _, who := range p.Others {
		out[who] = true
	}
	return out
}

// Warmable are the paths of the test plan that a shared page cache may hold.
func (s Site) Warmable() []string {
	var out []string
	for _, p := range s.Pages {
		if Cacheable(p.Class) && slices.Contains(p.Personas, Visitor) && !slices.Contains(out, p.Path) {
			out = append(out, p.Path)
		}
	}
	return out
}
