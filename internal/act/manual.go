package act

import (
	"context"
	"errors"
	"fmt"

	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// AskForManualTask makes a checklist of what a person is to change, with the intent that
// it carries out. values are what the environment has now.
func (a *Acts) AskForManualTask(ctx context.Context, in Intent, cat settings.Catalogue, values settings.Values, run store.Run) error {
	if err := a.settled(ctx, in.Environment); err != nil {
		return err
	}
	items := []store.TaskItem{}
	for _, d := range settings.Diff(values, in.Values) {
		def, _ := cat.Find(d.Key)
		items = append(items, store.TaskItem{Key: d.Key, Title: def.Title, Where: def.Group, From: d.From, To: d.To})
	}
	items = append(items, store.TaskItem{Title: "Save, and clear the page cache"})
	return a.Store.BeginManualTask(ctx,
		store.ManualTask{SiteID: run.SiteID, EnvironmentID: run.EnvironmentID, RunID: run.ID, Target: in.Fingerprint, Predecessor: in.Environment.Fingerprint, Items: store.JSON[[]store.TaskItem]{V: items}},
		store.Act{EnvironmentID: run.EnvironmentID, RunID: in.Run, ChangeID: in.Change, Kind: in.Kind, Fingerprint: in.Fingerprint, Predecessor: in.Environment.Fingerprint, Base: in.Base, Who: in.Who})
}

// CancelManualTask ends a checklist that nobody will carry out. How much of it was done
// nobody knows, so that what the environment has is unknown until its settings are
// uploaded.
func (a *Acts) CancelManualTask(ctx context.Context, run store.Run) (release.Outcome, error) {
	h, err := a.Store.ManualTaskOf(ctx, run.ID)
	if err != nil {
		return release.Outcome{}, err
	}
	why := errors.New("the checklist was cancelled, and nobody knows how much of it was done. Upload the settings to say what is in force")
	return release.Unknown(why), a.Store.Within(ctx, func(s *store.Store) error {
		if _, err := s.EndManualTask(ctx, h.ID, "cancelled", run.RequestedBy, nil); err != nil {
			return err
		}
		open, err := s.OpenAct(ctx, h.EnvironmentID)
		if err != nil {
			return err
		}
		return s.EndAct(ctx, open.ID, release.ActUnknown, "The checklist was cancelled. Upload the settings to say what is in force.", "")
	})
}

// NotAsExpected says what an exported file has that is not what a checklist asked for.
type NotAsExpected struct{ Differences []settings.Difference }

func (e *NotAsExpected) Error() string {
	return fmt.Sprintf("The file is not what was to be set; %d differ: %s. Nothing was recorded. Set them as the list says, export again, or stop the run", len(e.Differences), keysOf(e.Differences))
}

// CompleteManualTask closes a run's checklist. With an exported file it is proven that
// only what was meant has changed (*[NotAsExpected] when not); without one every item has
// to be ticked. It is called within the transaction in which the run goes on.
func (a *Acts) CompleteManualTask(ctx context.Context, s *store.Store, runID int64, file []byte, who string) error {
	h, err := s.ManualTaskOf(ctx, runID)
	if err != nil {
		return err
	}
	if h.State != "open" {
		return store.ErrSettled
	}
	note := "Done by hand by " + who + "; every item is ticked, no exported file proves it."
	var proof *store.TaskProof
	if len(file) > 0 {
		if proof, err = proveManualTask(ctx, s, h, file, who); err != nil {
			return err
		}
		note = "Done by hand by " + who + "; the exported file has exactly what was meant."
	} else {
		for _, it := range h.Items.V {
			if !it.Done {
				return &NotPossible{fmt.Sprintf("“%s” is not ticked. Tick what is done, or upload the settings file as it is now", it.Title)}
			}
		}
	}
	open, err := s.OpenAct(ctx, h.EnvironmentID)
	if err != nil {
		return err
	}
	if err := s.EndAct(ctx, open.ID, release.ActApplied, note, h.Target); err != nil {
		return err
	}
	ok, err := s.EndManualTask(ctx, h.ID, "done", who, proof)
	if err == nil && !ok {
		err = store.ErrSettled
	}
	return err
}

func proveManualTask(ctx context.Context, s *store.Store, h store.ManualTask, file []byte, who string) (*store.TaskProof, error) {
	e, err := settings.ParseExported(file)
	if err != nil {
		return nil, &NotPossible{err.Error()}
	}
	meant, err := s.Revision(ctx, h.SiteID, h.Target)
	if err != nil {
		return nil, err
	}
	if diff := settings.Diff(meant, e.Values); len(diff) > 0 {
		return nil, &NotAsExpected{diff}
	}
	before, err := s.LatestExport(ctx, h.EnvironmentID)
	if err != nil {
		return nil, err
	}
	patch, err := settings.Patch(before, e.Document)
	if err != nil {
		return nil, err
	}
	return &store.TaskProof{Patch: patch}, s.SaveExport(ctx, h.EnvironmentID, h.Target, e.Document, who)
}

// TakeExport records the settings file that somebody exported from an environment whose
// speed layer cannot be read. It says what a cancelled checklist came to; what is not
// what the environment was left with is noted as changed outside.
func (a *Acts) TakeExport(ctx context.Context, envID int64, file []byte, who string) (store.Environment, error) {
	env, err := a.Store.Environment(ctx, envID)
	if err != nil {
		return env, err
	}
	layer, err := a.Layer(env)
	if err != nil {
		return env, err
	}
	if a.Able(env).Reads {
		return env, &NotPossible{env.Name + " is read through its connector; there is nothing to upload"}
	}
	unlock, err := a.lockWhenRead(ctx, env)
	if err != nil {
		return env, err
	}
	defer unlock()
	open, err := a.Store.OpenAct(ctx, envID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return env, err
	}
	unknown := err == nil && open.State == release.ActUnknown
	if !unknown {
		if err := a.idle(ctx, env); err != nil {
			return env, err
		}
	}
	e, err := settings.ParseExported(file)
	if err != nil {
		return env, &NotPossible{err.Error()}
	}
	fp, err := a.Store.SaveRevision(ctx, env.SiteID, e.Values)
	if err != nil {
		return env, err
	}
	if err := a.Store.SaveExport(ctx, envID, fp, e.Document, who); err != nil {
		return env, err
	}
	if unknown {
		if env, err = a.settleAct(ctx, env, open, fp); err != nil {
			return env, err
		}
	}
	if err := a.noteReading(ctx, env, fp); err != nil {
		return env, err
	}
	about, err := layer.About(ctx)
	if err != nil {
		return env, err
	}
	if err := a.Store.SaveReading(ctx, envID, about, settings.CatalogueOf(e.Values), fp); err != nil {
		return env, err
	}
	return a.Store.Environment(ctx, envID)
}
