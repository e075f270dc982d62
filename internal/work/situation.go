package work

import (
	"context"
	"errors"
	"fmt"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// SituationOf gathers what the rules need to know about a change.
func SituationOf(ctx context.Context, st *store.Store, changeID int64) (release.Situation, store.Change, error) {
	c, err := st.Change(ctx, changeID)
	if err != nil {
		return release.Situation{}, c, err
	}
	envs, err := st.Environments(ctx, c.SiteID)
	if err != nil {
		return release.Situation{}, c, err
	}
	if len(envs) == 0 {
		return release.Situation{}, c, errors.New("the site has no environment")
	}
	staging, production := envs[0], envs[len(envs)-1]
	s := release.Situation{State: c.State, Base: c.Base, Staging: staging.Fingerprint, Production: production.Fingerprint}
	base, err := st.Revision(ctx, c.SiteID, c.Base)
	if err != nil {
		return s, c, err
	}
	target := base.With(c.Edits.V)
	s.Edits = len(settings.Diff(base, target))
	if s.Fingerprint, err = target.Fingerprint(); err != nil {
		return s, c, err
	}
	if cat := production.Catalogue.V; cat != nil {
		s.Blocked = blocked(*cat, production, target)
		s.Irreversible, s.OnlyTidies = len(cat.Deletes(base, target)) > 0, cat.OnlyTidies(base, target)
	}
	if s.Irreversible {
		if s.BackedUp, err = st.BackedUp(ctx, staging.ID); err != nil {
			return s, c, err
		}
		if s.ProductionBacked, err = st.BackedUp(ctx, production.ID); err != nil {
			return s, c, err
		}
	}
	if c.Follows != nil {
		before, err := st.Change(ctx, *c.Follows)
		if err != nil {
			return s, c, err
		}
		if before.State != release.Marked && before.State != release.Discarded {
			s.Follows = fmt.Sprintf("It comes after “%s”, which is %s. Promote that first, or discard it.", before.Title, before.State)
		}
	}
	drifts, err := st.OpenDrifts(ctx, c.SiteID)
	if err != nil {
		return s, c, err
	}
	for _, d := range drifts {
		if d.EnvironmentID == production.ID {
			s.ProductionDrift = driftText(production)
		} else if d.EnvironmentID == staging.ID {
			s.StagingDrift = driftText(staging)
		}
	}
	runs, err := st.ChangeRuns(ctx, c.ID)
	if err != nil {
		return s, c, err
	}
	for _, r := range runs {
		if !r.State.Over() {
			s.Busy = busy(r, envs)
			continue
		}
		if r.EnvironmentID == staging.ID && r.Kind == store.TryRun && s.Verdict == "" {
			s.Verdict, s.Checked = r.Verdict, r.Target
		}
		if r.EnvironmentID == production.ID && (r.Kind == store.PromoteRun || r.Kind == store.CheckRun) && s.ProductionVerdict == "" {
			s.ProductionVerdict = r.Verdict
		}
	}
	open, err := st.OpenRuns(ctx)
	if err != nil {
		return s, c, err
	}
	for _, r := range open {
		if r.SiteID == c.SiteID && s.Busy == "" && (r.ChangeID == nil || *r.ChangeID != c.ID) {
			s.Busy = busy(r, envs)
		}
	}
	if s.StagingHasMark, err = hasMark(ctx, st, staging.ID); err != nil {
		return s, c, err
	}
	s.ProductionHasMark, err = hasMark(ctx, st, production.ID)
	return s, c, err
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

func busy(r store.Run, envs []store.Environment) string {
	for _, e := range envs {
		if e.ID == r.EnvironmentID {
			return fmt.Sprintf("Run %d (%s) is under way on %s.", r.ID, r.Kind, e.Name)
		}
	}
	return fmt.Sprintf("Run %d (%s) is under way.", r.ID, r.Kind)
}

func hasMark(ctx context.Context, st *store.Store, envID int64) (bool, error) {
	_, err := st.LatestMark(ctx, envID)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// Rejudge comes to a new verdict after a finding of a run was accepted or taken
// back.
func Rejudge(ctx context.Context, st *store.Store, runID int64) error {
	r, err := st.Run(ctx, runID)
	if err != nil {
		return err
	}
	if r.State != store.Done {
		return errors.New("the run has not come to a verdict")
	}
	rows, err := st.Findings(ctx, runID)
	if err != nil {
		return err
	}
	var open []evidence.Finding
	for _, f := range rows {
		if f.State != "accepted" {
			open = append(open, f.Document.V)
		}
	}
	v := evidence.Judge(open, r.Progress.V.Looks)
	summary := evidence.Summarise(v, open, r.Progress.V.Looks)
	if n := len(rows) - len(open); n > 0 {
		summary += fmt.Sprintf(" %d accepted as expected.", n)
	}
	return st.SaveVerdict(ctx, runID, v, summary)
}
