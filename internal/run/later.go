package run

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/riverqueue/river"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/release"
	"tidemarker/internal/store"
)

const (
	// mostLater is how many looks one run plans for later.
	mostLater = 4
	// latest is how far ahead looks are planned.
	latest = 31 * 24 * time.Hour
	// laterPause is for how long a look waits for another run to end.
	laterPause = 30 * time.Second
)

// LaterArgs is a job of the queue: a look that was planned is due.
type LaterArgs struct {
	Look int64 `json:"look"`
}

// Kind names the job.
func (LaterArgs) Kind() string { return "later-look" }

type laterWorker struct {
	river.WorkerDefaults[LaterArgs]
	runner *Runner
}

// Work begins the look, or puts it off while another run is open on the environment.
func (w *laterWorker) Work(ctx context.Context, job *river.Job[LaterArgs]) error {
	err := w.runner.BeginLater(ctx, job.Args.Look)
	if later, _ := errors.AsType[*notNow](err); later != nil {
		return river.JobSnooze(laterPause)
	}
	return err
}

// notNow says that a look that is due has to wait.
type notNow struct{ error }

// planLater plans looks for what grows old when the run's settings stay in force. What breaks
// a site is not waited for.
func (r *run) planLater(ctx context.Context, s *store.Store) error {
	if r.row.PutBack || r.row.Kind != release.TryRun && r.row.Kind != release.PromoteRun || r.row.Verdict == evidence.VerdictBroken {
		return nil
	}
	if r.watched != nil {
		return nil // the watch looks at these times
	}
	now := time.Now().UTC().Truncate(time.Second)
	for _, m := range r.moments[:min(mostLater, len(r.moments))] {
		after := time.Duration(m.After) * time.Second
		if after > latest {
			continue
		}
		id, err := s.PlanLater(ctx, store.LaterLook{SiteID: r.row.SiteID, EnvironmentID: r.env.ID, RunID: r.row.ID, Fingerprint: r.row.Target,
			Moment: store.JSON[exclusion.Moment]{V: m}, DueAt: now.Add(after)})
		if err != nil {
			return err
		}
		if err := r.jobs.insert(ctx, s, LaterArgs{id}, &river.InsertOpts{Queue: queueLater, MaxAttempts: 10, ScheduledAt: now.Add(after)}); err != nil {
			return err
		}
	}
	return nil
}

// BeginLater begins a look that is due, unless the settings that it is about are no longer in
// force. It fails with an error that says so while another run is open there.
func (w *Runner) BeginLater(ctx context.Context, id int64) error {
	return w.Store.Within(ctx, func(s *store.Store) error {
		l, err := s.LaterLook(ctx, id)
		if err != nil || l.State != store.LaterPlanned {
			return err
		}
		env, err := s.Environment(ctx, l.EnvironmentID)
		if err != nil {
			return err
		}
		planned, err := s.Run(ctx, l.RunID)
		if err != nil {
			return err
		}
		if env.Fingerprint != l.Fingerprint {
			return s.SettleLater(ctx, id, store.LaterWithdrawn, nil, env.Name+" has other settings by now.")
		}
		run, err := w.StartIn(ctx, s, store.Run{SiteID: l.SiteID, EnvironmentID: l.EnvironmentID, Kind: release.LaterRun, RequestedBy: planned.RequestedBy})
		if _, waits := Waits(err); waits {
			return &notNow{err}
		}
		if err != nil {
			return err
		}
		return errors.Join(s.SettleLater(ctx, id, store.LaterBegun, &run, ""),
			s.Record(ctx, store.Event{SiteID: l.SiteID, EnvironmentID: &l.EnvironmentID, ChangeID: planned.ChangeID, RunID: &run, Kind: string(release.LaterRun), Who: planned.RequestedBy,
				Text: fmt.Sprintf("Looking at %s as run %d planned. %s", env.Name, l.RunID, l.Moment.V)}))
	})
}
