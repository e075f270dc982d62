package run

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"tidemarker/internal/core/release"
	"tidemarker/internal/store"
)

// The queues: readings, surveys and looks that fall due never wait for runs, nor runs for them. A rollback waits for nothing but
// rollbacks, and what takes hours keeps nothing else waiting.
const (
	queueBack     = "rollbacks"
	queueRuns     = "runs"
	queueLong     = "long"
	queueReads    = "reads"
	queueSurveys  = "surveys"
	queueRechecks = "rechecks"
)

// Args is a job of the queue: one run to be carried out. Handed tells how often it was
// handed in; a job of an earlier time does nothing.
type Args struct {
	Run    int64 `json:"run"`
	Handed int   `json:"handed"`
}

// Kind names the job; Store.LostRuns knows it by this name.
func (Args) Kind() string { return "run" }

// jobs hands runs to River within the transaction that records what they are for.
type jobs struct{ client *river.Client[*sql.Tx] }

func newJobs() (jobs, error) {
	c, err := river.NewClient(riverdatabasesql.New(nil), &river.Config{Logger: slog.New(slog.DiscardHandler)})
	if err != nil {
		return jobs{}, fmt.Errorf("set up the job queue: %w", err)
	}
	return jobs{c}, nil
}

// handIn hands a run in, to be begun at once.
func (j jobs) handIn(ctx context.Context, s *store.Store, id int64) error {
	return j.handInAt(ctx, s, id, time.Time{})
}

func (j jobs) handInAt(ctx context.Context, s *store.Store, id int64, at time.Time) error {
	r, err := s.HandIn(ctx, id)
	if err != nil {
		return err
	}
	queue, priority := place(r.Kind)
	return j.insert(ctx, s, Args{id, r.Handed}, &river.InsertOpts{Queue: queue, Priority: priority, MaxAttempts: 1, ScheduledAt: at, UniqueOpts: river.UniqueOpts{ByArgs: true}})
}

func (j jobs) insert(ctx context.Context, s *store.Store, args river.JobArgs, opts *river.InsertOpts) error {
	tx := s.Tx()
	if tx == nil {
		return errors.New("a job is handed in together with what it is for, in one transaction")
	}
	if _, err := j.client.InsertTx(ctx, tx, args, opts); err != nil {
		return fmt.Errorf("hand in a job: %w", err)
	}
	return nil
}

// place is the queue in which runs of a kind wait, and how urgent they are there, 1 being first.
func place(k release.RunKind) (queue string, priority int) {
	switch k {
	case release.RollBackRun:
		return queueBack, 1
	case release.PromoteRun, release.TryRun:
		return queueRuns, 1
	case release.MeasureRun, release.CulpritRun:
		return queueLong, 1
	}
	return queueRuns, 2
}

// Queue works jobs off. Its workers may be in this process or on another machine with
// the same database.
type Queue struct {
	client *river.Client[pgx.Tx]
	runner *Runner
	opt    Options
	stop   context.CancelFunc
	loops  sync.WaitGroup // what goes on beside the jobs
}

// ReadArgs is a job of the queue: all environments are to be read.
type ReadArgs struct{}

// Kind names the job.
func (ReadArgs) Kind() string { return "read" }

type readWorker struct {
	river.WorkerDefaults[ReadArgs]
	runner *Runner
}

// Work reads all environments.
func (w *readWorker) Work(ctx context.Context, _ *river.Job[ReadArgs]) error {
	return w.runner.Acts.ReadAll(ctx)
}

// Timeout is enough for many sites that do not answer.
func (w *readWorker) Timeout(*river.Job[ReadArgs]) time.Duration { return 30 * time.Minute }

// SurveyArgs is a job of the queue: the pages of a site that is being added are to be
// found.
type SurveyArgs struct {
	Onboarding int64 `json:"onboarding"`
}

// Kind names the job.
func (SurveyArgs) Kind() string { return "survey" }

// EnqueueSurvey hands in that the pages of a site are to be found, within the
// transaction that s is.
func (w *Runner) EnqueueSurvey(ctx context.Context, s *store.Store, onboarding int64) error {
	return w.jobs.insert(ctx, s, SurveyArgs{onboarding}, &river.InsertOpts{Queue: queueSurveys, MaxAttempts: 3})
}

type surveyWorker struct {
	river.WorkerDefaults[SurveyArgs]
	survey func(ctx context.Context, onboarding int64) error
}

// Work finds them.
func (w *surveyWorker) Work(ctx context.Context, job *river.Job[SurveyArgs]) error {
	return w.survey(ctx, job.Args.Onboarding)
}

// Timeout is enough for a site that answers slowly.
func (w *surveyWorker) Timeout(*river.Job[SurveyArgs]) time.Duration { return 30 * time.Minute }

type worker struct {
	river.WorkerDefaults[Args]
	runner *Runner
}

// Work carries the run out. While something else acts on its environment, the job is put
// back and the worker is free for other sites.
func (w *worker) Work(ctx context.Context, job *river.Job[Args]) error {
	row, err := w.runner.Store.Run(ctx, job.Args.Run)
	if err != nil || row.Handed != job.Args.Handed {
		return err
	}
	err = w.runner.Run(ctx, job.Args.Run)
	if errors.Is(err, ErrNotFree) {
		return river.JobSnooze(notFreePause)
	}
	if err != nil && ctx.Err() == nil {
		w.runner.Log.Warn("a run could not be worked on", "run", job.Args.Run, "why", err)
	}
	return err
}

// Timeout leaves it to the looks to give up; a big site takes long.
func (w *worker) Timeout(*river.Job[Args]) time.Duration { return -1 }

const (
	notFreePause = 2 * time.Second
	// recoverEvery is how often runs are looked for that wait for nobody, and environments
	// that are to be read again.
	recoverEvery = 2 * time.Second
)

// Options say what a queue does beside runs.
type Options struct {
	Workers int // how many runs at once
	// ReadEvery is how often all environments are read; 0 leaves it to those who act.
	ReadEvery time.Duration
	Survey    func(ctx context.Context, onboarding int64) error
	// StepUp lets step-ups go on: it begins the runs that they need next and waits for none.
	StepUp func(ctx context.Context) error
	// GoOut promotes what was approved to go out by itself, and may now.
	GoOut func(ctx context.Context) error
	// Scheduled begins what is to be done again and again, and is due.
	Scheduled func(ctx context.Context) error
	// Watch watches promotions.
	Watch func(ctx context.Context) error
	// Rollouts takes changes to other sites.
	Rollouts func(ctx context.Context) error
}

// NewQueue returns a queue that works jobs off after [Queue.Start].
func NewQueue(runner *Runner, opt Options) (*Queue, error) {
	cfg := &river.Config{Logger: slog.New(levelled{runner.Log.Handler(), slog.LevelWarn}), Workers: river.NewWorkers(), FetchPollInterval: time.Second,
		Queues: map[string]river.QueueConfig{queueBack: {MaxWorkers: opt.Workers}, queueRuns: {MaxWorkers: opt.Workers}, queueLong: {MaxWorkers: max(1, opt.Workers/2)}, queueReads: {MaxWorkers: 1}, queueSurveys: {MaxWorkers: 2}, queueRechecks: {MaxWorkers: 1}, queueKeeping: {MaxWorkers: 1}}}
	river.AddWorker(cfg.Workers, &worker{runner: runner})
	river.AddWorker(cfg.Workers, &readWorker{runner: runner})
	river.AddWorker(cfg.Workers, &recheckWorker{runner: runner})
	river.AddWorker(cfg.Workers, &keepWorker{runner: runner})
	river.AddWorker(cfg.Workers, &surveyWorker{survey: opt.Survey})
	cfg.PeriodicJobs = []*river.PeriodicJob{periodic(keepEvery, queueKeeping, KeepArgs{})}
	if opt.ReadEvery > 0 {
		cfg.PeriodicJobs = append(cfg.PeriodicJobs, periodic(opt.ReadEvery, queueReads, ReadArgs{}))
	}
	client, err := river.NewClient(riverpgxv5.New(runner.Store.Pool), cfg)
	if err != nil {
		return nil, fmt.Errorf("set up the job queue: %w", err)
	}
	return &Queue{client: client, runner: runner, opt: opt}, nil
}

// levelled passes on only what is at least of a level.
type levelled struct {
	slog.Handler
	least slog.Level
}

// Enabled tells whether a level is passed on.
func (l levelled) Enabled(ctx context.Context, level slog.Level) bool {
	return level >= l.least && l.Handler.Enabled(ctx, level)
}

// Start begins to work jobs off, those first that were left open.
func (q *Queue) Start(ctx context.Context) error {
	if err := q.client.Start(ctx); err != nil {
		return fmt.Errorf("start the job queue: %w", err)
	}
	watch, stop := context.WithCancel(ctx)
	q.stop = stop
	q.again(watch, "looking for runs that were cut off failed", q.runner.handInWaiting)
	for _, loop := range []struct {
		do     func(context.Context) error
		failed string
	}{
		{q.opt.StepUp, "a step-up could not continue"},
		{q.opt.GoOut, "what was approved could not be followed up"},
		{q.opt.Scheduled, "what is scheduled could not be started"},
		{q.opt.Watch, "a promotion could not be watched"},
		{q.opt.Rollouts, "a rollout could not go on"},
	} {
		if loop.do != nil {
			q.again(watch, loop.failed, loop.do)
		}
	}
	// Each environment is read by itself: one that does not answer keeps none of the others unknown.
	room := make(chan struct{}, mostUnknown)
	q.again(watch, "looking for environments of which nothing is known failed", func(ctx context.Context) error {
		due, err := q.runner.Store.UnknownDue(ctx)
		for _, env := range due {
			select {
			case room <- struct{}{}:
				q.loops.Go(func() { defer func() { <-room }(); q.runner.Acts.TryRead(watch, env) })
			default: // with the next turn
			}
		}
		return err
	})
	return nil
}

// mostUnknown is how many environments of which nothing is known are read at once.
const mostUnknown = 64

// again does something every [recoverEvery] until ctx ends, whatever becomes of it.
func (q *Queue) again(ctx context.Context, failed string, do func(context.Context) error) {
	q.loops.Go(func() {
		tick := time.NewTicker(recoverEvery)
		defer tick.Stop()
		for {
			if err := do(ctx); err != nil && ctx.Err() == nil {
				q.runner.Log.Warn(failed, "why", err)
			}
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
		}
	})
}

// Stop ends the work. Runs under way are cut off and taken up again later.
func (q *Queue) Stop(ctx context.Context) {
	if q.stop != nil {
		q.stop()
		q.loops.Wait()
	}
	_ = q.client.StopAndCancel(ctx)
}
