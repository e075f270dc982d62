package run

import (
	"context"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/rivertype"
)

// queueKeeping is the queue of what removes what need not be kept.
const queueKeeping = "keeping"

// keepEvery is how often that is done.
const keepEvery = time.Hour

// KeepArgs is a job of the queue: what no site keeps any more is to be removed.
type KeepArgs struct{}

// Kind names the job.
func (KeepArgs) Kind() string { return "keep" }

type keepWorker struct {
	river.WorkerDefaults[KeepArgs]
	runner *Runner
}

// Work removes it, in small steps: one that is cut off goes on the next time.
func (w *keepWorker) Work(ctx context.Context, _ *river.Job[KeepArgs]) error {
	gone, err := w.runner.Store.RemoveExpired(ctx)
	if gone.Runs+gone.Bodies+gone.Blobs > 0 {
		w.runner.Log.Info("removed what is not kept any more", "runs", gone.Runs, "bodies", gone.Bodies, "blobs", gone.Blobs, "bytes", gone.Bytes)
	}
	return err
}

// Timeout is enough for years that were never tidied.
func (w *keepWorker) Timeout(*river.Job[KeepArgs]) time.Duration { return 6 * time.Hour }

// periodic is a job that one process hands in every so often, however many there are, unless the last one is still to be done.
func periodic(every time.Duration, queue string, args river.JobArgs) *river.PeriodicJob {
	return river.NewPeriodicJob(river.PeriodicInterval(every), func() (river.JobArgs, *river.InsertOpts) {
		return args, &river.InsertOpts{Queue: queue, MaxAttempts: 1, UniqueOpts: river.UniqueOpts{ByState: []rivertype.JobState{
			rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRunning, rivertype.JobStateScheduled}}}
	}, nil)
}
