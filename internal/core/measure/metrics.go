// Package measure says whether one side loads faster than another, beyond noise: which metrics there
// are, how many runs it takes, what counts as a difference, and what came of it in one sentence.
package measure

import (
	"cmp"
	"strings"
	"time"

	"tidemarker/internal/core/site"
)

// Metric is something that is measured of a page load, by the name that reports have.
type Metric string

// The metrics.
const (
	FirstByte   Metric = "first-byte"
	FirstPaint  Metric = "first-contentful-paint"
	Largest     Metric = "largest-contentful-paint"
	LayoutShift Metric = "layout-shift"
	Blocking    Metric = "total-blocking-time"
	Complete    Metric = "visually-complete"
	Interaction Metric = "interaction-delay"
	Loaded      Metric = "load"
	Transferred Metric = "transferred"
	Content     Metric = "content"
	Requests    Metric = "requests"
)

// Definition is what is known of a metric. Of all of them less is better.
type Definition struct {
	Metric Metric
	Title  string
	Unit   string  // ms, bytes, or 1
	Good   float64 // up to which it is good, and above which it is poor; 0 when nothing is published
	Poor   float64
	// Matters is the smallest difference that somebody would care about: this much, and this part of
	// what it was before (common practice).
	Matters     float64
	MattersPart float64
	Main        bool // runs go on until it is decided
}

// Definitions are all metrics, in the order in which they are told. The thresholds are those of web.dev
// for the vitals, and of its lab tools for the blocking time (from memory); the interaction delay has those
// of the interaction to next paint.
var Definitions = []Definition{
	{Largest, "largest paint", "ms", 2500, 4000, 50, 0.05, true},
	{FirstPaint, "first paint", "ms", 1800, 3000, 50, 0.05, true},
	{LayoutShift, "layout shift", "1", 0.1, 0.25, 0.01, 0, false},
	{Blocking, "blocking time", "ms", 200, 600, 20, 0.1, false},
	{Interaction, "interaction delay", "ms", 200, 500, 24, 0.1, false},
	{Complete, "visually complete", "ms", 0, 0, 50, 0.05, false},
	{FirstByte, "first byte", "ms", 800, 1800, 20, 0.05, false},
	{Loaded, "load", "ms", 0, 0, 50, 0.05, false},
	{Transferred, "transferred", "bytes", 0, 0, 2000, 0.02, false},
	{Content, "content", "bytes", 0, 0, 5000, 0.02, false},
	{Requests, "requests", "1", 0, 0, 1, 0, false},
}

// Of is the definition of a metric.
func Of(m Metric) Definition {
	for _, d := range Definitions {
		if d.Metric == m {
			return d
		}
	}
	return Definition{Metric: m, Title: string(m), Unit: "1"}
}

// Rating puts a value against the published thresholds.
type Rating string

// The ratings; none where nothing is published.
const (
	NoRating Rating = ""
	Good     Rating = "good"
	Middling Rating = "needs improvement"
	Poor     Rating = "poor"
)

// Rate rates a value of a metric.
func (d Definition) Rate(value float64) Rating {
	switch {
	case d.Poor == 0:
		return NoRating
	case value <= d.Good:
		return Good
	case value <= d.Poor:
		return Middling
	}
	return Poor
}

// Smallest is the smallest difference that counts from a value on.
func (d Definition) Smallest(before float64) float64 { return max(d.Matters, d.MattersPart*before) }

// Side is with which settings a page was loaded.
type Side string

// The sides.
const (
	Before Side = "before" // with the earlier settings
	After  Side = "after"  // with the change
)

// Visit is whether the browser has been there before.
type Visit string

// The visits.
const (
	First  Visit = "first"  // with an empty browser cache
	Repeat Visit = "repeat" // with what the first visit left in it
)

// Case is in what circumstances something was measured; only loads of one case are compared.
type Case struct {
	Device   string `json:"device" enum:"desktop,phone"`
	Persona  string `json:"persona"`
	Visit    Visit  `json:"visit" enum:"first,repeat"`
	Uncached bool   `json:"uncached,omitempty" doc:"The page was asked for such that no page cache answers."`
}

// Usual tells whether a stranger comes for the first time and is served from the page cache.
func (c Case) Usual() bool { return c.Visit != Repeat && !c.Uncached && c.Persona == site.Visitor }

// String is a case in words, such as "phone, repeat visit".
func (c Case) String() string {
	text := c.Device
	if c.Persona != "" && c.Persona != site.Visitor {
		text += ", " + c.Persona
	}
	if c.Visit == Repeat {
		text += ", repeat visit"
	}
	if c.Uncached {
		text += ", not from the page cache"
	}
	return text
}

func (c Case) order(o Case) int {
	rank := func(c Case) int {
		n := 0
		if c.Persona != site.Visitor {
			n += 4
		}
		if c.Uncached {
			n += 2
		}
		if c.Visit == Repeat {
			n++
		}
		return n
	}
	return cmp.Or(cmp.Compare(rank(c), rank(o)), strings.Compare(c.Persona, o.Persona), strings.Compare(c.Device, o.Device))
}

// Load is one page load that was measured, or one journey.
type Load struct {
	Side    Side   `json:"side" enum:"before,after"`
	Round   int    `json:"round" doc:"From 1; each has both sides."`
	Page    string `json:"page"`
	Journey string `json:"journey,omitempty" doc:"That was taken, from the page on; then only the interaction delay was measured."`
	Case
	Values  map[Metric]float64 `json:"values"`
	Served  string             `json:"served" doc:"How the page was served."`
	Dropped string             `json:"dropped,omitempty" doc:"Why it does not count; empty when it does."`
	Element string             `json:"element,omitempty" doc:"What was painted largest; of a journey, what took longest to react."`
	Moved   []string           `json:"moved,omitempty" doc:"What moved in the worst window of shifts."`
	Window  *ShiftWindow       `json:"window,omitempty" doc:"The session window of shifts whose sum is the layout shift; absent when nothing moved."`
	Marked  []Mark             `json:"marked,omitempty" doc:"Where those elements are in the window when everything is there."`
	Film    []Frame            `json:"film,omitempty" doc:"How the page came into view."`
	Width   int                `json:"width,omitempty" doc:"Of the window, in pixels."`
	Height  int                `json:"height,omitempty"`
	Began   *time.Time         `json:"began,omitempty"`
	Read    float64            `json:"read,omitempty" doc:"Milliseconds until the document was read to its end."`
	Effort  float64            `json:"effort" doc:"How long the machine took for a fixed piece of work just before the side's loads, in milliseconds."`
}

// ShiftWindow is a session window of layout shifts.
type ShiftWindow struct {
	From   float64 `json:"from" doc:"Milliseconds since the navigation began, of its first shift."`
	To     float64 `json:"to" doc:"Of its last shift."`
	Shifts int     `json:"shifts" doc:"How many."`
}

// Mark is where an element is that a metric is about.
type Mark struct {
	Metric Metric     `json:"metric" enum:"largest-contentful-paint,layout-shift"`
	Name   string     `json:"name"`
	Box    [4]float64 `json:"box" doc:"Left, top, width and height in pixels of the window."`
}

// Name is what was measured: the page, or the journey.
func (l Load) Name() string {
	if l.Journey != "" {
		return l.Journey
	}
	return l.Page
}
