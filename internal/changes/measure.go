package changes

import (
	"context"
	"fmt"
	"slices"

	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// Measure begins to measure what a change does to speed, on staging, which has it.
func (d *Desk) Measure(ctx context.Context, id int64, scope measure.Scope, who string) (run int64, err error) {
	err = d.hold(ctx, id, func(x *held) error {
		staging := x.envs.Staging
		if err := x.CheckScope(ctx, x.c.SiteID, staging.Name, scope); err != nil {
			return err
		}
		switch {
		case x.situation.StagingUnknown != "":
			return &Conflict{x.situation.StagingUnknown}
		case !x.situation.StagingHasChange:
			return &Conflict{staging.Name + " does not have the change. Try it there first."}
		case x.situation.StagingBusy != "":
			return &Conflict{x.situation.StagingBusy}
		}
		run, err = x.Runner.StartIn(ctx, x.Store, store.Run{SiteID: x.c.SiteID, EnvironmentID: staging.ID, ChangeID: &x.c.ID, Kind: release.MeasureRun, Target: staging.Fingerprint, RequestedBy: who, Measures: store.JSON[*measure.Scope]{V: &scope}})
		return err
	})
	return run, err
}

// CheckScope says what is wrong with what is to be measured, as a *[Conflict].
func (d *Desk) CheckScope(ctx context.Context, siteID int64, environment string, scope measure.Scope) error {
	row, err := d.Store.Site(ctx, siteID)
	if err != nil {
		return err
	}
	s := row.Document.V
	plan := s.Plan(environment)
	for _, path := range scope.Pages {
		if !slices.ContainsFunc(plan.Pages, func(t site.PageTask) bool { return t.Page.Path == path }) {
			return &Conflict{fmt.Sprintf("The test plan has no page %s. Add it there first.", path)}
		}
	}
	for _, name := range scope.Personas {
		if _, known := s.Persona(name); !known {
			return &Conflict{fmt.Sprintf("The test plan has no persona %q.", name)}
		}
	}
	for _, name := range scope.Journeys {
		if !slices.ContainsFunc(plan.Journeys, func(t site.JourneyTask) bool { return t.Journey.Name == name }) {
			return &Conflict{fmt.Sprintf("The test plan has no journey %q that runs on %s.", name, environment)}
		}
	}
	if len(scope.Tasks(plan))+len(scope.Taken(plan)) == 0 {
		return &Conflict{"Nothing in the test plan is as asked for: no page is seen by these personas on these devices."}
	}
	return nil
}

// MeasureMore goes on with a measurement that was not sure: with all its loads, for as many rounds again. It may, since
// how often the results are looked at was planned for so many rounds from the start.
func (d *Desk) MeasureMore(ctx context.Context, id int64, who string) (run int64, err error) {
	r, err := d.Store.Run(ctx, id)
	if err != nil {
		return 0, err
	}
	scope := measure.Scope{}
	if r.Measures.V != nil {
		scope = *r.Measures.V
	}
	switch {
	case r.Kind != release.MeasureRun || !r.State.Over():
		return 0, &Conflict{"Only a measurement that is over can be gone on with."}
	case scope.Before > 0:
		return 0, &Conflict{"It was extended already: more rounds of the same would not be honest. Measure again, or fewer pages."}
	}
	loads, err := d.Store.Loads(ctx, id)
	if err != nil {
		return 0, err
	}
	if measure.Enough(measure.Compare(loads), scope.Main...) {
		return 0, &Conflict{"It is sure already."}
	}
	if r.ChangeID != nil {
		situation, _, envs, err := d.situation(ctx, *r.ChangeID)
		if err != nil {
			return 0, err
		}
		if !situation.StagingHasChange || envs.Staging.Fingerprint != r.Target {
			return 0, &Conflict{envs.Staging.Name + " no longer has the settings that were measured. Measure again."}
		}
	}
	scope.Before, scope.Rounds = id, 0
	err = d.Store.Within(ctx, func(s *store.Store) error {
		run, err = d.Runner.StartIn(ctx, s, store.Run{SiteID: r.SiteID, EnvironmentID: r.EnvironmentID, ChangeID: r.ChangeID, Kind: release.MeasureRun, Target: r.Target, Restores: r.Restores, RequestedBy: who,
			Measures: store.JSON[*measure.Scope]{V: &scope}})
		if err != nil {
			return err
		}
		return s.CopyLoads(ctx, id, run)
	})
	return run, err
}

// Expect says what a change is meant to make better, in figures; nil takes it back.
func (d *Desk) Expect(ctx context.Context, id int64, e *measure.Expectation, who string) error {
	said := "Nothing is expected in figures now."
	if e != nil {
		said = "Expected: " + e.Text() + "."
	}
	return d.hold(ctx, id, func(x *held) error {
		now := x.c
		now.Expected.V = e
		if err := x.save(ctx, now); err != nil {
			return err
		}
		return x.note(ctx, who, "%s", said)
	})
}
