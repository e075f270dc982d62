package measure

import (
	"fmt"
	"slices"

	"tidemarker/internal/core/site"
	"tidemarker/internal/core/stats"
)

// Kept is whether a budget is kept.
type Kept string

// The outcomes.
const (
	Held     Kept = "held"
	Exceeded Kept = "exceeded"
	Unsure   Kept = "not sure"
)

// BudgetResult is what became of a budget on one page and device.
type BudgetResult struct {
	Budget  string  `json:"budget" doc:"In words."`
	Page    string  `json:"page"`
	Device  string  `json:"device" enum:"desktop,phone"`
	Outcome Kept    `json:"outcome" enum:"held,exceeded,not sure"`
	Held    bool    `json:"held" doc:"It is not exceeded, as far as is known."`
	Was     bool    `json:"was,omitempty" doc:"It was exceeded without the change, too."`
	Metric  Metric  `json:"metric" enum:"first-byte,first-contentful-paint,largest-contentful-paint,layout-shift,total-blocking-time,visually-complete,load,transferred,content,requests"`
	Unit    string  `json:"unit" enum:"ms,bytes,1"`
	Value   float64 `json:"value" doc:"Median with the change."`
	Limit   float64 `json:"limit"`
	Loads   int     `json:"loads"`
	Why     string  `json:"why"`
}

// Text is a budget in words.
func budgetText(b site.Budget) string {
	d := Of(Metric(b.Metric))
	text := d.Title
	if b.Most != nil {
		text += " at most " + Shown(d.Unit, *b.Most)
	} else if b.Over != nil {
		text += fmt.Sprintf(" at most %.0f %% over the mark", *b.Over*100)
	}
	if b.Class != "" {
		text += ", pages of the class " + b.Class
	}
	if b.Device != "" {
		text += ", on a " + b.Device
	}
	return text
}

// Budgets holds loads against budgets: those of strangers who come for the first time. A budget is exceeded when the
// interval in which the median lies is above it, held when that is not above it, and else nobody can be sure. Against
// the mark it is the interval of the difference from the loads before. class gives a page's class.
func Budgets(budgets []site.Budget, loads []Load, class func(page string) string) []BudgetResult {
	use := slices.DeleteFunc(slices.Clone(loads), func(l Load) bool { return l.Dropped != "" || l.Journey != "" || !l.Usual() })
	var out []BudgetResult
	for _, b := range budgets {
		d := Of(Metric(b.Metric))
		for _, of := range Cases(use) {
			byPage := pagesOf(use, of)
			var pages []string
			for _, l := range use {
				if l.Case == of && !slices.Contains(pages, l.Page) {
					pages = append(pages, l.Page)
				}
			}
			for _, page := range pages {
				s := byPage[page][d.Metric]
				if b.Device != "" && b.Device != of.Device || b.Class != "" && class(page) != b.Class || len(s.after) == 0 {
					continue
				}
				out = append(out, holds(b, d, page, of.Device, s))
			}
		}
	}
	return out
}

func holds(b site.Budget, d Definition, page, device string, s sample) BudgetResult {
	r := BudgetResult{Budget: budgetText(b), Page: page, Device: device, Metric: d.Metric, Unit: d.Unit, Value: stats.Median(s.after), Loads: len(s.after)}
	var low, high, was float64
	if b.Most != nil {
		r.Limit = *b.Most
		low, high = stats.MedianInterval(s.after)
		if len(s.before) > 0 {
			was, _ = stats.MedianInterval(s.before)
			r.Was = was > r.Limit
		}
		r.Why = fmt.Sprintf("%s, between %s and %s over %d loads; at most %s.", Shown(d.Unit, r.Value), Shown(d.Unit, low), Shown(d.Unit, high), r.Loads, Shown(d.Unit, r.Limit))
	} else {
		if len(s.before) == 0 {
			r.Outcome, r.Held, r.Why = Unsure, true, "There is no measurement of the mark."
			return r
		}
		before := stats.Median(s.before)
		r.Limit = before * (1 + *b.Over)
		shift := stats.HodgesLehmann(s.before, s.after, 1-Alpha)
		low, high = before+shift.Low, before+shift.High
		r.Why = fmt.Sprintf("%s, was %s (%s to %s); at most %s.", Shown(d.Unit, r.Value), Shown(d.Unit, before), Signed(d.Unit, shift.Low), Signed(d.Unit, shift.High), Shown(d.Unit, r.Limit))
	}
	switch {
	case low > r.Limit:
		r.Outcome = Exceeded
	case high <= r.Limit:
		r.Outcome = Held
	default:
		r.Outcome = Unsure
	}
	r.Held = r.Outcome != Exceeded
	return r
}
