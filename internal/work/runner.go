package work

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"tidemarker/internal/browser"
	"tidemarker/internal/connector"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// Runner carries runs out.
type Runner struct {
	Store   *store.Store
	Blobs   store.Blobs                      // where pictures and bodies are kept
	Browser func() (*browser.Browser, error) // started at the first look
	Log     *slog.Logger
	// ReadEvery is how often all environments are read; 0 leaves it to those who act.
	ReadEvery time.Duration
	// Enqueue hands a run that may begin to whoever works runs off.
	Enqueue func(ctx context.Context, runID int64) error
	// EnqueueSurvey does so with a site whose pages are to be found.
	EnqueueSurvey func(ctx context.Context, onboardingID int64) error
	// ReadyFor is for how long somebody who was made ready for a proof is used again by
	// later proofs, for sites that do not like many sign-ins; 0 makes everybody ready again.
	ReadyFor time.Duration

	readyMu sync.Mutex
	made    map[int64]madeReady // by environment
}

// madeReady is who was made ready on an environment, and until when that counts.
type madeReady struct {
	state map[[2]string]browser.State
	until time.Time
}

// stillReady is who was made ready for an earlier proof and counts yet.
func (w *Runner) stillReady(env int64) (map[[2]string]browser.State, bool) {
	w.readyMu.Lock()
	defer w.readyMu.Unlock()
	m, there := w.made[env]
	return m.state, there && time.Now().Before(m.until)
}

func (w *Runner) keepReady(env int64, state map[[2]string]browser.State) {
	if w.ReadyFor <= 0 {
		return
	}
	w.readyMu.Lock()
	defer w.readyMu.Unlock()
	if w.made == nil {
		w.made = map[int64]madeReady{}
	}
	w.made[env] = madeReady{state, time.Now().Add(w.ReadyFor)}
}

// ErrStopped is why a run ended that a person stopped.
var ErrStopped = errors.New("stopped by a person")

// run is one run being carried out.
type run struct {
	*Runner
	row    store.Run
	env    store.Environment
	site   site.Site
	siteID int64
	client speedLayer
	about  connector.About
	cat    settings.Catalogue

	base     evidence.Baseline
	baseMark *store.Mark
	values   settings.Values // in force while looking
	progress progress
	ready    map[[2]string]browser.State // personas made ready in this pass, by name and device
}

// Run carries out one run. It returns nil when the run ended, however it ended,
// and when another process works on it. An error means that it should be tried again.
func (w *Runner) Run(ctx context.Context, id int64) error {
	unlock, free, err := w.Store.TryLockRun(ctx, id)
	if err != nil || !free {
		return err
	}
	defer unlock()
	row, err := w.Store.Run(ctx, id)
	if err != nil {
		return err
	}
	if row.State.Over() || row.State == store.Waiting {
		return nil
	}
	r, err := w.prepare(ctx, row)
	if err != nil {
		return err
	}
	unlockEnv, err := w.Store.LockEnvironment(ctx, row.EnvironmentID)
	if err != nil {
		return err
	}
	defer unlockEnv()
	if err := w.Store.StartRun(ctx, id); err != nil {
		return err
	}
	r.row.Attempt++
	work, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	watching := make(chan struct{})
	go func() { defer close(watching); r.watchForStop(work, cancel) }()
	err = r.carryOut(work)
	if cause := context.Cause(work); errors.Is(cause, ErrStopped) {
		err = ErrStopped
	}
	cancel(nil)
	<-watching
	if errors.Is(err, errManualTask) {
		return nil // it goes on when a person has done it
	}
	if ctx.Err() != nil && !errors.Is(err, ErrStopped) {
		return ctx.Err() // the process ends; the run is taken up again
	}
	return r.end(context.WithoutCancel(ctx), err)
}

func (w *Runner) prepare(ctx context.Context, row store.Run) (*run, error) {
	env, err := w.Store.Environment(ctx, row.EnvironmentID)
	if err != nil {
		return nil, err
	}
	s, err := w.Store.Site(ctx, row.SiteID)
	if err != nil {
		return nil, err
	}
	r := &run{Runner: w, row: row, env: env, site: s.Document.V, siteID: s.ID}
	r.progress = progress{store: w.Store, run: row.ID, site: s.ID, change: row.ChangeID, p: store.RunProgress{Started: time.Now().UTC(), Editing: row.Progress.V.Editing}}
	return r, nil
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

// environment is the environment as the site's document has it.
func (r *run) environment() site.Environment {
	e, _, _ := r.site.Environment(r.env.Name)
	return e
}

// carryOut does what the run is for and leaves its findings and verdict in row.
func (r *run) carryOut(ctx context.Context) error {
	if err := r.connect(ctx); err != nil {
		return err
	}
	if r.row.Kind == store.MarkRun {
		return r.takeMark(ctx)
	}
	if err := r.loadBaseline(ctx); err != nil {
		return err
	}
	if err := r.bringInForce(ctx); err != nil {
		return err
	}
	if r.row.Kind == store.IsolationRun {
		return r.prove(ctx)
	}
	return r.check(ctx)
}

// NoConnector says why an environment's settings can be neither read nor changed.
type NoConnector struct{ Why string }

func (e *NoConnector) Error() string { return e.Why }

// connect reads the environment anew.
func (r *run) connect(ctx context.Context) error {
	r.progress.say(ctx, "reading", "Reading the settings of "+r.env.Name)
	if err := r.settleIntents(ctx); err != nil {
		return err
	}
	env, now, err := r.read(ctx, r.env.ID)
	if err != nil {
		return err
	}
	client, err := r.layer(env)
	if err != nil {
		return err
	}
	r.env, r.client, r.about, r.cat, r.values = env, client, *env.About.V, *env.Catalogue.V, now.Values
	if err := r.refuseDrift(ctx); err != nil {
		return err
	}
	if err := r.Store.SaveBefore(ctx, r.row.ID, env.Fingerprint, nil); err != nil {
		return err
	}
	return r.takeBackLeft(ctx)
}

// loadBaseline reads the mark the run compares with.
func (r *run) loadBaseline(ctx context.Context) error {
	var m store.Mark
	var err error
	if r.row.MarkID != nil {
		m, err = r.Store.Mark(ctx, *r.row.MarkID)
	} else {
		m, err = r.Store.LatestMark(ctx, r.env.ID)
	}
	if errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("%s has no mark to compare with. Take one first", r.env.Name)
	}
	if err != nil {
		return err
	}
	r.baseMark = &m
	if err := r.Store.SaveBefore(ctx, r.row.ID, r.env.Fingerprint, &m.ID); err != nil {
		return err
	}
	r.base, err = r.Store.Baseline(ctx, m)
	r.base.Marks = map[string][]string{}
	for _, p := range r.site.Personas {
		r.base.Marks[p.Name] = p.Marks
	}
	return err
}
