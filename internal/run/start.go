package run

import (
	"context"
	"errors"
	"fmt"
	"time"

	"tidemarker/internal/act"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/store"
)

// NotIdle says that a run is open on an environment, so that another cannot be begun.
type NotIdle struct {
	Environment string
	Run         store.Run
}

func (e *NotIdle) Error() string {
	return fmt.Sprintf("Run %d (%s) is under way on %s. Wait for it, or stop it.", e.Run.ID, e.Run.Kind, e.Environment)
}

// Waits is why a run cannot be begun yet but may be later; ok is false for any other error, and for none.
func Waits(err error) (why string, ok bool) {
	if no, is := errors.AsType[*NotIdle](err); is {
		return no.Error(), true
	}
	if no, is := errors.AsType[*act.StillUnknown](err); is {
		return no.Error(), true
	}
	return "", false
}

// Start records that a run is wanted, together with its job: *[NotIdle] while another is
// open on the environment, *act.StillUnknown while nobody knows what it has.
func (w *Runner) Start(ctx context.Context, r store.Run) (store.Run, error) {
	err := w.Store.Within(ctx, func(s *store.Store) error {
		id, err := w.StartIn(ctx, s, r)
		if err == nil {
			r, err = s.Run(ctx, id)
		}
		return err
	})
	return r, err
}

// StartIn is Start within the transaction that s is, so that what the run is for is
// recorded with it or not at all. A run that waits for another gets its job when that
// ended clear.
func (w *Runner) StartIn(ctx context.Context, s *store.Store, r store.Run) (int64, error) {
	id, err := w.newRun(ctx, s, r)
	if err != nil {
		return 0, err
	}
	if r.State != release.Waiting {
		if err := w.jobs.handIn(ctx, s, id); err != nil {
			return 0, err
		}
	}
	return id, tell(ctx, s, r, id)
}

// StartAttended records a run that this process carries out itself, by [Runner.Run]. When
// it dies before it began, a worker takes the run up.
func (w *Runner) StartAttended(ctx context.Context, r store.Run) (id int64, err error) {
	err = w.Store.Within(ctx, func(s *store.Store) error {
		if id, err = w.newRun(ctx, s, r); err != nil {
			return err
		}
		return w.jobs.handInAt(ctx, s, id, time.Now().Add(2*toBegin))
	})
	return id, err
}

// newRun records a run with what its environment has now, when nothing else is under way there. One that waits for another is only
// recorded.
func (w *Runner) newRun(ctx context.Context, s *store.Store, r store.Run) (int64, error) {
	if err := s.LockRunsOf(ctx, r.EnvironmentID); err != nil {
		return 0, err
	}
	env, err := s.Environment(ctx, r.EnvironmentID)
	if err != nil {
		return 0, err
	}
	switch open, err := s.OpenRunOn(ctx, env.ID); {
	case err == nil && r.State != release.Waiting:
		return 0, &NotIdle{env.Name, open}
	case err != nil && !errors.Is(err, store.ErrNotFound):
		return 0, err
	}
	switch open, err := s.OpenAct(ctx, env.ID); {
	case err == nil:
		return 0, &act.StillUnknown{Environment: env.Name, Act: open}
	case !errors.Is(err, store.ErrNotFound):
		return 0, err
	}
	r.Expects = env.Fingerprint
	return s.NewRun(ctx, r)
}

func tell(ctx context.Context, s *store.Store, r store.Run, id int64) error {
	n := store.Signal{Site: r.SiteID, Run: id}
	if r.ChangeID != nil {
		n.Change = *r.ChangeID
	}
	return s.Tell(ctx, n)
}

// Stop stops a run. One that nobody works on yet ends at once, and its change is where
// it was. Of every other the wish is kept: whoever works on it ends it at the next
// chance, and one that waits for a person or a site as soon as it is known what is in
// force.
func (w *Runner) Stop(ctx context.Context, id int64) error {
	return w.Store.Within(ctx, func(s *store.Store) error {
		if err := s.LockChain(ctx, id); err != nil {
			return err
		}
		if err := s.WishStop(ctx, id); err != nil {
			return err
		}
		r, err := s.Run(ctx, id)
		if err != nil || r.State.Over() {
			return err
		}
		switch {
		case r.State.StopsAtOnce() && r.Attempt == 0:
			return w.stopNow(ctx, s, r)
		case r.State == release.ByHand:
			if _, err := s.MoveRun(ctx, id, release.RunResumes); err != nil {
				return err
			}
			return w.jobs.handIn(ctx, s, id)
		}
		return tell(ctx, s, r, id)
	})
}

func (w *Runner) stopNow(ctx context.Context, s *store.Store, r store.Run) error {
	r.Verdict, r.Problem, r.Summary = evidence.VerdictNotChecked, "Stopped before it began.", "Not checked: stopped before it began."
	if err := s.EndRun(ctx, r, release.RunStopped); err != nil {
		return err
	}
	if r.NextID != nil {
		if err := skip(ctx, s, *r.NextID); err != nil {
			return err
		}
	}
	if r.State == release.Waiting { // the one before it is the last then, and moves the change
		if err := s.Unchain(ctx, r.ID); err != nil {
			return err
		}
	} else if err := moveAfter(ctx, s, r, false); err != nil {
		return err
	}
	if err := s.Record(ctx, store.Event{SiteID: r.SiteID, EnvironmentID: &r.EnvironmentID, ChangeID: r.ChangeID, RunID: &r.ID, Kind: string(r.Kind), Who: r.RequestedBy,
		Text: fmt.Sprintf("Run %d (%s) was stopped before it began.", r.ID, r.Kind)}); err != nil {
		return err
	}
	return tell(ctx, s, r, r.ID)
}

// CompleteManualTask says that a person has carried out a run's checklist, and lets the
// run go on.
func (w *Runner) CompleteManualTask(ctx context.Context, id int64, file []byte, who string) error {
	return w.Store.Within(ctx, func(s *store.Store) error {
		if err := w.Acts.CompleteManualTask(ctx, s, id, file, who); err != nil {
			return err
		}
		if _, err := s.MoveRun(ctx, id, release.RunResumes); err != nil {
			return err
		}
		return w.jobs.handIn(ctx, s, id)
	})
}
