package work

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"strings"
	"time"

	"tidemarker/internal/browser"
	"tidemarker/internal/connector"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// Runner carries rounds out.
type Runner struct {
	Store   *store.Store
	Blobs   store.Blobs                      // where pictures and bodies are kept
	Browser func() (*browser.Browser, error) // started at the first look
	Log     *slog.Logger
	// Enqueue hands a round that may begin to whoever works rounds off.
	Enqueue func(ctx context.Context, roundID int64) error
}

// ErrStopped is why a round ended that a person stopped.
var ErrStopped = errors.New("stopped by a person")

// round is one round being carried out.
type round struct {
	*Runner
	row    store.Round
	env    store.Environment
	site   site.Site
	siteID int64
	client *connector.Client
	about  connector.About
	cat    settings.Catalogue

	base     evidence.Baseline
	baseMark *store.Mark
	values   settings.Values // in force while looking
	progress progress
	ready    map[[2]string]browser.State // personas made ready in this pass, by name and device
}

// Run carries out one round. It returns nil when the round ended, however it ended,
// and when another process works on it. An error means that it should be tried again.
func (w *Runner) Run(ctx context.Context, id int64) error {
	unlock, free, err := w.Store.TryLockRound(ctx, id)
	if err != nil || !free {
		return err
	}
	defer unlock()
	row, err := w.Store.Round(ctx, id)
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
	if err := w.Store.StartRound(ctx, id); err != nil {
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
	if ctx.Err() != nil && !errors.Is(err, ErrStopped) {
		return ctx.Err() // the process ends; the round is taken up again
	}
	return r.end(context.WithoutCancel(ctx), err)
}

func (w *Runner) prepare(ctx context.Context, row store.Round) (*round, error) {
	env, err := w.Store.Environment(ctx, row.EnvironmentID)
	if err != nil {
		return nil, err
	}
	s, err := w.Store.Site(ctx, row.SiteID)
	if err != nil {
		return nil, err
	}
	r := &round{Runner: w, row: row, env: env, site: s.Document.V, siteID: s.ID}
	r.progress = progress{store: w.Store, round: row.ID, site: s.ID, change: row.ChangeID, p: store.RoundProgress{Started: time.Now().UTC()}}
	return r, nil
}

func (r *round) watchForStop(ctx context.Context, stop context.CancelCauseFunc) {
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
func (r *round) environment() site.Environment {
	e, _, _ := r.site.Environment(r.env.Name)
	return e
}

// carryOut does what the round is for and leaves its findings and verdict in row.
func (r *round) carryOut(ctx context.Context) error {
	if err := r.connect(ctx); err != nil {
		return err
	}
	if r.row.Kind == store.MarkRound {
		return r.takeMark(ctx)
	}
	if err := r.loadBaseline(ctx); err != nil {
		return err
	}
	if err := r.bringInForce(ctx); err != nil {
		return err
	}
	return r.check(ctx)
}

// NoConnector says why an environment's settings can be neither read nor changed.
type NoConnector struct{ Why string }

func (e *NoConnector) Error() string { return e.Why }

// Client returns a client for an environment's connector.
func Client(env store.Environment) (*connector.Client, error) {
	switch env.ConnectorKind {
	case "http":
	case "":
		return nil, &NoConnector{env.Name + " has no connector, so its settings can be neither read nor changed. Add one to the site file"}
	default:
		return nil, &NoConnector{fmt.Sprintf("%s has a connector of kind %q, which cannot be worked with yet", env.Name, env.ConnectorKind)}
	}
	token := env.Token
	if name, ok := strings.CutPrefix(token, "env:"); ok {
		if token = os.Getenv(name); token == "" {
			return nil, fmt.Errorf("the token of %s is to come from the environment variable %s, which is not set", env.Name, name)
		}
	}
	return connector.New(env.ConnectorURL, token, 0), nil
}

// Read reads an environment: who answers, its catalogue and its settings, and records
// them. drifted tells that the settings are not those last read back.
func (w *Runner) Read(ctx context.Context, envID int64, who string) (_ store.Environment, _ connector.Settings, drifted bool, _ error) {
	env, err := w.Store.Environment(ctx, envID)
	if err != nil {
		return env, connector.Settings{}, false, err
	}
	client, err := Client(env)
	if err != nil {
		return env, connector.Settings{}, false, err
	}
	about, err := client.About(ctx)
	if err != nil {
		return env, connector.Settings{}, false, err
	}
	cat, err := client.Catalogue(ctx)
	if err != nil {
		return env, connector.Settings{}, false, err
	}
	now, err := client.Settings(ctx)
	if err != nil {
		return env, connector.Settings{}, false, err
	}
	fp, err := w.Store.SaveRevision(ctx, env.SiteID, now.Values)
	if err != nil {
		return env, connector.Settings{}, false, err
	}
	left, err := w.Store.LeftIntents(ctx, envID)
	if err != nil {
		return env, connector.Settings{}, false, err
	}
	if len(left) > 0 {
		if err := w.settle(ctx, left, fp); err != nil {
			return env, connector.Settings{}, false, err
		}
		if env, err = w.Store.Environment(ctx, envID); err != nil {
			return env, connector.Settings{}, false, err
		}
	}
	if err := w.noteReading(ctx, env, fp, who); err != nil {
		return env, connector.Settings{}, false, err
	}
	if err := w.Store.SaveReading(ctx, env.ID, about, cat, fp); err != nil {
		return env, connector.Settings{}, false, err
	}
	drifted = env.Fingerprint != "" && env.Fingerprint != fp
	env, err = w.Store.Environment(ctx, envID)
	return env, now, drifted, err
}

// noteReading records settings that are not those last read back: the first reading,
// or what somebody changed outside.
func (w *Runner) noteReading(ctx context.Context, env store.Environment, fp, who string) error {
	if env.Fingerprint == fp {
		return nil
	}
	kind, note := "outside", "Found when the settings were read; somebody changed them outside Tide Marker."
	if env.Fingerprint == "" {
		kind, note = "first", "First reading."
	}
	id, err := w.Store.Intend(ctx, store.Application{EnvironmentID: env.ID, Kind: kind, Fingerprint: fp, Predecessor: env.Fingerprint, Who: who})
	if err != nil {
		return err
	}
	if err := w.Store.Outcome(ctx, id, "applied", note, fp); err != nil {
		return err
	}
	if kind == "first" {
		return nil
	}
	return w.Store.Record(ctx, store.Event{SiteID: env.SiteID, EnvironmentID: &env.ID, Kind: "outside", Who: "outside",
		Text: fmt.Sprintf("The settings of %s were changed outside Tide Marker.", env.Name)})
}

// connect reads the environment anew.
func (r *round) connect(ctx context.Context) error {
	r.progress.say(ctx, "reading", "Reading the settings of "+r.env.Name)
	if err := r.settleIntents(ctx); err != nil {
		return err
	}
	before := r.env.Fingerprint
	env, now, drifted, err := r.Read(ctx, r.env.ID, r.row.RequestedBy)
	if err != nil {
		return err
	}
	client, err := Client(env)
	if err != nil {
		return err
	}
	r.env, r.client, r.about, r.cat, r.values = env, client, *env.About.V, *env.Catalogue.V, now.Values
	if drifted && r.row.ChangeID != nil && (r.row.Kind == store.TryRound || r.row.Kind == store.PromoteRound) {
		return &Drifted{Environment: env.Name, From: before, To: env.Fingerprint, Differences: r.differences(ctx, before, now.Values)}
	}
	return r.Store.SaveBefore(ctx, r.row.ID, env.Fingerprint, nil)
}

func (r *round) differences(ctx context.Context, before string, now settings.Values) []settings.Difference {
	was, err := r.Store.Revision(ctx, r.siteID, before)
	if err != nil {
		return nil
	}
	return settings.Diff(was, now)
}

// Drifted says that an environment was changed outside; nothing was overwritten.
type Drifted struct {
	Environment, From, To string
	Differences           []settings.Difference
}

func (e *Drifted) Error() string {
	keys := make([]string, len(e.Differences))
	for i, d := range e.Differences {
		keys[i] = d.Key
	}
	return fmt.Sprintf("%s was changed outside Tide Marker (%s). Nothing was overwritten, and what was found is recorded. Look at it, then try again to go on from there", e.Environment, strings.Join(keys, ", "))
}

// loadBaseline reads the mark the round compares with.
func (r *round) loadBaseline(ctx context.Context) error {
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
