package measure_test

import (
	"image"
	"image/color"
	"image/draw"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/site"
)

// window is a picture of which the upper part is dark and the rest white.
func window(dark float64) image.Image {
	p := image.NewRGBA(image.Rect(0, 0, 40, 100))
	draw.Draw(p, p.Bounds(), image.White, image.Point{}, draw.Src)
	draw.Draw(p, image.Rect(0, 0, 40, int(100*dark)), image.NewUniform(color.RGBA{20, 40, 60, 255}), image.Point{}, draw.Src)
	return p
}

// TestHowAPageComesIntoView develops a film of which each step is known: the curve, when it is complete, and the area above
// the curve, which is computed by hand (400·1 + 300·0.75 + 100·0.25 = 650 ms).
func TestHowAPageComesIntoView(t *testing.T) {
	film := measure.Develop([]measure.Shot{{At: 0, Picture: window(0)}, {At: 400, Picture: window(0.2)}, {At: 700, Picture: window(0.6)}, {At: 800, Picture: window(0.8)}, {At: 1200, Picture: window(0.8)}})
	var complete []float64
	for _, f := range film {
		complete = append(complete, f.Complete)
	}
	assert.InDeltaSlice(t, []float64{0, 0.25, 0.75, 1, 1}, complete, 1e-9)
	assert.Equal(t, 800.0, measure.CompleteAt(film))
	assert.InDelta(t, 650, measure.SpeedIndex(film), 1e-6)
	assert.Equal(t, []int{0, 1, 2, 4}, measure.Telling(film, 4), "what brings the most, and how it ends")

	blinks := measure.Develop([]measure.Shot{{At: 0, Picture: window(0)}, {At: 100, Picture: window(0.8)}, {At: 200, Picture: window(0.1)}, {At: 500, Picture: window(0.8)}})
	assert.Equal(t, 500.0, measure.CompleteAt(blinks), "what is there and goes again was not complete")
	assert.Empty(t, measure.Develop(nil))
	assert.Zero(t, measure.CompleteAt(nil))
	same := measure.Develop([]measure.Shot{{At: 0, Picture: window(0.5)}, {At: 90, Picture: window(0.5)}})
	assert.Equal(t, 1.0, same[0].Complete)
}

func load(side measure.Side, round int, page string, largest float64, change ...func(*measure.Load)) measure.Load {
	l := measure.Load{Side: side, Round: round, Page: page, Case: measure.Case{Device: "phone", Persona: site.Visitor, Visit: measure.First}, Values: map[measure.Metric]float64{measure.Largest: largest}, Effort: 10}
	for _, c := range change {
		c(&l)
	}
	return l
}

// TestCasesAreComparedApart: a second visit is not held against a first, and what is said names the case.
func TestCasesAreComparedApart(t *testing.T) {
	again := func(l *measure.Load) { l.Visit = measure.Repeat }
	fresh := func(l *measure.Load) { l.Uncached = true }
	var loads []measure.Load
	for round := 1; round <= 8; round++ {
		loads = append(loads, load(measure.Before, round, "/", 2000+float64(round)), load(measure.After, round, "/", 2000+float64(round)),
			load(measure.Before, round, "/", 900+float64(round), again), load(measure.After, round, "/", 400+float64(round), again),
			load(measure.Before, round, "/", 3000+float64(round), fresh), load(measure.After, round, "/", 3001+float64(round), fresh))
	}
	list := measure.Compare(loads)
	assert.Equal(t, "Phone: no difference shown. Phone, repeat visit: largest paint −500 ms (−504 ms to −496 ms). Phone, not from the page cache: no difference shown.", measure.Summarise(list))
	assert.True(t, measure.Enough(list))
	answer, _ := measure.Expectation{Metric: measure.Largest}.Answered(list)
	assert.Equal(t, measure.NotMet, answer, "a change is expected to be felt by who comes for the first time")
	assert.False(t, measure.Enough(list, measure.Blocking), "a metric that was chosen has to be measured")
}

// TestWhatStandsForAPage: the load in the middle, none that does not count, and the one with pictures.
func TestWhatStandsForAPage(t *testing.T) {
	film := func(l *measure.Load) { l.Film = []measure.Frame{{Picture: "a"}} }
	lost := func(l *measure.Load) { l.Dropped = "lost" }
	loads := []measure.Load{load(measure.After, 1, "/", 900, film), load(measure.After, 2, "/", 500), load(measure.After, 3, "/", 700), load(measure.After, 4, "/", 600, lost), load(measure.Before, 1, "/", 1)}
	of := loads[0].Case
	assert.Equal(t, 2, measure.Middle(loads, measure.After, of, "/"))
	assert.Equal(t, 0, measure.Filmed(loads, measure.After, of, "/"))
	assert.Equal(t, -1, measure.Filmed(loads, measure.Before, of, "/"))
	assert.Equal(t, -1, measure.Middle(loads, measure.After, of, "/kits"))

	across := measure.Across(loads, []measure.Load{load(measure.Before, 1, "/", 5), load(measure.Before, 2, "/", 6)})
	assert.Len(t, across, 6, "of what was measured in turns only what had the change")
	assert.Equal(t, measure.Before, across[0].Side)
	assert.Equal(t, measure.After, across[5].Side)
}

// TestWhatIsMeasured: of each class the first page, three at most, or what was asked for.
func TestWhatIsMeasured(t *testing.T) {
	var plan site.Plan
	for _, p := range []string{"/", "/kits", "/kits/2", "/post", "/cart"} {
		class := map[string]string{"/": "home", "/kits": "listing", "/kits/2": "listing", "/post": "article", "/cart": "cart"}[p]
		for _, who := range []string{site.Visitor, "rosa"} {
			for _, d := range []string{site.Desktop, site.Phone} {
				plan.Pages = append(plan.Pages, site.PageTask{Page: site.Page{Path: p, Class: class}, Persona: who, Device: d})
			}
		}
	}
	plan.Journeys = []site.JourneyTask{{Journey: journey.Journey{Name: "buy"}, Device: site.Phone}, {Journey: journey.Journey{Name: "buy"}, Device: site.Desktop}}
	paths := func(s measure.Scope) (out []string) {
		for _, t := range s.Tasks(plan) {
			out = append(out, t.Page.Path+" "+t.Persona+" "+t.Device)
		}
		return out
	}
	assert.Equal(t, []string{"/ visitor desktop", "/ visitor phone", "/kits visitor desktop", "/kits visitor phone", "/post visitor desktop", "/post visitor phone"}, paths(measure.Scope{}))
	assert.Equal(t, []string{"/kits/2 rosa phone", "/cart rosa phone"}, paths(measure.Scope{Pages: []string{"/cart", "/kits/2"}, Personas: []string{"rosa"}, Devices: []string{site.Phone}}))
	assert.Empty(t, measure.Scope{}.Taken(plan))
	assert.Len(t, measure.Scope{Journeys: []string{"buy"}, Devices: []string{site.Phone}}.Taken(plan), 1)
	assert.Equal(t, 3, measure.Scope{Repeat: true, Uncached: true}.LoadsOf())
	var cases []string
	for _, of := range (measure.Scope{Repeat: true, Uncached: true}).Cases(site.Phone, "rosa") {
		cases = append(cases, of.String())
	}
	assert.Equal(t, []string{"phone, rosa, not from the page cache", "phone, rosa", "phone, rosa, repeat visit"}, cases)
	assert.Equal(t, []int{15, 30, 6}, []int{measure.Scope{}.Limit(), measure.Scope{Before: 4}.Limit(), measure.Scope{Rounds: 6}.Limit()})
}

// TestBudgets: exceeded and held only when the whole interval says so, by class and device, absolute or over the mark; and
// whether it was so before.
func TestBudgets(t *testing.T) {
	most, over := 1000.0, 0.1
	class := func(page string) string { return map[string]string{"/": "home", "/kits": "listing"}[page] }
	loads := func(page string, before, after []float64) (out []measure.Load) {
		for i := range after {
			out = append(out, load(measure.After, i+1, page, after[i]))
			if i < len(before) {
				out = append(out, load(measure.Before, i+1, page, before[i]))
			}
		}
		return out
	}
	slow, quick, mixed := []float64{1100, 1200, 1150, 1300, 1250, 1180}, []float64{800, 820, 790, 805, 815, 830}, []float64{900, 1100, 950, 1050, 980, 1200}
	one := func(b site.Budget, list []measure.Load) measure.BudgetResult {
		got := measure.Budgets([]site.Budget{b}, list, class)
		require.Len(t, got, 1)
		return got[0]
	}
	b := site.Budget{Metric: "largest-contentful-paint", Most: &most, Class: "listing", Device: "phone"}
	r := one(b, append(loads("/kits", quick, slow), loads("/", nil, slow)...))
	assert.Equal(t, measure.Exceeded, r.Outcome)
	assert.False(t, r.Held)
	assert.False(t, r.Was)
	assert.Equal(t, "largest paint at most 1.0 s, pages of the class listing, on a phone", r.Budget)
	assert.True(t, one(b, loads("/kits", slow, slow)).Was)
	assert.Equal(t, measure.Held, one(b, loads("/kits", slow, quick)).Outcome)
	assert.Equal(t, measure.Unsure, one(b, loads("/kits", slow, mixed)).Outcome)
	assert.Empty(t, measure.Budgets([]site.Budget{{Metric: "largest-contentful-paint", Most: &most, Device: "desktop"}}, loads("/", nil, slow), class))

	b = site.Budget{Metric: "largest-contentful-paint", Over: &over}
	assert.Equal(t, measure.Exceeded, one(b, loads("/kits", quick, slow)).Outcome)
	assert.Equal(t, measure.Held, one(b, loads("/kits", slow, quick)).Outcome)
	assert.Equal(t, measure.Held, one(b, loads("/kits", quick, quick)).Outcome)
	none := one(b, loads("/kits", nil, quick))
	assert.Equal(t, measure.Unsure, none.Outcome)
	assert.Contains(t, none.Why, "no measurement of the mark")
}
