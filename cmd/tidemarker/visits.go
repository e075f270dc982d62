package main

import (
	"context"
	"strings"
	"time"

	corefield "tidemarker/internal/core/field"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/field"
	"tidemarker/internal/standin/traffic"
	"tidemarker/internal/store"
)

// visitDays is how many days of made-up page views the demo has.
const visitDays = 130

// makeVisits gives the demo's sites months of made-up page views, up to a moment: faster from each promotion on, as it was
// before from each rollback on.
func makeVisits(ctx context.Context, st *store.Store, now time.Time) error {
	rows, _, err := st.Sites(ctx, "", 100, 0)
	if err != nil {
		return err
	}
	desk := field.Desk{Store: st}
	for i, row := range rows {
		plan := traffic.Plan{Seed: uint64(row.ID), PerDay: 260 - 90*(i%2), From: now.AddDate(0, 0, -visitDays), To: now, Largest: 860 + 240*float64(i%2)}
		doc := row.Document.V
		for _, p := range doc.Pages {
			path, _, _ := strings.Cut(p.Path, "?")
			plan.Paths = append(plan.Paths, path)
		}
		if len(plan.Paths) == 0 {
			continue
		}
		done, err := st.Promotions(ctx, row.ID, time.Time{})
		if err != nil {
			return err
		}
		for _, p := range done {
			step := traffic.Step{At: p.At, Factor: 0.88, React: 0.8}
			if p.Kind != "promote" {
				step.Factor, step.React = 1/step.Factor, 1/step.React
			}
			plan.Steps = append(plan.Steps, step)
		}
		var visits []store.Visit
		for _, v := range traffic.Visits(plan) {
			steps := map[measure.Metric]int{}
			for name, value := range v.Metrics {
				m := corefield.Metrics[name].Metric
				steps[m] = corefield.Step(m, value)
			}
			visits = append(visits, store.Visit{At: v.At, SiteID: row.ID, Class: corefield.ClassOf(doc.Pages, v.Path), Device: v.Device, Steps: steps})
		}
		if err := desk.Add(ctx, visits); err != nil {
			return err
		}
	}
	return nil
}
