package field

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"tidemarker/internal/core/field"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/store"
)

// Asked is what of a site's field data is to be shown.
type Asked struct {
	Metric measure.Metric `query:"metric" enum:"largest-contentful-paint,interaction-delay,layout-shift,first-contentful-paint,first-byte" default:"largest-contentful-paint"`
	Device string         `query:"device" enum:"desktop,phone" default:"phone"`
	Class  string         `query:"class" doc:"Of pages; empty: all."`
	Days   int            `query:"days" minimum:"7" maximum:"800" default:"90"`
}

// Day is one day of a chart.
type Day struct {
	Day string `json:"day" doc:"As 2026-11-27, in UTC."`
	field.Level
}

// FileDay is one day as a file has it.
type FileDay struct {
	Day    string  `json:"day"`
	P75    float64 `json:"p75"`
	Visits int     `json:"visits,omitempty"`
}

// ClassLevel is how fast the pages of a class were lately.
type ClassLevel struct {
	Class string `json:"class"`
	field.Level
}

// Event is a promotion or rollback, and what it did to visitors.
type Event struct {
	store.Promoted
	Effect field.Effect `json:"effect"`
	Days   int          `json:"days" doc:"Whole days that were compared on each side."`
}

// View is a site's field data of one metric and device.
type View struct {
	Metric  measure.Metric `json:"metric" enum:"largest-contentful-paint,interaction-delay,layout-shift,first-contentful-paint,first-byte"`
	Title   string         `json:"title"`
	Unit    string         `json:"unit" enum:"ms,1"`
	Good    float64        `json:"good" doc:"Up to which it is good, by what is published."`
	Poor    float64        `json:"poor" doc:"Above which it is poor."`
	From    string         `json:"from"`
	To      string         `json:"to"`
	Days    []Day          `json:"days" doc:"By what visitors' browsers told; days without page views are left out."`
	File    []FileDay      `json:"file" doc:"By a file that was read."`
	Lately  *field.Level   `json:"lately,omitempty" doc:"Of the last 28 days."`
	Classes []ClassLevel   `json:"classes" doc:"Of the last 28 days, the slowest first."`
	Events  []Event        `json:"events" doc:"What was promoted and rolled back, in order."`
}

// lately is how many days count as now.
const lately = 28

// View shows a site's field data up to a moment.
func (d *Desk) View(ctx context.Context, siteID int64, ask Asked, now time.Time) (View, error) {
	if _, err := d.Store.Site(ctx, siteID); err != nil {
		return View{}, err
	}
	def := measure.Of(ask.Metric)
	to := now.UTC().Truncate(24 * time.Hour)
	from := to.AddDate(0, 0, 1-ask.Days)
	v := View{Metric: ask.Metric, Title: def.Title, Unit: def.Unit, Good: def.Good, Poor: def.Poor, From: from.Format(time.DateOnly), To: to.Format(time.DateOnly), Days: []Day{}, File: []FileDay{}, Classes: []ClassLevel{}, Events: []Event{}}
	read := from
	if early := to.AddDate(0, 0, 1-lately); early.Before(read) {
		read = early
	}
	// Before the first promotion of the chart there have to be days to hold it against.
	rows, err := d.Store.FieldDays(ctx, siteID, ask.Metric, ask.Device, read.AddDate(0, 0, -4*field.Week))
	if err != nil {
		return v, err
	}
	sums := v.sum(rows, ask, from, to)
	days := sums.days
	for _, day := range slices.SortedFunc(maps.Keys(days), time.Time.Compare) {
		if l := days[day].Level(ask.Metric); l != nil && !day.Before(from) {
			v.Days = append(v.Days, Day{day.Format(time.DateOnly), *l})
		}
	}
	v.Lately = sums.recent.Level(ask.Metric)
	v.Classes = append(v.Classes, sums.levels(ask.Metric)...)
	promoted, err := d.Store.Promotions(ctx, siteID, from)
	if err != nil {
		return v, err
	}
	for i := range promoted {
		e := effectOf(ask.Metric, days, promoted, i, to)
		e.Effect.Class, e.Effect.Device = ask.Class, ask.Device
		v.Events = append(v.Events, e)
	}
	return v, nil
}

// summed is what days come to: each by itself, lately, and by the class of pages.
type summed struct {
	days    map[time.Time]field.Histogram
	recent  field.Histogram
	classes map[string]field.Histogram
}

// sum adds up what was asked for, and takes what came from a file as it is.
func (v *View) sum(rows []store.FieldDay, ask Asked, from, to time.Time) summed {
	out := summed{map[time.Time]field.Histogram{}, field.Histogram{}, map[string]field.Histogram{}}
	for _, r := range rows {
		chosen := ask.Class == "" || r.Class == ask.Class
		if r.Source != "beacon" {
			if chosen && r.P75 != nil && !r.Day.Before(from) && (ask.Class != "" || r.Class == "") {
				v.File = append(v.File, FileDay{r.Day.Format(time.DateOnly), *r.P75, r.Visits})
			}
			continue
		}
		if !r.Day.Before(to.AddDate(0, 0, 1-lately)) {
			if out.classes[r.Class] == nil {
				out.classes[r.Class] = field.Histogram{}
			}
			out.classes[r.Class].Add(r.Steps)
			if chosen {
				out.recent.Add(r.Steps)
			}
		}
		if !chosen {
			continue
		}
		if out.days[r.Day] == nil {
			out.days[r.Day] = field.Histogram{}
		}
		out.days[r.Day].Add(r.Steps)
	}
	return out
}

// levels are those of the classes, the slowest first.
func (s summed) levels(m measure.Metric) []ClassLevel {
	var out []ClassLevel
	for class, h := range s.classes {
		if l := h.Level(m); l != nil {
			out = append(out, ClassLevel{class, *l})
		}
	}
	slices.SortFunc(out, func(a, b ClassLevel) int { return cmp.Or(cmp.Compare(b.P75, a.P75), strings.Compare(a.Class, b.Class)) })
	return out
}

// effectOf holds the whole days after a promotion against those before it, up to the promotions beside it, in which other
// settings were in force.
func effectOf(m measure.Metric, days map[time.Time]field.Histogram, promoted []store.Promoted, i int, today time.Time) Event {
	at := promoted[i].At.UTC().Truncate(24 * time.Hour)
	first, last := at.AddDate(0, 0, -4*field.Week), today.AddDate(0, 0, -1)
	for n, p := range promoted {
		other := p.At.UTC().Truncate(24 * time.Hour)
		if n < i && !other.Before(first) {
			first = other.AddDate(0, 0, 1)
		}
		if n > i && other.Add(-24*time.Hour).Before(last) {
			last = other.AddDate(0, 0, -1)
		}
	}
	span := field.Span(int(at.Sub(first)/(24*time.Hour)), int(last.Sub(at)/(24*time.Hour)))
	before, after := field.Histogram{}, field.Histogram{}
	for n := 1; n <= span; n++ {
		before.Add(days[at.AddDate(0, 0, -n)])
		after.Add(days[at.AddDate(0, 0, n)])
	}
	e := Event{promoted[i], field.Compare(m, before, after), max(0, span)}
	if span <= 0 {
		e.Effect.Why = "No whole day has passed since, until the next one."
		if at.Equal(today) || at.AddDate(0, 0, 1).Equal(today) {
			e.Effect.Why = "No whole day has passed since."
		}
	}
	return e
}
