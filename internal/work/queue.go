package work

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivertype"
)

// RunArgs is a job of the queue: one run to be carried out.
type RunArgs struct {
	Run int64 `json:"run"`
}

// Kind names the job.
func (RunArgs) Kind() string { return "run" }

// Queue hands runs to River, whose workers may be in this process or on another
// machine with the same database.
type Queue struct {
	client *river.Client[pgx.Tx]
	runner *Runner
	stop   context.CancelFunc
	ended  chan struct{}
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
	return w.runner.ReadAll(ctx)
}

// Timeout is enough for many sites that do not answer.
func (w *readWorker) Timeout(*river.Job[ReadArgs]) time.Duration { return 30 * time.Minute }

// SurveyArgs is a job of the queue: the pages of a site being added are to be found.
type SurveyArgs struct {
	Onboarding int64 `json:"taking"`
}

// Kind names the job.
func (SurveyArgs) Kind() string { return "survey" }

type surveyWorker struct {
	river.WorkerDefaults[SurveyArgs]
	runner *Runner
}

// Work finds them.
func (w *surveyWorker) Work(ctx context.Context, job *river.Job[SurveyArgs]) error {
	return w.runner.Survey(ctx, job.Args.Onboarding)
}

// Timeout is enough for a site that answers slowly.
func (w *surveyWorker) Timeout(*river.Job[SurveyArgs]) time.Duration { return 30 * time.Minute }

type runWorker struct {
	river.WorkerDefaults[RunArgs]
	runner *Runner
}

// Work carries the run out.
func (w *runWorker) Work(ctx context.Context, job *river.Job[RunArgs]) error {
	return w.runner.Run(ctx, job.Args.Run)
}

// Timeout leaves it to the looks to give up; a big site takes long.
func (w *runWorker) Timeout(*river.Job[RunArgs]) time.Duration { return -1 }

// recoverEvery is how often runs are looked for that a process left when it died.
const recoverEvery = 10 * time.Second

// NewQueue returns a queue that only takes runs in. With workers above 0 it works
// them off, too, after [Queue.Start].
func NewQueue(runner *Runner, workers int) (*Queue, error) {
	cfg := &river.Config{Logger: slog.New(slog.DiscardHandler)}
	if workers > 0 {
		all := river.NewWorkers()
		river.AddWorker(all, &runWorker{runner: runner})
		river.AddWorker(all, &readWorker{runner: runner})
		river.AddWorker(all, &surveyWorker{runner: runner})
		if runner.ReadEvery > 0 {
			// However many processes work runs off, one of them hands this in.
			cfg.PeriodicJobs = []*river.PeriodicJob{river.NewPeriodicJob(river.PeriodicInterval(runner.ReadEvery), func() (river.JobArgs, *river.InsertOpts) {
				return ReadArgs{}, &river.InsertOpts{UniqueOpts: river.UniqueOpts{ByState: []rivertype.JobState{rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRunning, rivertype.JobStateScheduled}}, MaxAttempts: 1}
			}, nil)}
		}
		cfg.Workers = all
		cfg.Queues = map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: workers}}
		cfg.FetchPollInterval = time.Second
	}
	client, err := river.NewClient(riverpgxv5.New(runner.Store.Pool), cfg)
	if err != nil {
		return nil, fmt.Errorf("set up the job queue: %w", err)
	}
	q := &Queue{client: client, runner: runner}
	runner.Enqueue = q.Enqueue
	runner.EnqueueSurvey = func(ctx context.Context, taking int64) error {
		_, err := client.Insert(ctx, SurveyArgs{Onboarding: taking}, &river.InsertOpts{MaxAttempts: 3})
		return err
	}
	return q, nil
}

// Enqueue hands a run in.
func (q *Queue) Enqueue(ctx context.Context, runID int64) error {
	if _, err := q.client.Insert(ctx, RunArgs{Run: runID}, nil); err != nil {
		return fmt.Errorf("hand run %d to the queue: %w", runID, err)
	}
	return nil
}

// Start begins to work runs off, those first that were left open.
func (q *Queue) Start(ctx context.Context) error {
	if err := q.client.Start(ctx); err != nil {
		return fmt.Errorf("start the job queue: %w", err)
	}
	watch, stop := context.WithCancel(ctx)
	q.stop, q.ended = stop, make(chan struct{})
	go func() {
		defer close(q.ended)
		tick := time.NewTicker(recoverEvery)
		defer tick.Stop()
		for {
			if err := q.runner.Recover(watch); err != nil && watch.Err() == nil {
				q.runner.Log.Warn("looking for runs that were cut off failed", "why", err)
			}
			select {
			case <-watch.Done():
				return
			case <-tick.C:
			}
		}
	}()
	return nil
}

// Stop ends the work. Runs under way are cut off and taken up again later.
func (q *Queue) Stop(ctx context.Context) {
	if q.stop != nil {
		q.stop()
		<-q.ended
	}
	_ = q.client.StopAndCancel(ctx)
}
