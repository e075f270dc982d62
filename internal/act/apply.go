package act

import (
	"context"
	"errors"
	"fmt"

	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/speedlayer"
	"tidemarker/internal/store"
	"tidemarker/internal/trouble"
)

// Intent is what is to be put in force on an environment.
type Intent struct {
	Environment store.Environment // as just read, by whoever has its lock
	Layer       speedlayer.Layer
	Values      settings.Values
	Fingerprint string // of the values
	Kind        release.ActKind
	Run         *int64
	Change      *int64
	Base        string // what the change was begun from, "" when there is none
	Who         string
}

// Apply puts values in force. From the moment the site is told it is carried to its end,
// also when ctx ends. Applied means that the values were read back; what is unknown
// stays open in the record and is read back by [Acts.Read] when the site answers.
// Whoever calls it has the environment's lock.
func (a *Acts) Apply(ctx context.Context, in Intent) release.Outcome {
	if err := a.settled(ctx, in.Environment); err != nil {
		return release.NotApplied(err)
	}
	now, err := in.Layer.Settings(ctx)
	if err != nil {
		return release.NotApplied(err)
	}
	predecessor, err := a.Store.SaveRevision(ctx, in.Environment.SiteID, now.Values)
	if err != nil {
		return release.NotApplied(err)
	}
	if predecessor != in.Environment.Fingerprint {
		if err := a.noteReading(ctx, in.Environment, predecessor); err != nil {
			return release.NotApplied(err)
		}
		return release.NotApplied(&Drifted{Environment: in.Environment.Name, From: in.Environment.Fingerprint, To: predecessor,
			Differences: a.differences(ctx, in.Environment.SiteID, in.Environment.Fingerprint, predecessor)})
	}
	trouble.At(trouble.Intending)
	id, err := a.Store.Intend(ctx, store.Act{EnvironmentID: in.Environment.ID, RunID: in.Run, ChangeID: in.Change, Kind: in.Kind,
		Fingerprint: in.Fingerprint, Predecessor: predecessor, Base: in.Base, Who: in.Who})
	if err != nil {
		return release.NotApplied(err)
	}
	trouble.At(trouble.Intended)
	steady := context.WithoutCancel(ctx)
	said := in.Layer.Apply(steady, in.Values, now.ETag)
	trouble.At(trouble.Told)
	return release.Take(said,
		func() release.Outcome { return a.readBack(steady, in, id, nil) },
		func(why error) release.Outcome { return a.ended(steady, id, release.NotApplied(why), why.Error(), "") },
		func(why error) release.Outcome { return a.readBack(steady, in, id, why) })
}

// settled is *[StillUnknown] while it is not known what an earlier act came to.
func (a *Acts) settled(ctx context.Context, env store.Environment) error {
	open, err := a.Store.OpenAct(ctx, env.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	return &StillUnknown{env.Name, open}
}

// readBack reads what an act came to. doubt is why the site's own answer did not say.
func (a *Acts) readBack(ctx context.Context, in Intent, id int64, doubt error) release.Outcome {
	back, err := in.Layer.Settings(ctx)
	if err != nil {
		why := fmt.Errorf("it is not known whether the settings of %s were applied, since they could not be read back: %w", in.Environment.Name, errors.Join(doubt, err))
		return a.ended(ctx, id, release.Unknown(why), why.Error(), "")
	}
	trouble.At(trouble.ReadBack)
	found, err := a.Store.SaveRevision(ctx, in.Environment.SiteID, back.Values)
	if err != nil {
		return release.Unknown(err)
	}
	switch {
	case found == in.Fingerprint:
		return a.ended(ctx, id, release.Applied(), "Read back with the same fingerprint.", found)
	case found == in.Environment.Fingerprint && doubt != nil:
		return a.ended(ctx, id, release.NotApplied(doubt), "Read back: the earlier settings are in force. "+doubt.Error(), found)
	}
	why := fmt.Errorf("%s took the settings but reads back others (%s)", in.Environment.Name, keysOf(settings.Diff(in.Values, back.Values)))
	if found == in.Environment.Fingerprint {
		return a.ended(ctx, id, release.NotApplied(why), why.Error(), found)
	}
	// These are settings that nobody decided on: they are recorded as drift, and a person decides.
	if doubt != nil {
		why = fmt.Errorf("%s did not take the settings, and reads back others than it had: %w", in.Environment.Name, doubt)
	}
	err = a.Store.Within(ctx, func(s *store.Store) error {
		if err := s.EndAct(ctx, id, release.ActNotApplied, why.Error(), ""); err != nil {
			return err
		}
		return a.noteDrift(ctx, s, in.Environment, found, why.Error()+".")
	})
	if err != nil {
		return release.Unknown(err)
	}
	trouble.At(trouble.ActEnded)
	return release.NotApplied(why)
}

// ended records an outcome. One that cannot be recorded is unknown: the open intent is
// settled later.
func (a *Acts) ended(ctx context.Context, id int64, o release.Outcome, note, found string) release.Outcome {
	if err := a.Store.EndAct(ctx, id, o.State(), note, found); err != nil {
		return release.Unknown(err)
	}
	trouble.At(trouble.ActEnded)
	return o
}
