package run

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"time"

	"tidemarker/internal/act"
	"tidemarker/internal/core/notice"
	"tidemarker/internal/core/release"
	"tidemarker/internal/inspect"
	"tidemarker/internal/store"
	"tidemarker/internal/trouble"
)

// Runner carries runs out.
type Runner struct {
	Store *store.Store
	Acts  *act.Acts
	Tools *inspect.Tools
	Log   *slog.Logger
	// Patience is for how long a run asks a speed layer again that brings no answer, before it gives up.
	Patience time.Duration
	// Clock is what time it is to calendars; time.Now when nil.
	Clock func() time.Time

	jobs jobs
}

// New returns a runner on what the process acts and inspects with.
func New(acts *act.Acts, tools *inspect.Tools, log *slog.Logger) (*Runner, error) {
	j, err := newJobs()
	if err != nil {
		return nil, err
	}
	return &Runner{Store: acts.Store, Acts: acts, Tools: tools, Log: log, jobs: j}, nil
}

// What keeps a run from going on for now, or ends it.
var (
	// ErrStopped is why a run ended that a person stopped.
	ErrStopped = errors.New("stopped by a person")
	// ErrNotFree says that something else acts on the run's environment.
	ErrNotFree = errors.New("the environment is not free yet")

	errRests = errors.New("a person is to carry it out")
	errLost  = errors.New("what came of its act is not known")
	errLater = errors.New("what it found is restored when the site answers")
)

// Run carries out one run. It returns nil when the run ended, however it ended, when it
// rests, and when another process works on it; [ErrNotFree] when something else acts on
// the environment. Any other error means that it is to be begun again.
func (w *Runner) Run(ctx context.Context, id int64) error {
	lock, free, err := w.Store.TryLockRun(ctx, id)
	if err != nil || !free {
		return err
	}
	defer lock.Unlock()
	row, err := w.Store.Run(ctx, id)
	if err != nil {
		return err
	}
	if row.State != release.Queued && row.State != release.Running {
		return nil
	}
	switch free, err := lock.AlsoEnvironment(ctx, row.EnvironmentID); {
	case err != nil:
		return err
	case !free:
		return ErrNotFree
	}
	if first, err := w.Store.OpenRunOn(ctx, row.EnvironmentID); err != nil || first.ID != id && first.State != release.Waiting {
		return errors.Join(err, ErrNotFree) // one before it rests there
	}
	r, err := w.begin(ctx, row)
	if err != nil {
		return err
	}
	// Who loses the locks stops at once. Until that is noticed the fence keeps the attempt from writing and acting, once
	// another process has begun the run.
	held, lose := context.WithCancelCause(ctx)
	defer lose(nil)
	go lock.Watch(held, lose)
	return r.finish(held, r.attempt(held))
}

// begin takes a run up, once more.
func (w *Runner) begin(ctx context.Context, row store.Run) (*run, error) {
	resumed := row.Phase == phaseUnknown
	row, err := w.Store.BeginRun(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	trouble.At(trouble.Begun)
	env, err := w.Store.Environment(ctx, row.EnvironmentID)
	if err != nil {
		return nil, err
	}
	s, err := w.Store.Site(ctx, row.SiteID)
	if err != nil {
		return nil, err
	}
	r := &run{Runner: w.fenced(row), row: row, env: env, site: s.Document.V, resumed: resumed, progress: inspect.NewProgress(w.Store.Fenced(row.ID, row.Attempt), row)}
	r.Acts.Again = func(environment string, pause time.Duration) { r.progress.Waits(ctx, environment, pause) }
	return r, nil
}

// fenced is the runner whose writes and acts are those of one attempt at a run.
func (w *Runner) fenced(row store.Run) *Runner {
	own, acts := *w, *w.Acts
	own.Store = w.Store.Fenced(row.ID, row.Attempt)
	acts.Store, acts.Patience = own.Store, w.Patience
	own.Acts = &acts
	return &own
}

// attempt works on the run until it ends, rests, is stopped, or cannot go on. A panic is
// a failed attempt as any other.
func (r *run) attempt(ctx context.Context) (err error) {
	work, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	watching := make(chan struct{})
	go func() { defer close(watching); r.watchForStop(work, cancel) }()
	defer func() {
		if p := recover(); p != nil {
			r.Log.Error("a run panicked", "run", r.row.ID, "panic", p, "stack", string(debug.Stack()))
			err = &failedAttempt{fmt.Errorf("it ran into a fault of ours: %v", p)}
		}
		if errors.Is(context.Cause(work), ErrStopped) && !errors.Is(err, errLost) && !errors.Is(err, errRests) {
			err = ErrStopped
		}
		cancel(nil)
		<-watching
	}()
	return r.carryOut(work)
}

// failedAttempt is an attempt that failed for a reason that is neither the site's nor
// the settings'.
type failedAttempt struct{ error }

func (e *failedAttempt) Unwrap() error { return e.error }

// finish does what follows from how an attempt went.
func (r *run) finish(ctx context.Context, err error) error {
	steady := context.WithoutCancel(ctx)
	switch {
	case errors.Is(err, store.ErrTakenOver), errors.Is(context.Cause(ctx), store.ErrLockLost):
		r.Log.Warn("an attempt at a run was left to another process", "run", r.row.ID, "attempt", r.row.Attempt, "why", errors.Join(err, context.Cause(ctx)))
		return store.ErrTakenOver
	case errors.Is(err, errRests):
		return nil // it goes on when a person has done it
	case errors.Is(err, errLost):
		return r.lose(steady)
	case ctx.Err() != nil && !errors.Is(err, ErrStopped):
		return ctx.Err() // the process ends; the run is taken up again
	}
	failed, again := errors.AsType[*failedAttempt](err)
	if !again && store.Outage(err) {
		failed, again = &failedAttempt{err}, true
	}
	if again && r.row.Attempt < release.MostAttempts {
		return r.later(steady, failed)
	}
	if again {
		err = &tooOften{failed}
	}
	end := r.end(steady, err)
	switch {
	case errors.Is(end, errLost):
		return r.lose(steady)
	case errors.Is(end, errLater):
		return nil
	case end != nil:
		return r.later(steady, end)
	}
	return nil
}

// tooOften is why a run was given up.
type tooOften struct{ last error }

func (e *tooOften) Error() string {
	return fmt.Sprintf("it was started %d times and could not be finished; the last time %v", release.MostAttempts, e.last)
}

// later leaves the run to be begun again after a pause.
func (r *run) later(ctx context.Context, why error) error {
	r.Log.Warn("an attempt at a run failed", "run", r.row.ID, "attempt", r.row.Attempt, "why", why)
	return errors.Join(why, r.Store.AttemptFailed(ctx, r.row.ID, why.Error(), release.Pause(r.row.Attempt)))
}

// phaseUnknown is the phase of a run that waits until it is known what its act came to.
const phaseUnknown = "unknown"

// lose lets the run wait until the environment can be read.
func (r *run) lose(ctx context.Context) error {
	r.progress.Say(ctx, phaseUnknown, "It is not known which settings "+r.env.Name+" has. It is read again until it is")
	err := r.Store.Within(ctx, func(s *store.Store) error {
		if _, err := s.MoveRun(ctx, r.row.ID, release.RunLost); err != nil {
			return err
		}
		return s.Notify(ctx, store.Event{SiteID: r.row.SiteID, ChangeID: r.row.ChangeID, RunID: &r.row.ID, Topic: notice.Unknown, Who: ourselves,
			Text: fmt.Sprintf("Nobody knows which settings %s has: run %d acted, and nothing could be read back. It is read again until it is known.", r.env.Name, r.row.ID)})
	})
	if err != nil {
		return err
	}
	r.progress.Send(ctx, true)
	return nil
}

func (r *run) watchForStop(ctx context.Context, stop context.CancelCauseFunc) {
	tick := time.NewTicker(500 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if asked, err := r.Store.StopAsked(ctx, r.row.ID); err == nil && asked {
				stop(ErrStopped)
				return
			}
		}
	}
}
