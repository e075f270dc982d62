package work

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"tidemarker/internal/connector"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// speedLayer is how an environment's settings are read and changed: through its
// connector, or by a person.
type speedLayer interface {
	About(context.Context) (connector.About, error)
	Catalogue(context.Context) (settings.Catalogue, error)
	Settings(context.Context) (connector.Settings, error)
	Apply(ctx context.Context, v settings.Values, ifMatch string) (connector.Settings, error)
	PurgeAll(context.Context) (int, error)
	Purge(ctx context.Context, urls []string) (int, error)
	Stale(ctx context.Context, urls []string) (int, error)
	Warm(ctx context.Context, urls []string) (connector.Warming, error)
	Warming(ctx context.Context, id string) (connector.Warming, error)
}

const byHandKind = "by-hand"

// layer is how an environment's settings are reached.
func (w *Runner) layer(env store.Environment) (speedLayer, error) {
	switch env.ConnectorKind {
	case "http":
	case byHandKind:
		return byHand{w.Store, env}, nil
	default:
		return nil, &NoConnector{env.Name + " has no connector, so its settings can be neither read nor changed. Add one to the site file"}
	}
	return Dial(env.Name, env.ConnectorURL, env.Token)
}

// Dial returns a client for a connector. The token is itself, or env:NAME.
func Dial(envName, url, token string) (*connector.Client, error) {
	if name, ok := strings.CutPrefix(token, "env:"); ok {
		if token = os.Getenv(name); token == "" {
			return nil, &NoConnector{fmt.Sprintf("The token of %s is to come from the environment variable %s, which is not set", envName, name)}
		}
	}
	return connector.New(url, token, 0), nil
}

// byHand is an environment whose settings a person reads and changes in the site's own
// administration. What it has is what was last exported, or last done and ticked.
type byHand struct {
	store *store.Store
	env   store.Environment
}

// errNotByHand is for what nobody can be asked to do by hand at once.
var errNotByHand = errors.New("this is done by hand")

func (h byHand) About(context.Context) (connector.About, error) {
	return connector.About{Protocol: "1", Environment: h.env.Name, Software: "changed by hand", Features: []string{}, Facts: connector.HostFacts{Hosting: "unknown"}}, nil
}

func (h byHand) Catalogue(ctx context.Context) (settings.Catalogue, error) {
	now, err := h.Settings(ctx)
	return settings.CatalogueOf(now.Values), err
}

func (h byHand) Settings(ctx context.Context) (connector.Settings, error) {
	if h.env.Fingerprint == "" {
		return connector.Settings{}, &NoConnector{"Nothing is known of the settings of " + h.env.Name + " yet. Export them in the site's own administration, and upload the file"}
	}
	v, err := h.store.Revision(ctx, h.env.SiteID, h.env.Fingerprint)
	return connector.Settings{Values: v, ETag: h.env.Fingerprint}, err
}

func (h byHand) Apply(context.Context, settings.Values, string) (connector.Settings, error) {
	return connector.Settings{}, errNotByHand
}
func (h byHand) PurgeAll(context.Context) (int, error)        { return 0, errNotByHand }
func (h byHand) Purge(context.Context, []string) (int, error) { return 0, errNotByHand }
func (h byHand) Stale(context.Context, []string) (int, error) { return 0, errNotByHand }
func (h byHand) Warm(context.Context, []string) (connector.Warming, error) {
	return connector.Warming{}, errNotByHand
}
func (h byHand) Warming(context.Context, string) (connector.Warming, error) {
	return connector.Warming{}, errNotByHand
}

// errManualTask says that a run rests until a person has carried out its checklist.
var errManualTask = errors.New("a person is to carry it out")

// askForManualTask makes a checklist of what differs and lets the run rest, or ends it when
// a person cancelled it.
func (r *run) askForManualTask(ctx context.Context, v settings.Values, target string) error {
	h, err := r.Store.ManualTaskOf(ctx, r.row.ID)
	switch {
	case errors.Is(err, store.ErrNotFound):
		if err := r.makeChecklist(ctx, v, target); err != nil {
			return err
		}
	case err != nil:
		return err
	case h.State == "done":
		return fmt.Errorf("%s was done by hand, but something else is known of it since. Upload what it has now", r.env.Name)
	}
	if asked, err := r.Store.StopAsked(ctx, r.row.ID); err != nil || asked {
		return errors.Join(err, r.giveUp(ctx))
	}
	if err := r.Store.RestForManualTask(ctx, r.row.ID); err != nil {
		return err
	}
	r.progress.say(ctx, "by hand", "Waiting until somebody has carried out the checklist")
	return errManualTask
}

func (r *run) makeChecklist(ctx context.Context, v settings.Values, target string) error {
	items := []store.TaskItem{}
	for _, d := range settings.Diff(r.values, v) {
		def, _ := r.cat.Find(d.Key)
		items = append(items, store.TaskItem{Key: d.Key, Title: def.Title, Where: def.Group, From: d.From, To: d.To})
	}
	items = append(items, store.TaskItem{Title: "Save, and clear the page cache"})
	return r.Store.BeginManualTask(ctx,
		store.ManualTask{SiteID: r.siteID, EnvironmentID: r.env.ID, RunID: r.row.ID, Target: target, Predecessor: r.env.Fingerprint, Items: store.JSON[[]store.TaskItem]{V: items}},
		store.Act{EnvironmentID: r.env.ID, RunID: &r.row.ID, ChangeID: r.row.ChangeID, Kind: string(r.row.Kind), Fingerprint: target, Predecessor: r.env.Fingerprint, Who: r.row.RequestedBy})
}

// giveUp ends a checklist that nobody will carry out. How much of it was done is not
// known.
func (r *run) giveUp(ctx context.Context) error {
	steady := context.WithoutCancel(ctx)
	h, err := r.Store.ManualTaskOf(steady, r.row.ID)
	if err != nil {
		return err
	}
	if _, err := r.Store.EndManualTask(steady, h.ID, "cancelled", r.row.RequestedBy, nil); err != nil {
		return err
	}
	if err := r.outcomeOfTask(steady, h, "not applied", "The checklist was cancelled. Upload the settings to say what is in force.", ""); err != nil {
		return err
	}
	return ErrStopped
}

func (w *Runner) outcomeOfTask(ctx context.Context, h store.ManualTask, state, note, fingerprint string) error {
	open, err := w.Store.Intents(ctx, h.RunID)
	if err != nil {
		return err
	}
	for _, a := range open {
		if err := w.Store.Outcome(ctx, a.ID, state, note, fingerprint); err != nil {
			return err
		}
	}
	return nil
}

// NotAsMeant says what an exported file has that is not what a checklist asked for.
type NotAsMeant struct{ Differences []settings.Difference }

func (e *NotAsMeant) Error() string {
	return fmt.Sprintf("The file is not what was to be set; %d differ: %s. Nothing was recorded. Set them as the list says, export again, or stop the run", len(e.Differences), diffKeys(e.Differences))
}

// CompleteManualTask closes a run's checklist and hands the run in again. With an exported
// file it is proven that only what was meant has changed (*NotAsMeant when not);
// without one every item has to be ticked.
func (w *Runner) CompleteManualTask(ctx context.Context, runID int64, file []byte, who string) error {
	h, err := w.Store.ManualTaskOf(ctx, runID)
	if err != nil {
		return err
	}
	if h.State != "open" {
		return store.ErrSettled
	}
	note := "Done by hand by " + who + "; every item is ticked, no exported file proves it."
	var proof *store.TaskProof
	if len(file) > 0 {
		if proof, err = w.proveManualTask(ctx, h, file, who); err != nil {
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
	// In this order each step can be done again when the process dies after it: what is
	// in force is recorded first, and Recover hands a run in whose list is closed.
	if err := w.outcomeOfTask(ctx, h, "applied", note, h.Target); err != nil {
		return err
	}
	ok, err := w.Store.EndManualTask(ctx, h.ID, "done", who, proof)
	if err != nil {
		return err
	}
	if !ok {
		return store.ErrSettled
	}
	return w.Enqueue(ctx, runID)
}

func (w *Runner) proveManualTask(ctx context.Context, h store.ManualTask, file []byte, who string) (*store.TaskProof, error) {
	e, err := settings.ParseExported(file)
	if err != nil {
		return nil, &NotPossible{err.Error()}
	}
	meant, err := w.Store.Revision(ctx, h.SiteID, h.Target)
	if err != nil {
		return nil, err
	}
	if diff := settings.Diff(meant, e.Values); len(diff) > 0 {
		return nil, &NotAsMeant{diff}
	}
	before, err := w.Store.LatestExport(ctx, h.EnvironmentID)
	if err != nil {
		return nil, err
	}
	patch, err := settings.Patch(before, e.Document)
	if err != nil {
		return nil, err
	}
	return &store.TaskProof{Patch: patch}, w.Store.SaveExport(ctx, h.EnvironmentID, h.Target, e.Document, who)
}

// TakeExport records the settings file that somebody exported from an environment that
// is changed by hand. What is not what the environment was left with is noted as
// changed outside.
func (w *Runner) TakeExport(ctx context.Context, envID int64, file []byte, who string) (store.Environment, error) {
	env, err := w.Store.Environment(ctx, envID)
	if err != nil {
		return env, err
	}
	if env.ConnectorKind != byHandKind {
		return env, &NoConnector{env.Name + " is read through its connector; there is nothing to upload"}
	}
	unlock, free, err := w.Store.TryLockEnvironment(ctx, envID)
	if err != nil {
		return env, err
	}
	if !free {
		return env, &Busy{env.Name}
	}
	defer unlock()
	open, err := w.Store.OpenRuns(ctx)
	if err != nil {
		return env, err
	}
	for _, r := range open {
		if r.EnvironmentID == envID {
			return env, &Busy{env.Name}
		}
	}
	e, err := settings.ParseExported(file)
	if err != nil {
		return env, &NotPossible{err.Error()}
	}
	fp, err := w.Store.SaveRevision(ctx, env.SiteID, e.Values)
	if err != nil {
		return env, err
	}
	if err := w.Store.SaveExport(ctx, envID, fp, e.Document, who); err != nil {
		return env, err
	}
	if err := w.noteReading(ctx, env, fp); err != nil {
		return env, err
	}
	env.Fingerprint = fp
	about, err := byHand{w.Store, env}.About(ctx)
	if err != nil {
		return env, err
	}
	if err := w.Store.SaveReading(ctx, envID, about, settings.CatalogueOf(e.Values), fp); err != nil {
		return env, err
	}
	return w.Store.Environment(ctx, envID)
}
