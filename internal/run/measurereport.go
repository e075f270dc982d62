package run

import (
	"cmp"
	"context"
	"errors"
	"math"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/site"
	"tidemarker/internal/inspect"
	"tidemarker/internal/store"
)

// MeasureReport is what a measurement came to, as measure-report.schema.json of the contract has it.
type MeasureReport struct {
	Verdict     measure.Verdict        `json:"verdict" enum:"better,worse,mixed,no difference shown,too noisy,not measured"`
	Summary     string                 `json:"summary"`
	Comparisons []MeasuredComparison   `json:"comparisons"`
	Seconds     float64                `json:"seconds"`
	Restored    bool                   `json:"restored" doc:"Staging was read back as it was before."`
	Rounds      int                    `json:"rounds" doc:"Each loads every page once with each of the settings."`
	Limit       int                    `json:"limit" doc:"It ends after this many rounds at most."`
	Sure        bool                   `json:"sure" doc:"The main metrics are decided."`
	Before      int64                  `json:"before,omitempty" doc:"The measurement that it went on from."`
	Levels      []measure.PageLevel    `json:"levels" doc:"How fast each page is with the change, or with what is in force."`
	Turns       bool                   `json:"turns" doc:"Both sides were loaded in turns, so that drift of the machine cancels."`
	Budgets     []measure.BudgetResult `json:"budgets" doc:"Results for the site's budgets."`
	Busy        []int                  `json:"busy" doc:"Rounds that do not count, since the machine was busy with something else."`
	Dropped     []string               `json:"dropped" doc:"Why loads do not count, each reason once."`
	Profiles    map[string]string      `json:"profiles" doc:"How slow each device was made."`
}

// MeasuredComparison is one comparison of a report.
type MeasuredComparison struct {
	Metric   measure.Metric `json:"metric" enum:"first-byte,first-contentful-paint,largest-contentful-paint,layout-shift,total-blocking-time,visually-complete,interaction-delay,load,transferred,content,requests"`
	Title    string         `json:"title"`
	Unit     string         `json:"unit" enum:"ms,bytes,1"`
	Page     string         `json:"page,omitempty" doc:"Absent: over all pages that were measured."`
	Persona  string         `json:"persona"`
	Device   string         `json:"device" enum:"desktop,phone"`
	Visit    measure.Visit  `json:"visit" enum:"first,repeat" doc:"With an empty browser cache, or with what a first visit left in it."`
	Cached   bool           `json:"cached" doc:"As the page cache has it, where it may; else asked for such that it does not answer."`
	Case     string         `json:"case" doc:"In words."`
	Before   float64        `json:"before" doc:"Median."`
	After    float64        `json:"after" doc:"Median."`
	Shift    float64        `json:"shift" doc:"Hodges-Lehmann, after minus before."`
	Interval []float64      `json:"interval,omitempty" doc:"Absent while there are too few runs for one."`
	P        float64        `json:"p" doc:"Corrected for the number of comparisons."`
	Result   measure.Result `json:"result" enum:",better,worse,no difference shown,too noisy" doc:"Empty while it is not decided."`
	Rating   measure.Rating `json:"rating,omitempty" enum:"good,needs improvement,poor"`
	Good     float64        `json:"good,omitempty" doc:"Up to which it is good, where something is published."`
	Poor     float64        `json:"poor,omitempty" doc:"Above which it is poor."`
	Runs     int            `json:"runs" doc:"Counted runs a side."`
	Pages    int            `json:"pages,omitempty" doc:"Pages that by themselves differ in the same way, by at least what matters."`
	Of       int            `json:"of,omitempty"`
}

// ReportMeasure is the report of a measurement, of what is known so far while it goes on.
func ReportMeasure(ctx context.Context, s *store.Store, r store.Run) (MeasureReport, error) {
	loads, err := s.Loads(ctx, r.ID)
	if err != nil {
		return MeasureReport{}, err
	}
	row, err := s.Site(ctx, r.SiteID)
	if err != nil {
		return MeasureReport{}, err
	}
	scope := measure.Scope{}
	if r.Measures.V != nil {
		scope = *r.Measures.V
	}
	out := cameTo(row.Document.V, loads, scope.Main, r.State.Over())
	out.Summary, out.Restored, out.Turns = r.Summary, !r.Restores || r.Restored, true
	out.Limit, out.Before = scope.Limit(), scope.Before
	if len(out.Comparisons) == 0 && len(out.Levels) > 0 { // as it is, with nothing to be held against
		out.Verdict, out.Sure, out.Turns = measure.Same, true, false
	}
	if r.StartedAt != nil && r.FinishedAt != nil {
		out.Seconds = r.FinishedAt.Sub(*r.StartedAt).Seconds()
	}
	return out, nil
}

// ReportLittle is what was measured beside a mark or a check: held against what was measured before in the same run, or
// beside the mark. That was not in turns, and too little to call anything better or worse.
func ReportLittle(ctx context.Context, s *store.Store, r store.Run) (MeasureReport, error) {
	mark := int64(0)
	if r.MarkID != nil {
		m, err := s.Mark(ctx, *r.MarkID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return MeasureReport{}, err
		}
		mark = m.RunID
	}
	loads, err := inspect.LoadsOf(ctx, s, r.ID, mark)
	if err != nil {
		return MeasureReport{}, err
	}
	row, err := s.Site(ctx, r.SiteID)
	if err != nil {
		return MeasureReport{}, err
	}
	out := cameTo(row.Document.V, loads, nil, false)
	out.Restored = true
	return out, nil
}

// CompareMeasured holds what two runs measured against each other, such as two marks, production before and after a
// promotion, or two sites. That was not in turns: how long the machine took for the same work each time is told.
func CompareMeasured(ctx context.Context, s *store.Store, before, after store.Run) (MeasureReport, error) {
	var lists [2][]measure.Load
	for i, r := range []store.Run{before, after} {
		loads, err := s.Loads(ctx, r.ID)
		if err != nil {
			return MeasureReport{}, err
		}
		lists[i] = loads
	}
	row, err := s.Site(ctx, after.SiteID)
	if err != nil {
		return MeasureReport{}, err
	}
	loads := measure.Across(lists[0], lists[1])
	out := cameTo(row.Document.V, loads, nil, true)
	out.Summary, out.Restored = measure.Summarise(measure.Compare(loads)), true
	return out, nil
}

// cameTo is what some loads come to.
func cameTo(s site.Site, loads []measure.Load, main []measure.Metric, over bool) MeasureReport {
	list := measure.Compare(loads)
	out := MeasureReport{Verdict: measure.Judge(list, main...), Sure: measure.Enough(list, main...), Comparisons: []MeasuredComparison{}, Budgets: []measure.BudgetResult{}, Levels: []measure.PageLevel{}, Busy: []int{}, Dropped: []string{}, Profiles: map[string]string{}}
	out.Budgets = append(out.Budgets, measure.Budgets(s.Budgets, loads, s.ClassOf)...)
	out.Levels = append(out.Levels, measure.Levels(loads, measure.After)...)
	out.Busy = append(out.Busy, measure.Busy(loads)...)
	for _, d := range []string{site.Desktop, site.Phone} {
		out.Profiles[d] = browser.ProfileOf(d).Name
	}
	seen := map[string]bool{}
	for _, l := range loads {
		out.Rounds = max(out.Rounds, l.Round)
		if l.Dropped != "" && !seen[l.Dropped] {
			seen[l.Dropped] = true
			out.Dropped = append(out.Dropped, l.Dropped)
		}
	}
	for _, c := range list {
		m := MeasuredComparison{Metric: c.Metric, Title: c.Title, Unit: c.Unit, Page: c.Page, Persona: cmp.Or(c.Persona, site.Visitor), Device: c.Device, Visit: cmp.Or(c.Visit, measure.First), Cached: !c.Uncached, Case: c.String(), Before: c.Before, After: c.After, Shift: c.Shift,
			P: c.P, Result: c.Result, Rating: c.Rating, Runs: c.Runs, Pages: c.Pages, Of: c.Of, Good: measure.Of(c.Metric).Good, Poor: measure.Of(c.Metric).Poor}
		if !math.IsInf(c.Low, 0) && !math.IsInf(c.High, 0) {
			m.Interval = []float64{c.Low, c.High}
		}
		if m.Result == measure.Undecided && over { // nothing more comes
			m.Result = measure.TooNoisy
		}
		out.Comparisons = append(out.Comparisons, m)
	}
	return out
}
