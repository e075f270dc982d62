package run

import (
	"context"
	"math"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// MeasureReport is what a measurement came to, as measure-report.schema.json of the contract has it.
type MeasureReport struct {
	Verdict     measure.Verdict      `json:"verdict" enum:"better,worse,mixed,no difference shown,too noisy,not measured"`
	Summary     string               `json:"summary"`
	Comparisons []MeasuredComparison `json:"comparisons"`
	Seconds     float64              `json:"seconds"`
	Restored    bool                 `json:"restored" doc:"Staging was read back as it was before."`
	Rounds      int                  `json:"rounds" doc:"Each loads every page once with each of the settings."`
	Busy        []int                `json:"busy" doc:"Rounds that do not count, since the machine was busy with something else."`
	Dropped     []string             `json:"dropped" doc:"Why loads do not count, each reason once."`
	Profiles    map[string]string    `json:"profiles" doc:"How slow each device was made."`
}

// MeasuredComparison is one comparison of a report.
type MeasuredComparison struct {
	Metric   measure.Metric `json:"metric" enum:"first-byte,first-contentful-paint,largest-contentful-paint,layout-shift,total-blocking-time,visually-complete,interaction-delay,load,transferred,content,requests"`
	Title    string         `json:"title"`
	Unit     string         `json:"unit" enum:"ms,bytes,1"`
	Page     string         `json:"page,omitempty" doc:"Absent: over all pages that were measured."`
	Persona  string         `json:"persona"`
	Device   string         `json:"device" enum:"desktop,phone"`
	Visit    string         `json:"visit" enum:"first,repeat"`
	Before   float64        `json:"before" doc:"Median."`
	After    float64        `json:"after" doc:"Median."`
	Shift    float64        `json:"shift" doc:"Hodges-Lehmann, after minus before."`
	Interval []float64      `json:"interval,omitempty" doc:"Absent while there are too few runs for one."`
	P        float64        `json:"p" doc:"Corrected for the number of comparisons."`
	Result   measure.Result `json:"result" enum:",better,worse,no difference shown,too noisy" doc:"Empty while it is not decided."`
	Rating   measure.Rating `json:"rating,omitempty" enum:"good,needs improvement,poor"`
	Runs     int            `json:"runs" doc:"Counted runs a side."`
	Pages    int            `json:"pages,omitempty" doc:"Pages that show the same by themselves."`
	Of       int            `json:"of,omitempty"`
}

// ReportMeasure is the report of a measurement, of what is known so far while it goes on.
func ReportMeasure(ctx context.Context, s *store.Store, r store.Run) (MeasureReport, error) {
	loads, err := s.Loads(ctx, r.ID)
	if err != nil {
		return MeasureReport{}, err
	}
	list := measure.Compare(loads)
	out := MeasureReport{Verdict: measure.Judge(list), Summary: r.Summary, Comparisons: []MeasuredComparison{}, Restored: !r.PutBack || r.Restored, Busy: []int{}, Dropped: []string{}, Profiles: map[string]string{}}
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
		m := MeasuredComparison{Metric: c.Metric, Title: c.Title, Unit: c.Unit, Page: c.Page, Persona: site.Visitor, Device: c.Device, Visit: "first", Before: c.Before, After: c.After, Shift: c.Shift,
			P: c.P, Result: c.Result, Rating: c.Rating, Runs: c.Runs, Pages: c.Pages, Of: c.Of}
		if !math.IsInf(c.Low, 0) && !math.IsInf(c.High, 0) {
			m.Interval = []float64{c.Low, c.High}
		}
		if m.Result == measure.Undecided && r.State.Over() { // nothing more comes
			m.Result = measure.TooNoisy
		}
		out.Comparisons = append(out.Comparisons, m)
	}
	if r.StartedAt != nil && r.FinishedAt != nil {
		out.Seconds = r.FinishedAt.Sub(*r.StartedAt).Seconds()
	}
	return out, nil
}
