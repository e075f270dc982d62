package act

import (
	"context"
	"errors"
	"fmt"

	"golang.org/x/sync/errgroup"

	"tidemarker/internal/core/notice"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/speedlayer"
	"tidemarker/internal/store"
)

// Read reads an environment: who answers, its catalogue and its settings, and records
// them. What an earlier act came to is known then; what is not what the environment was
// left with is noted as changed outside. *[Busy] when somebody acts on it; who has it although no run is open has it for a
// moment only, another reading or the run that just ended, and is waited for.
func (a *Acts) Read(ctx context.Context, envID int64) (store.Environment, speedlayer.Settings, error) {
	env, err := a.Store.Environment(ctx, envID)
	if err != nil {
		return env, speedlayer.Settings{}, err
	}
	take := a.lockWhenRead
	if _, err := a.Store.OpenRunOn(ctx, env.ID); err == nil {
		take = a.lock
	} else if !errors.Is(err, store.ErrNotFound) {
		return env, speedlayer.Settings{}, err
	}
	unlock, err := take(ctx, env)
	if err != nil {
		return env, speedlayer.Settings{}, err
	}
	defer unlock()
	return a.ReadLocked(ctx, envID)
}

// ReadLocked is Read by whoever has the environment's lock.
func (a *Acts) ReadLocked(ctx context.Context, envID int64) (store.Environment, speedlayer.Settings, error) {
	env, err := a.Store.Environment(ctx, envID)
	if err != nil {
		return env, speedlayer.Settings{}, err
	}
	r, err := a.reading(ctx, env)
	if err != nil {
		return env, speedlayer.Settings{}, errors.Join(err, a.stillUnread(ctx, env, err))
	}
	fp, err := a.Store.SaveRevision(ctx, env.SiteID, r.now.Values)
	if err != nil {
		return env, r.now, err
	}
	if env, err = a.settle(ctx, env, fp); err != nil {
		return env, r.now, err
	}
	if err := a.noteReading(ctx, env, fp); err != nil {
		return env, r.now, err
	}
	if err := a.Store.SaveReading(ctx, env.ID, r.about, r.cat, fp); err != nil {
		return env, r.now, err
	}
	env, err = a.Store.Environment(ctx, envID)
	return env, r.now, err
}

// reading is what a speed layer says of itself.
type reading struct {
	about settings.About
	cat   settings.Catalogue
	now   speedlayer.Settings
}

func (a *Acts) reading(ctx context.Context, env store.Environment) (r reading, err error) {
	layer, err := a.Layer(env)
	if err != nil {
		return r, err
	}
	if r.about, err = layer.About(ctx); err != nil {
		return r, err
	}
	if r.cat, err = layer.Catalogue(ctx); err != nil {
		return r, err
	}
	r.now, err = layer.Settings(ctx)
	return r, err
}

// stillUnread notes that an environment whose state is unknown could not be read, and
// when that is tried again.
func (a *Acts) stillUnread(ctx context.Context, env store.Environment, why error) error {
	open, err := a.Store.OpenAct(ctx, env.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	if open.State == release.Intended { // whoever intended it is gone: we have the lock
		return a.Store.EndAct(ctx, open.ID, release.ActUnknown, "Its process ended before it could be read back, and then: "+why.Error(), "")
	}
	return a.Store.ReadFailed(ctx, open.ID, why.Error(), release.Pause(open.Reads+1))
}

// settle records what an earlier act came to, by what was read now. Where only a person
// can say what is in force, what they uploaded says it.
func (a *Acts) settle(ctx context.Context, env store.Environment, found string) (store.Environment, error) {
	open, err := a.Store.OpenAct(ctx, env.ID)
	if errors.Is(err, store.ErrNotFound) || err == nil && !a.Able(env).Reads {
		return env, nil
	}
	if err != nil {
		return env, err
	}
	return a.settleAct(ctx, env, open, found)
}

func (a *Acts) settleAct(ctx context.Context, env store.Environment, open store.Act, found string) (store.Environment, error) {
	state, note := release.Settle(open.Fingerprint, open.Predecessor, found)
	known := found
	if state == release.ActNotApplied && found != open.Predecessor {
		known = "" // somebody else's doing: noteReading tells of it
	}
	if err := a.Store.EndAct(ctx, open.ID, state, note, known); err != nil {
		return env, err
	}
	if err := a.Store.Record(ctx, store.Event{SiteID: env.SiteID, EnvironmentID: &env.ID, RunID: open.RunID, ChangeID: open.ChangeID, Kind: "act", Who: open.Who,
		Text: fmt.Sprintf("It is known again what %s has: the settings that were to be applied (%s) are %s.", env.Name, open.Kind, map[bool]string{true: "in force", false: "not in force"}[state == release.ActApplied])}); err != nil {
		return env, err
	}
	if err := a.Store.Tell(ctx, store.Signal{Site: env.SiteID}); err != nil {
		return env, err
	}
	return a.Store.Environment(ctx, env.ID)
}

// outside is who changes what Tide Marker did not.
const outside = "outside"

// noteReading records settings that are not those last read back: the first reading, an
// act of ours that landed late, or what somebody changed outside.
func (a *Acts) noteReading(ctx context.Context, env store.Environment, found string) error {
	if env.Fingerprint == found {
		return nil
	}
	if env.Fingerprint == "" {
		return a.Store.RecordAct(ctx, store.Act{EnvironmentID: env.ID, Kind: release.ActFirst, Fingerprint: found, Note: "First reading.", Who: outside})
	}
	late, err := a.landedLate(ctx, env, found)
	if late || err != nil {
		return err
	}
	text := fmt.Sprintf("The settings of %s were changed outside Tide Marker: %s.", env.Name, keysOf(a.differences(ctx, env.SiteID, env.Fingerprint, found)))
	return a.Store.Within(ctx, func(s *store.Store) error { return a.noteDrift(ctx, s, env, found, text) })
}

// noteDrift records, and tells people, that an environment has settings which nobody here decided on.
func (a *Acts) noteDrift(ctx context.Context, s *store.Store, env store.Environment, found, text string) error {
	return errors.Join(
		s.NoteDrift(ctx, env, found),
		s.RecordAct(ctx, store.Act{EnvironmentID: env.ID, Kind: release.ActOutside, Fingerprint: found, Predecessor: env.Fingerprint,
			Note: "Found when the settings were read. " + text, Who: outside}),
		s.Record(ctx, store.Event{SiteID: env.SiteID, EnvironmentID: &env.ID, Kind: outside, Who: outside, Topic: notice.Outside, Text: text}),
		s.Tell(ctx, store.Signal{Site: env.SiteID}))
}

// landedLate tells whether what is in force is what our last act there wanted: a request
// that was given up reached the site after its settings had been read back.
func (a *Acts) landedLate(ctx context.Context, env store.Environment, found string) (bool, error) {
	last, err := a.Store.LastAct(ctx, env.ID)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	if err != nil || last.State != release.ActNotApplied || last.Fingerprint != found || last.Predecessor != env.Fingerprint {
		return false, err
	}
	return true, errors.Join(
		a.Store.ActLanded(ctx, last.ID, "It was taken for not applied, and reached the site late."),
		a.Store.Record(ctx, store.Event{SiteID: env.SiteID, EnvironmentID: &env.ID, RunID: last.RunID, ChangeID: last.ChangeID, Kind: "act", Who: last.Who,
			Text: fmt.Sprintf("What was to be applied to %s (%s) was taken for not applied, and reached the site late: it is in force.", env.Name, last.Kind)}))
}

// atOnce is how many environments are read at once.
const atOnce = 16

// ReadAll reads every environment whose speed layer can be read and on which nothing is
// under way. What cannot be read is passed over: whoever next wants to act on it is told.
func (a *Acts) ReadAll(ctx context.Context) error {
	envs, err := a.Store.EnvironmentsOfKinds(ctx, a.Kinds.Readable())
	if err != nil {
		return err
	}
	return a.readEach(ctx, envs)
}

// ReadUnknown reads the environments whose state is unknown and whose time has come.
func (a *Acts) ReadUnknown(ctx context.Context) error {
	envs, err := a.Store.UnknownDue(ctx)
	if err != nil {
		return err
	}
	return a.readEach(ctx, envs)
}

// readEach reads them beside each other, so that a site that does not answer keeps others waiting as little as may be.
func (a *Acts) readEach(ctx context.Context, envs []int64) error {
	var all errgroup.Group
	all.SetLimit(atOnce)
	for _, id := range envs {
		all.Go(func() error { a.TryRead(ctx, id); return ctx.Err() })
	}
	return all.Wait()
}

// TryRead reads an environment if it can be, and otherwise leaves a line in the log.
func (a *Acts) TryRead(ctx context.Context, envID int64) {
	_, _, err := a.Read(ctx, envID)
	if _, busy := errors.AsType[*Busy](err); err != nil && !busy && ctx.Err() == nil { // whoever acts on it reads it
		a.Log.Info("an environment was not read", "environment", envID, "why", err)
	}
}

// RefuseDrift is *[Drifted] while what was changed outside on an environment is neither
// accepted nor reverted.
func (a *Acts) RefuseDrift(ctx context.Context, env store.Environment) error {
	open, err := a.Store.OpenDrifts(ctx, env.SiteID)
	if err != nil {
		return err
	}
	for _, d := range open {
		if d.EnvironmentID == env.ID {
			return &Drifted{Environment: env.Name, From: d.Was, To: d.Found, Differences: a.differences(ctx, env.SiteID, d.Was, d.Found)}
		}
	}
	return nil
}
