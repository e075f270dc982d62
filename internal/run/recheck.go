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
	// mostRechecks is how many looks one run plans for later.
	mostRechecks = 4
	// latest is how far ahead looks are planned.
	latest = 31 * 24 * time.Hour
	// recheckPause is for how long a look waits for another run to end.
	recheckPause = 30 * time.Second
)

// RecheckArgs is a job of the queue: a look that was planned is due.
type RecheckArgs struct {
	Look int64 `json:"look"`
}

// Kind names the job.
func (RecheckArgs) Kind() string { return "recheck" }

type recheckWorker struct {
	river.WorkerDefaults[RecheckArgs]
	runner *Runner
}

// Work begins the look, or puts it off while another run is open on the environment.
func (w *recheckWorker) Work(ctx context.Context, job *river.Job[RecheckArgs]) error {
	err := w.runner.BeginRecheck(ctx, job.Args.Look)
	if later, _ := errors.AsType[*notNow](err); later != nil {
		return river.JobSnooze(recheckPause)
	}
	return err
}

// notNow says that a look that is due has to wait.
type notNow struct{ error }

// planRechecks plans looks for what grows old when the run's settings stay in force. What breaks
// a site is not waited for.
func (r *run) planRechecks(ctx context.Context, s *store.Store) error {
	if r.row.Restores || r.row.Kind != release.TryRun && r.row.Kind != release.PromoteRun || r.row.Verdict == evidence.VerdictBroken {
		return nil
	}
	if r.watched != nil {
		return nil // the watch looks at these times
	}
	now := time.Now().UTC().Truncate(time.Second)
	for _, m := range r.moments[:min(mostRechecks, len(r.moments))] {
		after := time.Duration(m.After) * time.Second
		if after > latest {
			continue
		}
		id, err := s.PlanRecheck(ctx, store.Recheck{SiteID: r.row.SiteID, EnvironmentID: r.env.ID, RunID: r.row.ID, Fingerprint: r.row.Target,
			Moment: store.JSON[exclusion.Moment]{V: m}, DueAt: now.Add(after)})
		if err != nil {
			return err
		}
		if err := r.jobs.insert(ctx, s, RecheckArgs{id}, &river.InsertOpts{Queue: queueRechecks, MaxAttempts: 10, ScheduledAt: now.Add(after)}); err != nil {
			return err
		}
	}
	return nil
}

// BeginRecheck begins a look that is due, unless the settings that it is about are no longer in
// force. It fails with an error that says so while another run is open there.
func (w *Runner) BeginRecheck(ctx context.Context, id int64) error {
	return w.Store.Within(ctx, func(s *store.Store) error {
		l, err := s.Recheck(ctx, id)
		if err != nil || l.State != store.RecheckPlanned {
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
			return s.SettleRecheck(ctx, id, store.RecheckWithdrawn, nil, env.Name+" has other settings by now.")
		}
		run, err := w.StartIn(ctx, s, store.Run{SiteID: l.SiteID, EnvironmentID: l.EnvironmentID, Kind: release.RecheckRun, RequestedBy: planned.RequestedBy})
		if _, waits := Waits(err); waits {
			return &notNow{err}
		}
		if err != nil {
			return err
		}
		return errors.Join(s.SettleRecheck(ctx, id, store.RecheckBegun, &run, ""),
			s.Record(ctx, store.Event{SiteID: l.SiteID, EnvironmentID: &l.EnvironmentID, ChangeID: planned.ChangeID, RunID: &run, Kind: string(release.RecheckRun), Who: planned.RequestedBy,
				Text: fmt.Sprintf("Looking at %s as run %d planned. %s", env.Name, l.RunID, l.Moment.V)}))
	})
}
