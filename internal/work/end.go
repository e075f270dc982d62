package work

import (
	"context"
	"errors"
	"fmt"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/store"
)

// end records how a run ended and what that means for its change.
func (r *run) end(ctx context.Context, cause error) error {
	switch {
	case errors.Is(cause, ErrStopped):
		r.row.State, r.row.Verdict, r.row.Problem = store.Stopped, evidence.VerdictNotChecked, "Stopped before the end."
		r.row.Summary = "Not checked: stopped before the end."
	case cause != nil:
		r.row.State, r.row.Verdict, r.row.Problem = store.Failed, evidence.VerdictNotChecked, cause.Error()
		r.row.Summary = "Not checked: " + cause.Error()
		r.Log.Warn("a run failed", "run", r.row.ID, "why", cause)
	default:
		r.row.State = store.Done
	}
	if r.row.PutBack {
		restored, err := r.putBack(ctx)
		r.row.Restored = restored
		if err != nil {
			r.row.Problem = joined(r.row.Problem, "Putting back failed: "+err.Error())
		}
	}
	if r.row.State == store.Done && r.row.Verdict == evidence.VerdictClear && r.row.Kind == store.PromoteRun {
		if err := r.markFromCheck(ctx, r.row.Summary); err != nil {
			return err
		}
	}
	// The change moves before the run is closed: when the process dies in between,
	// the run is still open and is taken up again.
	if err := r.moveChange(ctx, cause); err != nil {
		return err
	}
	if err := r.Store.EndRun(ctx, r.row); err != nil {
		return err
	}
	if err := r.Store.Record(ctx, store.Event{SiteID: r.siteID, EnvironmentID: &r.env.ID, ChangeID: r.row.ChangeID, RunID: &r.row.ID,
		Kind: string(r.row.Kind), Who: r.row.RequestedBy, Text: r.said()}); err != nil {
		return err
	}
	r.progress.send(ctx, true)
	return nil
}

func joined(a, b string) string {
	if a == "" {
		return b
	}
	return a + " " + b
}

func (r *run) said() string {
	names := map[store.RunKind]string{store.MarkRun: "Mark of", store.TryRun: "Tried on", store.PromoteRun: "Promoted to",
		store.RollBackRun: "Rolled back", store.CheckRun: "Checked", store.IsolationRun: "Cache isolation tested on"}
	return fmt.Sprintf("%s %s. %s", names[r.row.Kind], r.env.Name, r.row.Summary)
}

// moveChange tells the change what came of the run, and lets the next run begin.
func (r *run) moveChange(ctx context.Context, cause error) error {
	next := r.row.NextID != nil && cause == nil && r.row.Verdict == evidence.VerdictClear
	if next {
		if err := r.Store.Release(ctx, *r.row.NextID); err != nil {
			return err
		}
		if r.Enqueue != nil {
			return r.Enqueue(ctx, *r.row.NextID)
		}
		return nil
	}
	if r.row.NextID != nil {
		follower, err := r.Store.Run(ctx, *r.row.NextID)
		if err != nil {
			return err
		}
		follower.State, follower.Verdict, follower.Problem = store.Stopped, evidence.VerdictNotChecked, "The run before it did not end clear."
		follower.Summary = "Not begun: the run before it did not end clear."
		if err := r.Store.EndRun(ctx, follower); err != nil {
			return err
		}
	}
	if r.row.ChangeID == nil {
		return nil
	}
	s, c, err := SituationOf(ctx, r.Store, *r.row.ChangeID)
	if err != nil {
		return err
	}
	if r.row.Kind == store.PromoteRun {
		s.ProductionVerdict = r.row.Verdict
	}
	e, ok := r.event(s, cause)
	if !ok {
		return nil
	}
	to, err := release.Apply(s, e)
	if err != nil {
		// The run was taken up again after the change had moved already.
		return nil
	}
	_, err = r.Store.MoveChange(ctx, c.ID, c.State, to, r.row.Summary)
	return err
}

// event is what the run's end means to its change.
func (r *run) event(s release.Situation, cause error) (release.Event, bool) {
	clear := cause == nil && r.row.Verdict == evidence.VerdictClear
	switch r.row.Kind {
	case store.TryRun:
		switch {
		case cause == nil:
			return release.Ended, true
		case r.env.Fingerprint == r.row.Target && r.row.Target != "":
			return release.Interrupted, true
		}
		return release.Undone, true
	case store.PromoteRun:
		switch {
		case clear:
			return release.Ended, true
		case r.env.Fingerprint == r.row.Target:
			return release.Interrupted, true
		}
		return release.Undone, true
	case store.RollBackRun:
		switch {
		case clear:
			return release.Ended, true
		case s.Production == s.Fingerprint:
			return release.Undone, true
		}
		return release.Interrupted, true
	}
	return "", false
}
