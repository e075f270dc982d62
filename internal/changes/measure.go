package changes

import (
	"context"

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
