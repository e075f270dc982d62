package run

import (
	"context"
	"errors"
	"time"

	"tidemarker/internal/core/release"
	"tidemarker/internal/store"
	"tidemarker/internal/trouble"
)

// toBegin is how long a worker may take from getting a run's job to beginning the run.
const toBegin = 15 * time.Second

// Recover sees to what waits for nobody: it reads environments whose state is unknown,
// lets runs go on that waited for that, and hands in runs that a process left when it
// died. It carries none out itself, so that one site's trouble never delays another's.
func (w *Runner) Recover(ctx context.Context) error {
	return errors.Join(w.Acts.ReadUnknown(ctx), w.handInWaiting(ctx))
}

// handInWaiting hands in what may go on.
func (w *Runner) handInWaiting(ctx context.Context) error {
	return errors.Join(w.resumeSettled(ctx), w.handInLost(ctx))
}

// resumeSettled lets runs go on whose act's outcome is known now.
func (w *Runner) resumeSettled(ctx context.Context) error {
	settled, err := w.Store.SettledRuns(ctx)
	if err != nil {
		return err
	}
	for _, r := range settled {
		err = errors.Join(err, w.resume(ctx, r.ID))
	}
	return err
}

// resume hands in again a run that waited. Somebody else may have done so just now.
func (w *Runner) resume(ctx context.Context, id int64) error {
	return w.Store.Within(ctx, func(s *store.Store) error {
		r, err := s.Run(ctx, id)
		if err != nil || r.State != release.ByHand && r.State != release.Unsettled {
			return err
		}
		if _, err := s.MoveRun(ctx, id, release.RunResumes); err != nil {
			return err
		}
		return w.jobs.handIn(ctx, s, id)
	})
}

// handInLost hands in runs that nobody works on and for which no job is left.
func (w *Runner) handInLost(ctx context.Context) error {
	lost, err := w.Store.LostRuns(ctx, toBegin)
	if err != nil {
		return err
	}
	for _, r := range lost {
		err = errors.Join(err, w.handInAgain(ctx, r))
	}
	return err
}

// handInAgain hands in a run that was cut off, unless somebody works on it after all.
func (w *Runner) handInAgain(ctx context.Context, r store.Run) error {
	lock, free, err := w.Store.TryLockRun(ctx, r.ID)
	if err != nil || !free {
		return err
	}
	defer lock.Unlock()
	w.Log.Info("taking up a run that was cut off", "run", r.ID, "state", r.State)
	defer trouble.At(trouble.HandedIn)
	return w.Store.Within(ctx, func(s *store.Store) error { return w.jobs.handIn(ctx, s, r.ID) })
}

// TakeUp carries out, in this process, the runs of one site that a process left when it
// died: for a command line, beside which no worker may be running.
func (w *Runner) TakeUp(ctx context.Context, siteID int64) error {
	if err := errors.Join(w.Acts.ReadUnknown(ctx), w.resumeSettled(ctx)); err != nil {
		return err
	}
	open, err := w.Store.OpenRunsOf(ctx, siteID)
	if err != nil {
		return err
	}
	for _, r := range open {
		if r.State != release.Running || r.ResumeAt != nil && r.ResumeAt.After(time.Now()) {
			continue
		}
		if err := w.Run(ctx, r.ID); err != nil && !errors.Is(err, ErrNotFree) {
			return err
		}
	}
	return nil
}
