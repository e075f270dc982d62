package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"tidemarker/internal/connector"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// Busy says that something is under way on an environment, so that it was not read.
type Busy struct{ Environment string }

func (e *Busy) Error() string {
	return "Something is under way on " + e.Environment + ", so it was not read. Wait for it, or stop it."
}

// Read reads an environment: who answers, its catalogue and its settings, and records
// them. What is not what the environment was left with is noted as changed outside.
// *Busy when a run acts on it.
func (w *Runner) Read(ctx context.Context, envID int64) (store.Environment, connector.Settings, error) {
	unlock, free, err := w.Store.TryLockEnvironment(ctx, envID)
	if err != nil {
		return store.Environment{}, connector.Settings{}, err
	}
	if !free {
		env, err := w.Store.Environment(ctx, envID)
		if err != nil {
			return env, connector.Settings{}, err
		}
		return env, connector.Settings{}, &Busy{env.Name}
	}
	defer unlock()
	return w.read(ctx, envID)
}

// read is Read by whoever has the environment's lock.
func (w *Runner) read(ctx context.Context, envID int64) (store.Environment, connector.Settings, error) {
	none := connector.Settings{}
	env, err := w.Store.Environment(ctx, envID)
	if err != nil {
		return env, none, err
	}
	client, err := w.layer(env)
	if err != nil {
		return env, none, err
	}
	about, err := client.About(ctx)
	if err != nil {
		return env, none, err
	}
	cat, err := client.Catalogue(ctx)
	if err != nil {
		return env, none, err
	}
	now, err := client.Settings(ctx)
	if err != nil {
		return env, none, err
	}
	fp, err := w.Store.SaveRevision(ctx, env.SiteID, now.Values)
	if err != nil {
		return env, none, err
	}
	left, err := w.Store.LeftIntents(ctx, envID)
	if err != nil {
		return env, none, err
	}
	if len(left) > 0 {
		if err := w.settle(ctx, left, fp); err != nil {
			return env, none, err
		}
		if env, err = w.Store.Environment(ctx, envID); err != nil {
			return env, none, err
		}
	}
	if err := w.noteReading(ctx, env, fp); err != nil {
		return env, none, err
	}
	if err := w.Store.SaveReading(ctx, env.ID, about, cat, fp); err != nil {
		return env, none, err
	}
	env, err = w.Store.Environment(ctx, envID)
	return env, now, err
}

// outside is who changes what Tide Marker did not.
const outside = "outside"

// noteReading records settings that are not those last read back: the first reading,
// or what somebody changed outside.
func (w *Runner) noteReading(ctx context.Context, env store.Environment, fp string) error {
	if env.Fingerprint == fp {
		return nil
	}
	first := env.Fingerprint == ""
	kind, note := outside, "Found when the settings were read; somebody changed them outside Tide Marker."
	if first {
		kind, note = "first", "First reading."
	} else if err := w.Store.NoteDrift(ctx, env, fp); err != nil {
		return err
	}
	id, err := w.Store.Intend(ctx, store.Act{EnvironmentID: env.ID, Kind: kind, Fingerprint: fp, Predecessor: env.Fingerprint, Who: outside})
	if err != nil {
		return err
	}
	if err := w.Store.Outcome(ctx, id, "applied", note, fp); err != nil || first {
		return err
	}
	keys := diffKeys(w.differences(ctx, env.SiteID, env.Fingerprint, fp))
	if err := w.Store.Record(ctx, store.Event{SiteID: env.SiteID, EnvironmentID: &env.ID, Kind: outside, Who: outside,
		Text: fmt.Sprintf("The settings of %s were changed outside Tide Marker: %s.", env.Name, keys)}); err != nil {
		return err
	}
	return w.Store.Tell(ctx, store.Notice{Site: env.SiteID})
}

// differences are those between two revisions of a site; none when one is not known.
func (w *Runner) differences(ctx context.Context, siteID int64, before, after string) []settings.Difference {
	was, err := w.Store.Revision(ctx, siteID, before)
	if err != nil {
		return nil
	}
	now, err := w.Store.Revision(ctx, siteID, after)
	if err != nil {
		return nil
	}
	return settings.Diff(was, now)
}

// blockedByDrift are the runs that do not begin from settings nobody here decided on.
var blockedByDrift = []store.RunKind{store.TryRun, store.PromoteRun, store.MarkRun}

// refuseDrift refuses to go on while what was changed outside is not settled.
func (r *run) refuseDrift(ctx context.Context) error {
	open, err := r.Store.OpenDrifts(ctx, r.siteID)
	if err != nil || !slices.Contains(blockedByDrift, r.row.Kind) {
		return err
	}
	for _, d := range open {
		if d.EnvironmentID == r.env.ID {
			return &Drifted{Environment: r.env.Name, From: d.Was, To: d.Found, Differences: r.differences(ctx, r.siteID, d.Was, d.Found)}
		}
	}
	return nil
}

// Drifted says that an environment was changed outside; nothing was overwritten.
type Drifted struct {
	Environment, From, To string
	Differences           []settings.Difference
}

func (e *Drifted) Error() string {
	keys := strings.TrimSpace(diffKeys(e.Differences))
	return fmt.Sprintf("%s was changed outside Tide Marker (%s). Nothing was overwritten. Accept what was found, or put it back, on the site's page; then try again", e.Environment, keys)
}

func driftText(env store.Environment) string {
	return env.Name + " was changed outside Tide Marker. Accept what was found, or put it back, on the site's page first."
}

// ReadAll reads every environment that has a connector and on which nothing is under
// way, one after the other. What cannot be read is passed over: whoever next wants to
// act on it is told.
func (w *Runner) ReadAll(ctx context.Context) error {
	envs, err := w.Store.ConnectedEnvironments(ctx)
	if err != nil {
		return err
	}
	for _, id := range envs {
		if _, _, err := w.Read(ctx, id); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if _, busy := errors.AsType[*Busy](err); !busy { // whoever acts on it reads it
				w.Log.Info("an environment was not read", "environment", id, "why", err)
			}
		}
	}
	return nil
}
