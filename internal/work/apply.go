package work

import (
	"context"
	"errors"
	"fmt"

	"tidemarker/internal/connector"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// bringInForce puts the run's target in force, when it has one: intent recorded,
// applied on condition that nobody changed anything since, read back, outcome
// recorded.
func (r *run) bringInForce(ctx context.Context) error {
	target := r.row.Target
	if target == "" {
		r.row.Target = r.env.Fingerprint
		return nil
	}
	if r.env.Fingerprint == target {
		return nil
	}
	if r.row.Attempt > 1 && r.row.Before != "" && r.env.Fingerprint != r.row.Before {
		return fmt.Errorf("%s was changed outside Tide Marker while the run was cut off. Nothing was overwritten", r.env.Name)
	}
	v, err := r.Store.Revision(ctx, r.siteID, target)
	if err != nil {
		return err
	}
	if err := r.cat.Validate(v); err != nil {
		return fmt.Errorf("the values do not fit %s: %w", r.env.Name, err)
	}
	if r.env.ConnectorKind == byHandKind {
		return r.askForManualTask(ctx, v, target)
	}
	r.progress.say(ctx, "applying", "Applying the settings on "+r.env.Name)
	if err := r.apply(ctx, string(r.row.Kind), v, target); err != nil {
		return err
	}
	r.values = v
	return nil
}

// apply is the write-ahead act itself.
func (r *run) apply(ctx context.Context, kind string, v settings.Values, target string) error {
	now, err := r.client.Settings(ctx)
	if err != nil {
		return err
	}
	predecessor, err := r.Store.SaveRevision(ctx, r.siteID, now.Values)
	if err != nil {
		return err
	}
	if predecessor != r.env.Fingerprint {
		if err := r.noteReading(ctx, r.env, predecessor); err != nil {
			return err
		}
		return &Drifted{Environment: r.env.Name, From: r.env.Fingerprint, To: predecessor, Differences: settings.Diff(r.values, now.Values)}
	}
	id, err := r.Store.Intend(ctx, store.Act{EnvironmentID: r.env.ID, RunID: &r.row.ID, ChangeID: r.row.ChangeID,
		Kind: kind, Fingerprint: target, Predecessor: predecessor, Who: r.row.RequestedBy})
	if err != nil {
		return err
	}
	// From here on the act is carried to its end even when the run is being stopped.
	act := context.WithoutCancel(ctx)
	_, err = r.client.Apply(act, v, now.ETag)
	if _, unknown := errors.AsType[*connector.Uncertain](err); unknown {
		return err // the intent stays open until the site can be read back
	}
	if err != nil {
		return errors.Join(err, r.Store.Outcome(act, id, "not applied", err.Error(), ""))
	}
	back, err := r.client.Settings(act)
	if err != nil {
		return &connector.Uncertain{Base: r.env.ConnectorURL, Cause: err}
	}
	fp, err := r.Store.SaveRevision(act, r.siteID, back.Values)
	if err != nil {
		return err
	}
	if fp != target {
		why := fmt.Errorf("%s took the settings but reads back others (%s)", r.env.Name, diffKeys(settings.Diff(v, back.Values)))
		return errors.Join(why, r.Store.Outcome(act, id, "not applied", why.Error(), fp))
	}
	if err := r.Store.Outcome(act, id, "applied", "Read back with the same fingerprint.", fp); err != nil {
		return err
	}
	r.env.Fingerprint = fp
	return nil
}

func diffKeys(diff []settings.Difference) string {
	s := ""
	for i, d := range diff {
		if i > 0 {
			s += ", "
		}
		s += d.Key
	}
	return s
}

// settleIntents reads the environment back for what this run intended and whose
// outcome is not known, because its process died in between.
func (r *run) settleIntents(ctx context.Context) error {
	open, err := r.Store.Intents(ctx, r.row.ID)
	if err != nil || len(open) == 0 || r.env.ConnectorKind == byHandKind {
		return err // a person says what came of it
	}
	client, err := r.layer(r.env)
	if err != nil {
		return err
	}
	now, err := client.Settings(ctx)
	if err != nil {
		return err
	}
	fp, err := r.Store.SaveRevision(ctx, r.siteID, now.Values)
	if err != nil {
		return err
	}
	if err := r.settle(ctx, open, fp); err != nil {
		return err
	}
	r.env, err = r.Store.Environment(ctx, r.env.ID)
	return err
}

// settle records what came of intents, by the fingerprint that the environment reads
// back now. Only the last of them can be in force.
func (w *Runner) settle(ctx context.Context, open []store.Act, fp string) error {
	for i, a := range open {
		state, note, known := "not applied", "Read back after an interruption: the earlier settings are still in force.", ""
		switch {
		case i == len(open)-1 && fp == a.Fingerprint:
			state, note, known = "applied", "Read back after an interruption: the settings are in force.", fp
		case fp == a.Predecessor:
			known = fp
		default:
			note = "Read back after an interruption: neither these nor the earlier settings are in force."
		}
		if err := w.Store.Outcome(ctx, a.ID, state, note, known); err != nil {
			return err
		}
	}
	return nil
}

// putBack brings back what the run found at its start, and says whether that is
// what the environment now reads back.
func (r *run) putBack(ctx context.Context) (bool, error) {
	row, err := r.Store.Run(ctx, r.row.ID)
	if err != nil {
		return false, err
	}
	if row.Before == "" {
		return true, nil // it ended before anything was applied
	}
	if r.client == nil {
		return false, nil
	}
	if r.env.Fingerprint == row.Before {
		return true, nil
	}
	if r.env.Fingerprint != row.Target {
		return false, fmt.Errorf("%s was changed outside Tide Marker while the run was under way. Nothing was overwritten", r.env.Name)
	}
	v, err := r.Store.Revision(ctx, r.siteID, row.Before)
	if err != nil {
		return false, err
	}
	r.progress.say(ctx, "putting back", "Putting back what "+r.env.Name+" had before")
	if err := r.apply(ctx, "put back", v, row.Before); err != nil {
		return false, err
	}
	r.values = v
	return true, r.purge(ctx)
}
