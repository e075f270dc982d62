package changes

import (
	"context"

	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/release"
	"tidemarker/internal/store"
)

// Measure begins to measure what a change does to speed, on staging, which has it.
func (d *Desk) Measure(ctx context.Context, id int64, who string) (run int64, err error) {
	situation, c, envs, err := d.situation(ctx, id)
	if err != nil {
		return 0, err
	}
	switch {
	case situation.StagingUnknown != "":
		return 0, &Conflict{situation.StagingUnknown}
	case !situation.StagingHasChange:
		return 0, &Conflict{envs.Staging.Name + " does not have the change. Try it there first."}
	case situation.Busy != "":
		return 0, &Conflict{situation.Busy}
	}
	err = d.Store.Within(ctx, func(s *store.Store) error {
		run, err = d.Runner.StartIn(ctx, s, store.Run{SiteID: c.SiteID, EnvironmentID: envs.Staging.ID, ChangeID: &c.ID, Kind: release.MeasureRun, Target: envs.Staging.Fingerprint, RequestedBy: who})
		return err
	})
	return run, err
}

// Expect says what a change is meant to make better, in figures; nil takes it back.
func (d *Desk) Expect(ctx context.Context, id int64, e *measure.Expectation, who string) error {
	c, err := d.Store.Change(ctx, id)
	if err != nil {
		return err
	}
	said := "Nothing is expected in figures any more."
	if e != nil {
		said = "Expected: " + e.Text() + "."
	}
	return d.Store.Within(ctx, func(s *store.Store) error {
		if err := s.Expect(ctx, id, e); err != nil {
			return err
		}
		if err := note(ctx, s, c, who, "%s", said); err != nil {
			return err
		}
		return s.Tell(ctx, store.Notice{Site: c.SiteID, Change: id})
	})
}
