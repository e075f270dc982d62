package work

import (
	"context"
	"errors"
	"fmt"
	"time"

	"tidemarker/internal/store"
)

// settling is how long a run that a command line has recorded may take to begin.
const settling = 30 * time.Second

// Recover takes up runs that a process left when it died: those that are open,
// were begun and that nobody works on. A staging run that was to be put back is put
// back and ended; every other is carried out again from its start, which finds what
// is in force already.
func (w *Runner) Recover(ctx context.Context) error {
	open, err := w.Store.OpenRuns(ctx)
	if err != nil {
		return err
	}
	for _, r := range open {
		if r.State == store.ByHand {
			if err := w.resumeAfterTask(ctx, r.ID); err != nil {
				return err
			}
			continue
		}
		if r.State != store.Running || r.Attempt == 0 && time.Since(r.CreatedAt) < settling {
			continue
		}
		unlock, free, err := w.Store.TryLockRun(ctx, r.ID)
		if err != nil {
			return err
		}
		if !free {
			continue
		}
		if r.PutBack {
			err = w.undo(ctx, r)
		}
		unlock()
		if err != nil {
			w.Log.Warn("a run that was cut off could not be put back yet", "run", r.ID, "why", err)
			continue
		}
		if r.PutBack {
			continue
		}
		w.Log.Info("taking up a run that was cut off", "run", r.ID)
		if w.Enqueue != nil {
			err = w.Enqueue(ctx, r.ID)
		} else {
			err = w.Run(ctx, r.ID)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// resumeAfterTask hands a run in again whose checklist is closed. Handing it in twice
// does nothing: it is carried out once.
func (w *Runner) resumeAfterTask(ctx context.Context, id int64) error {
	h, err := w.Store.ManualTaskOf(ctx, id)
	if err != nil || h.State == "open" {
		return err
	}
	if w.Enqueue != nil {
		return w.Enqueue(ctx, id)
	}
	return w.Run(ctx, id)
}

// undo ends a run of the command line that was cut off, with the environment as the
// run found it.
func (w *Runner) undo(ctx context.Context, row store.Run) error {
	r, err := w.prepare(ctx, row)
	if err != nil {
		return err
	}
	unlock, err := w.Store.LockEnvironment(ctx, row.EnvironmentID)
	if err != nil {
		return err
	}
	defer unlock()
	if err := r.connect(ctx); err != nil {
		if _, ok := errors.AsType[*Drifted](err); ok {
			return r.end(ctx, err)
		}
		return err
	}
	if row.Before != "" && r.env.Fingerprint != row.Before && r.env.Fingerprint != row.Target {
		return r.end(ctx, fmt.Errorf("the run was cut off, and %s was changed outside since. Nothing was overwritten", r.env.Name))
	}
	return r.end(ctx, fmt.Errorf("the run was cut off when its process ended"))
}
