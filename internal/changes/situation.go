package changes

import (
	"context"
	"errors"
	"fmt"

	"tidemarker/internal/act"
	"tidemarker/internal/core/calendar"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/watch"
	"tidemarker/internal/store"
)

// Situation gathers what the rules need to know about a change.
func (d *Desk) Situation(ctx context.Context, id int64) (release.Situation, store.Change, error) {
	s, c, _, err := d.situation(ctx, id)
	return s, c, err
}

func (d *Desk) situation(ctx context.Context, id int64) (s release.Situation, c store.Change, envs store.ByRole, err error) {
	if c, err = d.Store.Change(ctx, id); err != nil {
		return s, c, envs, err
	}
	if envs, err = d.Store.EnvironmentsByRole(ctx, c.SiteID); err != nil {
		return s, c, envs, err
	}
	s = release.Situation{State: c.State, Base: c.Base, Staging: envs.Staging.Fingerprint, Production: envs.Production.Fingerprint}
	for _, gather := range []func(context.Context, *release.Situation, store.Change, store.ByRole) error{
		d.edits, d.order, d.record, d.outside, d.runs, d.marks, d.calendar, d.watches,
	} {
		if err := gather(ctx, &s, c, envs); err != nil {
			return s, c, envs, err
		}
	}
	return s, c, envs, nil
}

// edits are what the change sets, and what stands in its way.
func (d *Desk) edits(ctx context.Context, s *release.Situation, c store.Change, envs store.ByRole) error {
	base, err := d.Store.Revision(ctx, c.SiteID, c.Base)
	if err != nil {
		return err
	}
	values := target(base, c)
	s.Edits = len(settings.Diff(base, values))
	if s.Fingerprint, err = values.Fingerprint(); err != nil {
		return err
	}
	cat := envs.Production.Catalogue.V
	if cat == nil {
		return nil
	}
	s.Blocked = blocked(*cat, envs.Production, values)
	s.Irreversible, s.OnlyTidies = len(cat.Deletes(base, values)) > 0, cat.OnlyTidies(base, values)
	if !s.Irreversible {
		return nil
	}
	if s.BackedUp, err = d.Store.BackedUp(ctx, envs.Staging.ID); err != nil {
		return err
	}
	s.ProductionBacked, err = d.Store.BackedUp(ctx, envs.Production.ID)
	return err
}

func blocked(cat settings.Catalogue, env store.Environment, v settings.Values) (why []string) {
	host := settings.Host{}
	if env.About.V != nil {
		host = env.About.V.Facts.Host()
	}
	if err := cat.Validate(v); err != nil {
		why = append(why, err.Error()+".")
	}
	for _, q := range cat.Consequences(v, host) {
		if q.Blocks {
			why = append(why, q.Text)
		}
	}
	return why
}

// order is whether a change before it in a series is still to come.
func (d *Desk) order(ctx context.Context, s *release.Situation, c store.Change, _ store.ByRole) error {
	if c.Follows == nil {
		return nil
	}
	before, err := d.Store.Change(ctx, *c.Follows)
	if err == nil && before.State != release.Marked && before.State != release.Settled && before.State != release.Discarded {
		s.Follows = fmt.Sprintf("It comes after “%s”, which is %s. Promote that first, or discard it.", before.Title, before.State)
	}
	return err
}

// calendar is why nothing may be promoted at this time.
func (d *Desk) calendar(ctx context.Context, s *release.Situation, c store.Change, _ store.ByRole) error {
	lines, err := d.Store.Calendar(ctx, c.SiteID)
	if unread, is := errors.AsType[*store.UnreadEntry](err); is {
		s.Calendar = "Nothing is promoted: " + unread.Error() + ". Fix it, or remove it."
		return nil
	}
	if err != nil {
		return err
	}
	s.Calendar = calendar.Why(lines, d.Now())
	return nil
}

// record is where the change is in force, by what was done.
func (d *Desk) record(ctx context.Context, s *release.Situation, c store.Change, envs store.ByRole) error {
	placed, err := d.Store.Placed(ctx, envs.Staging.ID)
	if err != nil {
		return err
	}
	s.StagingHasChange = release.InForce(release.Record(placed), c.ID)
	if envs.OnlyOne {
		return nil
	}
	if placed, err = d.Store.Placed(ctx, envs.Production.ID); err != nil {
		return err
	}
	way, has := release.Back(release.Record(placed), c.ID)
	s.ProductionChange, s.Other = has, way.Other
	for _, id := range way.OnTop {
		on, err := d.Store.Change(ctx, id)
		if err != nil {
			return err
		}
		s.OnTop = append(s.OnTop, on.Title)
	}
	return nil
}

// outside is what is not known of the environments, and what somebody else changed.
func (d *Desk) outside(ctx context.Context, s *release.Situation, c store.Change, envs store.ByRole) error {
	open, err := d.Store.OpenActs(ctx, c.SiteID)
	if err != nil {
		return err
	}
	for _, a := range open {
		switch {
		case a.State != release.ActUnknown: // somebody is at it
		case a.EnvironmentID == envs.Production.ID:
			s.ProductionUnknown = act.UnknownText(envs.Production.Name, a)
		case a.EnvironmentID == envs.Staging.ID:
			s.StagingUnknown = act.UnknownText(envs.Staging.Name, a)
		}
	}
	drifts, err := d.Store.OpenDrifts(ctx, c.SiteID)
	if err != nil {
		return err
	}
	for _, x := range drifts {
		switch x.EnvironmentID {
		case envs.Production.ID:
			s.ProductionDrift = act.DriftText(envs.Production)
		case envs.Staging.ID:
			s.StagingDrift = act.DriftText(envs.Staging)
		}
	}
	return nil
}

// runs are what is under way, and what the last checks came to.
func (d *Desk) runs(ctx context.Context, s *release.Situation, c store.Change, envs store.ByRole) error {
	runs, err := d.Store.ChangeRuns(ctx, c.ID)
	if err != nil {
		return err
	}
	promoted := int64(0)
	for _, r := range runs {
		switch {
		case !r.State.Over():
		case r.EnvironmentID == envs.Staging.ID && (r.Kind == release.TryRun || r.Kind == release.RollBackRun) && s.Verdict == "":
			s.Verdict, s.Checked = r.Verdict, r.Target
		case r.EnvironmentID == envs.Production.ID && r.Kind == release.PromoteRun:
			promoted = max(promoted, r.ID)
		}
	}
	if promoted != 0 {
		if s.ProductionVerdict, err = d.Store.VerdictSince(ctx, envs.Production.ID, promoted); err != nil {
			return err
		}
	}
	open, err := d.Store.OpenRunsOf(ctx, c.SiteID)
	for _, r := range open {
		switch {
		case r.EnvironmentID == envs.Production.ID && s.ProductionBusy == "":
			s.ProductionBusy = busy(r, envs)
		case r.EnvironmentID == envs.Staging.ID && s.StagingBusy == "":
			s.StagingBusy = busy(r, envs)
		}
		if left := r.Leaves(); r.EnvironmentID == envs.Staging.ID && left != "" {
			s.Staging = left
		}
	}
	return err
}

func busy(r store.Run, envs store.ByRole) string {
	what := fmt.Sprintf("Run %d (%s) is under way", r.ID, r.Kind)
	for _, e := range envs.All {
		if e.ID == r.EnvironmentID {
			what += " on " + e.Name
		}
	}
	return what + "."
}

func (d *Desk) marks(ctx context.Context, s *release.Situation, _ store.Change, envs store.ByRole) (err error) {
	if s.StagingHasMark, err = d.hasMark(ctx, envs.Staging.ID); err != nil {
		return err
	}
	s.ProductionHasMark, err = d.hasMark(ctx, envs.Production.ID)
	return err
}

func (d *Desk) hasMark(ctx context.Context, envID int64) (bool, error) {
	_, err := d.Store.LatestMark(ctx, envID)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// watches is whether its watch waits for a person.
func (d *Desk) watches(ctx context.Context, s *release.Situation, c store.Change, _ store.ByRole) error {
	of, err := d.Store.WatchesOf(ctx, c.ID)
	s.WatchWaits = len(of) > 0 && of[0].State == watch.Waits
	return err
}
