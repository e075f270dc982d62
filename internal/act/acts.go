package act

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/speedlayer"
	"tidemarker/internal/store"
	"tidemarker/internal/trouble"
)

// Acts acts on environments by what is known of them.
type Acts struct {
	Store *store.Store
	Kinds speedlayer.Kinds
	Log   *slog.Logger
	// Variables are the environment variables that an administrator lets tokens come from, as env:NAME.
	Variables []string
	// Patience is for how long a speed layer that brings no answer is asked again before that is said; 0 says it at once,
	// for those whom a person waits for.
	Patience time.Duration
	// Again hears that an environment is asked again after a pause, since it brings no answer; nil hears nothing.
	Again func(environment string, pause time.Duration)
}

// Layer is the speed layer of an environment.
func (a *Acts) Layer(env store.Environment) (speedlayer.Layer, error) {
	token, err := a.Store.Reveal(env)
	if err != nil {
		return nil, err
	}
	l, err := a.Kinds.Open(env.ConnectorKind, speedlayer.Place{Environment: env.Name, URL: env.ConnectorURL, Token: token, Variables: a.Variables,
		Known: func(ctx context.Context) (settings.Values, string, error) { return a.known(ctx, env.ID) }})
	if err != nil {
		return nil, err
	}
	l = guarded{l, a.Store}
	if a.Patience > 0 {
		l = speedlayer.Patient(l, a.Patience, func(why error, next time.Duration) {
			a.Log.Info("a speed layer is asked again", "environment", env.ID, "why", why, "after", next)
			if a.Again != nil {
				a.Again(env.Name, next)
			}
		})
	}
	return l, nil
}

// guarded is a speed layer on which only those act who still may: see [store.Store.Fenced].
type guarded struct {
	speedlayer.Layer
	store *store.Store
}

// Apply applies values, unless another process has taken the run over.
func (g guarded) Apply(ctx context.Context, v settings.Values, ifMatch string) release.Outcome {
	if err := g.store.MayAct(ctx); err != nil {
		return release.NotApplied(err)
	}
	return g.Layer.Apply(ctx, v, ifMatch)
}

// Purge purges pages, unless another process has taken the run over.
func (g guarded) Purge(ctx context.Context, of speedlayer.Scope) (int, error) {
	if err := g.store.MayAct(ctx); err != nil {
		return 0, err
	}
	defer trouble.At(trouble.Purged)
	return g.Layer.Purge(ctx, of)
}

// Warm begins a warm-up, unless another process has taken the run over.
func (g guarded) Warm(ctx context.Context, urls []string) (speedlayer.Warming, error) {
	if err := g.store.MayAct(ctx); err != nil {
		return speedlayer.Warming{}, err
	}
	defer trouble.At(trouble.Warmed)
	return g.Layer.Warm(ctx, urls)
}

// Able is what the speed layer of an environment can do.
func (a *Acts) Able(env store.Environment) speedlayer.Abilities {
	return a.Kinds.Able(env.ConnectorKind, env.About.V)
}

// known are the settings that are known of an environment without asking it.
func (a *Acts) known(ctx context.Context, envID int64) (settings.Values, string, error) {
	env, err := a.Store.Environment(ctx, envID)
	if err != nil || env.Fingerprint == "" {
		return nil, "", err
	}
	v, err := a.Store.Revision(ctx, env.SiteID, env.Fingerprint)
	return v, env.Fingerprint, err
}

// Busy says that something is under way on an environment.
type Busy struct{ Environment string }

func (e *Busy) Error() string {
	return "Something is under way on " + e.Environment + ", so it was not read. Wait for it, or stop it."
}

// NotPossible says why values cannot be put in force on an environment.
type NotPossible struct{ Why string }

func (e *NotPossible) Error() string { return "Nothing was changed: " + e.Why }

// Drifted says that an environment was changed outside; nothing was overwritten.
type Drifted struct {
	Environment, From, To string
	Differences           []settings.Difference
}

func (e *Drifted) Error() string {
	return fmt.Sprintf("%s was changed outside Tide Marker (%s). Nothing was overwritten. Accept what was found, or revert it, on the site's page; then try again", e.Environment, keysOf(e.Differences))
}

// DriftText says what is to be done first about an environment that was changed outside.
func DriftText(env store.Environment) string {
	return env.Name + " was changed outside Tide Marker. Accept what was found, or revert it, on the site's page first."
}

// StillUnknown says that an earlier act on an environment came to nobody knows what, so
// that nothing is done on top of it.
type StillUnknown struct {
	Environment string
	Act         store.Act
}

func (e *StillUnknown) Error() string { return UnknownText(e.Environment, e.Act) }

// UnknownText says that it is not known what an environment has, since when, and that
// it is read again.
func UnknownText(environment string, a store.Act) string {
	return fmt.Sprintf("It is not known which settings %s has: since %s UTC nobody could tell whether %s were applied (%s). Nothing acts on it until it can be read again.",
		environment, a.IntendedAt.UTC().Format("2 January 15:04"), short(a.Fingerprint), a.Kind)
}

func short(fingerprint string) string { return fingerprint[:min(8, len(fingerprint))] }

func keysOf(diff []settings.Difference) string {
	s := ""
	for i, d := range diff {
		if i > 0 {
			s += ", "
		}
		s += d.Key
	}
	return s
}

// differences are those between two revisions of a site; none when one is not known.
func (a *Acts) differences(ctx context.Context, siteID int64, before, after string) []settings.Difference {
	was, err := a.Store.Revision(ctx, siteID, before)
	if err != nil {
		return nil
	}
	now, err := a.Store.Revision(ctx, siteID, after)
	if err != nil {
		return nil
	}
	return settings.Diff(was, now)
}

// lock takes an environment for as long as something is done on it; *[Busy] when
// somebody else has it.
func (a *Acts) lock(ctx context.Context, env store.Environment) (unlock func(), err error) {
	held, free, err := a.Store.TryLockEnvironment(ctx, env.ID)
	if err != nil {
		return nil, err
	}
	if !free {
		return nil, &Busy{env.Name}
	}
	return held.Unlock, nil
}

// aRead is how long an act of a person waits for whoever only reads the environment just now.
const aRead = 3 * time.Second

// lockWhenRead is [Acts.lock], but a reading that is under way is waited for; *[Busy]
// when it is more than that.
func (a *Acts) lockWhenRead(ctx context.Context, env store.Environment) (unlock func(), err error) {
	held, free, err := a.Store.LockEnvironment(ctx, env.ID, aRead)
	if err != nil {
		return nil, err
	}
	if !free {
		return nil, &Busy{env.Name}
	}
	return held.Unlock, nil
}

// idle is *[Busy] while a run is open on an environment.
func (a *Acts) idle(ctx context.Context, env store.Environment) error {
	switch _, err := a.Store.OpenRunOn(ctx, env.ID); {
	case errors.Is(err, store.ErrNotFound):
		return nil
	case err != nil:
		return err
	}
	return &Busy{env.Name}
}
