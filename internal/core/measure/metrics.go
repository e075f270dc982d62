// Package measure says whether one side loads faster than another, beyond noise: which metrics there
// are, how many runs it takes, what counts as a difference, and what came of it in one sentence.
package measure

// Metric is something that is measured of a page load, by the name that reports have.
type Metric string

// The metrics.
const (
	FirstByte   Metric = "first-byte"
	FirstPaint  Metric = "first-contentful-paint"
	Largest     Metric = "largest-contentful-paint"
	LayoutShift Metric = "layout-shift"
	Blocking    Metric = "total-blocking-time"
	Loaded      Metric = "load"
	Transferred Metric = "transferred"
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
// for the vitals, and of its lab tools for the blocking time (from memory).
var Definitions = []Definition{
	{Largest, "largest paint", "ms", 2500, 4000, 50, 0.05, true},
	{FirstPaint, "first paint", "ms", 1800, 3000, 50, 0.05, true},
	{LayoutShift, "layout shift", "1", 0.1, 0.25, 0.01, 0, false},
	{Blocking, "blocking time", "ms", 200, 600, 20, 0.1, false},
	{FirstByte, "first byte", "ms", 800, 1800, 20, 0.05, false},
	{Loaded, "load", "ms", 0, 0, 50, 0.05, false},
	{Transferred, "transferred", "bytes", 0, 0, 2000, 0.02, false},
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

// matters is the smallest difference that counts from a value on.
func (d Definition) matters(before float64) float64 { return max(d.Matters, d.MattersPart*before) }

// Side is with which settings a page was loaded.
type Side string

// The sides.
const (
	Before Side = "before" // with the earlier settings
	After  Side = "after"  // with the change
)

// Load is one page load that was measured.
type Load struct {
	Side    Side               `json:"side" enum:"before,after"`
	Round   int                `json:"round" doc:"From 1; each has both sides."`
	Page    string             `json:"page"`
	Persona string             `json:"persona"`
	Device  string             `json:"device"`
	Values  map[Metric]float64 `json:"values"`
	Served  string             `json:"served" doc:"How the page was served."`
	Dropped string             `json:"dropped,omitempty" doc:"Why it does not count; empty when it does."`
	Element string             `json:"element,omitempty" doc:"What was painted largest."`
	Moved   []string           `json:"moved,omitempty" doc:"What moved in the worst window of shifts."`
	Effort  float64            `json:"effort" doc:"How long the machine took for a fixed piece of work just before the side's loads, in milliseconds."`
}
