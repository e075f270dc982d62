package inspect

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"tidemarker/internal/browser"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// forBudgets is how often a page is loaded on each side when there are budgets: fewer say nothing of a median.
const forBudgets = 6

// MeasureLittle loads the usual pages a few times with the settings in force, beside a mark or a check, so that the next one
// has something to be held against. How often the site's budgets or the tools say; without either nothing is loaded.
func (r *Inspection) MeasureLittle(ctx context.Context, side measure.Side) error {
	times := r.Little
	if len(r.Site.Budgets) > 0 {
		times = max(times, forBudgets)
	}
	m := measuring{Inspection: r, scope: measure.Scope{Film: needsFilm(r.Site.Budgets)}}
	m.tasks = few(m.scope.Tasks(r.Site.Plan(r.Env.Name)), r.Site.Budgets)
	if times == 0 || len(m.tasks) == 0 {
		return nil
	}
	before, err := r.Store.Loads(ctx, r.Run)
	if err != nil {
		return err
	}
	done := 0
	for _, l := range before {
		if l.Side == side {
			done = max(done, l.Round)
		}
	}
	r.Progress.Say(ctx, "measuring", "Measuring a little")
	if _, err := r.askUntilCached(ctx, m.cacheable()); err != nil {
		return err
	}
	for round := done + 1; round <= times; round++ {
		if err := m.aside(ctx, round, side); err != nil {
			return err
		}
	}
	return nil
}

// few are the pages that have a budget, or one on each device where there is none.
func few(tasks []site.PageTask, budgets []site.Budget) []site.PageTask {
	var out []site.PageTask
	for _, t := range tasks {
		budgeted := slices.ContainsFunc(budgets, func(b site.Budget) bool {
			return (b.Device == "" || b.Device == t.Device) && (b.Class == "" || b.Class == t.Page.Class)
		})
		another := !slices.ContainsFunc(out, func(o site.PageTask) bool { return o.Device == t.Device })
		if budgeted || len(budgets) == 0 && another {
			out = append(out, t)
		}
	}
	return out
}

// aside loads each page once, and counts none of that as looks.
func (m *measuring) aside(ctx context.Context, round int, side measure.Side) error {
	before, err := m.Store.Loads(ctx, m.Run)
	if err != nil {
		return err
	}
	return m.pages(ctx, round, side, effort(), before, func(ctx context.Context, l browser.Measured) error {
		return m.Store.SaveLoad(ctx, m.Run, l.Load, l.Requests)
	})
}

func needsFilm(budgets []site.Budget) bool {
	for _, b := range budgets {
		if measure.Metric(b.Metric) == measure.Complete {
			return true
		}
	}
	return false
}

// budgets measures with what is in force, holds that against the site's budgets, and looks with the earlier settings
// whether what is exceeded was so before: only what was not is the change's.
func (r *Inspection) budgets(ctx context.Context, g *gathering) error {
	if err := r.MeasureLittle(ctx, measure.After); err != nil || len(r.Site.Budgets) == 0 {
		return err
	}
	results, err := r.heldBudgets(ctx)
	if err != nil {
		return err
	}
	exceeded := false
	for _, b := range results {
		exceeded = exceeded || b.Outcome == measure.Exceeded && !b.Was
	}
	why := ""
	if exceeded && r.Turns.Earlier != nil {
		if why, err = r.measureEarlier(ctx); err != nil {
			return err
		}
		if results, err = r.heldBudgets(ctx); err != nil {
			return err
		}
	}
	found := map[evidence.Key][]evidence.Finding{}
	for _, b := range results {
		f := evidence.Finding{Kind: evidence.MetricKind, Severity: evidence.Broken, Page: b.Page, Persona: site.Visitor, Device: b.Device, Title: "Budget exceeded: " + b.Budget, Detail: b.Why, Cause: "budget " + b.Budget}
		switch {
		case b.Outcome == measure.Held:
			continue
		case b.Outcome == measure.Unsure:
			f.Severity, f.Title = evidence.Unsure, "Not sure whether a budget is met: "+b.Budget
		case b.Was:
			f.Severity = evidence.Note
			f.Detail += " It is exceeded with the earlier settings, too."
		case why != "":
			f.Severity = evidence.Unsure
			f.Detail += " It was not measured with the earlier settings: " + why
		}
		k := f.Key()
		k.Journey = f.Cause
		found[k] = append(found[k], f)
	}
	for k, f := range found {
		if err := g.take(ctx, k, f); err != nil {
			return err
		}
	}
	return nil
}

// heldBudgets holds what was measured against the budgets: with the loads of this run with the earlier settings, where
// there are some, else with those of the mark.
func (r *Inspection) heldBudgets(ctx context.Context) ([]measure.BudgetResult, error) {
	loads, err := LoadsOf(ctx, r.Store, r.Run, r.MarkRun)
	if err != nil {
		return nil, err
	}
	return measure.Budgets(r.Site.Budgets, loads, r.Site.ClassOf), nil
}

// measureEarlier measures as much with the earlier settings, and has the others in force again after. why says what kept
// it from that.
func (r *Inspection) measureEarlier(ctx context.Context) (why string, err error) {
	put := func(to func(context.Context) (settings.Values, error)) error {
		values, err := to(ctx)
		if err != nil {
			return err
		}
		r.Values, r.Changed = values, true
		return r.purge(ctx)
	}
	err = put(r.Turns.Earlier)
	if err == nil {
		if err := r.MeasureLittle(ctx, measure.Before); err != nil {
			return "", err
		}
		err = put(r.Turns.Again)
	}
	if no, is := errors.AsType[*NoTurn](err); is {
		return no.Error(), nil
	}
	if err != nil {
		return "", fmt.Errorf("measure with the earlier settings: %w", err)
	}
	return "", nil
}

// LoadsOf are the loads of a run as the side with the change, and those that it made before or with the earlier settings,
// else those of the mark's run (0 when there is none), as the other.
func LoadsOf(ctx context.Context, s *store.Store, run, mark int64) ([]measure.Load, error) {
	loads, err := s.Loads(ctx, run)
	if err != nil {
		return nil, err
	}
	for _, l := range loads {
		if l.Side == measure.Before || mark == 0 {
			return loads, nil
		}
	}
	earlier, err := s.Loads(ctx, mark)
	if err != nil {
		return nil, err
	}
	return measure.Across(earlier, loads), nil
}
