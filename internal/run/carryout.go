package run

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"tidemarker/internal/act"
	"tidemarker/internal/core/calendar"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/watch"
	"tidemarker/internal/inspect"
	"tidemarker/internal/speedlayer"
	"tidemarker/internal/store"
)

// run is one run being carried out.
type run struct {
	*Runner
	row      store.Run
	env      store.Environment
	site     site.Site
	resumed  bool // it had waited until it was known what its act came to
	progress *inspect.Progress

	layer   speedlayer.Layer
	able    speedlayer.Abilities
	cat     settings.Catalogue
	values  settings.Values // in force
	changed bool            // by this attempt

	base     evidence.Baseline
	baseMark *store.Mark
	moments  []exclusion.Moment // when to look again, after the run
	watched  *store.Watch       // that begins when the run ends
	looks    []watch.Look       // of it
	renewed  []store.Renewal    // parts of the mark that the site itself has moved on in
	mark     *store.Mark        // that it took; saved with its end
}

// concluded tells whether the run had come to its end already, but for putting back.
func (r *run) concluded() bool { return r.row.Verdict != "" }

// carryOut does what the run is for and leaves its verdict in row.
func (r *run) carryOut(ctx context.Context) error {
	if r.concluded() {
		return nil
	}
	if r.row.Attempt > release.MostAttempts {
		return &tooOften{errors.New(orUnknown(r.row.Problem))}
	}
	if err := r.connect(ctx); err != nil {
		return err
	}
	if r.row.Attempt > 1 && r.row.Restores && !r.resumed && r.row.Kind != release.CulpritRun {
		return errors.New("the run was cut off when its process ended")
	}
	if r.row.Kind == release.TidyRun {
		return r.tidy(ctx)
	}
	if err := r.stopIfAsked(ctx); err != nil {
		return err
	}
	if r.row.Kind == release.MarkRun {
		return r.takeMark(ctx)
	}
	if err := r.loadBaseline(ctx); err != nil {
		return err
	}
	if r.row.Kind == release.CulpritRun {
		return r.search(ctx)
	}
	if err := r.lookBefore(ctx); err != nil {
		return err
	}
	returning, err := r.comeBefore(ctx)
	if err != nil {
		return err
	}
	defer returning.Close()
	if err := r.bringInForce(ctx); err != nil {
		return err
	}
	return r.inspect(ctx, returning)
}

// inspect looks at what is in force and comes to a verdict.
func (r *run) inspect(ctx context.Context, returning *inspect.Returning) error {
	i := r.inspection()
	i.Returning = returning
	look := i.Check
	switch r.row.Kind {
	case release.IsolationRun:
		look = i.TestIsolation
	case release.RecheckRun:
		look = i.Recheck
		var err error
		if i.Watch, err = r.watchLook(ctx); err != nil {
			return err
		}
	case release.MeasureRun:
		if r.row.Measures.V != nil {
			i.Measures = *r.row.Measures.V
		}
		look = i.Measure
	}
	compared, err := r.compared(ctx)
	if err != nil {
		return err
	}
	i.Compared = compared
	if i.Turns, err = r.turns(ctx); err != nil {
		return err
	}
	out, err := look(ctx)
	r.row.Verdict, r.row.Summary, r.renewed = out.Verdict, out.Summary, i.Renewed()
	if err == nil {
		r.moments = i.Later()
		r.row.Progress.V.Looks = r.progress.Looks()
		r.row.Verdict, r.row.Summary, err = acceptDecided(ctx, r.Store, r.row)
	}
	if stands := r.standAgain(ctx); stands != nil {
		r.row.Verdict, r.row.Summary, r.renewed = "", "", nil
		return errors.Join(stands, err)
	}
	if err == nil {
		err = r.stayed(ctx)
	}
	if err == nil && len(r.moments) > 0 && !r.row.Restores {
		err = i.CacheFrom(ctx, r.moments)
	}
	if err == nil {
		err = r.planWatch(ctx, i)
	}
	return err
}

func orUnknown(problem string) string {
	if problem == "" {
		return "its process ended"
	}
	return problem
}

// inspection is what looks at the environment as it is.
func (r *run) inspection() *inspect.Inspection {
	at, _, _ := r.site.Environment(r.env.Name)
	return &inspect.Inspection{Tools: r.Tools, Store: r.Store, Run: r.row.ID, SiteID: r.row.SiteID, EnvID: r.env.ID, Site: r.site, Env: at, Layer: r.layer, Able: r.able,
		Catalogue: r.cat, Values: r.values, Base: r.base, MarkRun: r.markRun(), Changed: r.changed, Editing: r.row.Progress.V.Editing, Progress: r.progress}
}

// markRun is the run that took the mark which is compared with; 0 when there is none.
func (r *run) markRun() int64 {
	if r.baseMark == nil {
		return 0
	}
	return r.baseMark.RunID
}

// connect reads the environment anew, which also says what an earlier act came to.
func (r *run) connect(ctx context.Context) error {
	r.progress.Say(ctx, "reading", "Reading the settings of "+r.env.Name)
	env, now, err := r.Acts.ReadLocked(ctx, r.env.ID)
	if err != nil {
		return errors.Join(err, r.lostOwn(ctx))
	}
	if r.layer, err = r.Acts.Layer(env); err != nil {
		return err
	}
	r.env, r.able, r.cat, r.values = env, r.Acts.Able(env), *env.Catalogue.V, now.Values
	switch r.row.Kind { // these do not begin from settings that nobody here decided on
	case release.TryRun, release.PromoteRun, release.MarkRun, release.TidyRun:
		if err := r.Acts.RefuseDrift(ctx, env); err != nil {
			return err
		}
	}
	if err := r.Store.SaveBefore(ctx, r.row.ID, env.Fingerprint, nil); err != nil {
		return err
	}
	if r.row.Before == "" {
		r.row.Before = env.Fingerprint
	}
	i := r.inspection()
	if err := i.TakeBack(ctx, i.Editing); err != nil {
		return err
	}
	return r.takeBackEarlier(ctx)
}

// lostOwn is errLost when it is not known what an act of this run came to.
func (r *run) lostOwn(ctx context.Context) error {
	open, err := r.Store.OpenAct(ctx, r.env.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err == nil && open.RunID != nil && *open.RunID == r.row.ID {
		return errLost
	}
	return err
}

// stopIfAsked ends a run that was asked to stop before it went on.
func (r *run) stopIfAsked(ctx context.Context) error {
	asked, err := r.Store.StopAsked(ctx, r.row.ID)
	if err == nil && asked {
		err = ErrStopped
	}
	return err
}

// after is what follows from an act's outcome: nothing when it was applied, or the given
// error; why not; or that nobody knows.
func after(o release.Outcome, done error) error {
	return release.Take(o, func() error { return done }, func(why error) error { return why }, func(why error) error { return errors.Join(errLost, why) })
}

// loadBaseline reads the mark that the run compares with.
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
	r.base = r.base.WithSteady(r.site.Steady())
	r.base.PrivateTexts = map[string][]string{}
	for _, p := range r.site.Personas {
		r.base.PrivateTexts[p.Name] = p.PrivateTexts
	}
	return err
}

// bringInForce puts the run's target in force, when it has one.
func (r *run) bringInForce(ctx context.Context) error {
	target := r.row.Target
	if target == "" { // it leaves what it found, and each attempt looks at that
		r.row.Target = r.env.Fingerprint
		return r.Store.SaveTarget(ctx, r.row.ID, r.row.Target)
	}
	if r.env.Fingerprint == target {
		r.changed = r.row.Before != target
		return r.noteThere(ctx)
	}
	switch {
	case r.atControl(ctx): // cut off while it looked with the earlier settings
	case r.resumed:
		return fmt.Errorf("%s did not take the settings. It could be read again, and has those from before", r.env.Name)
	case r.row.Expects != "" && r.env.Fingerprint != r.row.Expects:
		return fmt.Errorf("%s has other settings than when the run was requested. Nothing was overwritten", r.env.Name)
	}
	if err := r.refuseByCalendar(ctx); err != nil {
		return err
	}
	v, err := r.Store.Revision(ctx, r.row.SiteID, target)
	if err != nil {
		return err
	}
	if err := r.cat.Validate(v); err != nil {
		return fmt.Errorf("the values do not fit %s: %w", r.env.Name, err)
	}
	in, err := r.intent(ctx, actKind[r.row.Kind], v, target)
	if err != nil {
		return err
	}
	if !r.able.Applies {
		return r.askByHand(ctx, in)
	}
	r.progress.Say(ctx, "applying", "Applying the settings on "+r.env.Name)
	return after(r.apply(ctx, in), nil)
}

// refuseByCalendar keeps a promotion from beginning at a time at which nothing is promoted: it may have waited for
// something since it was wanted.
func (r *run) refuseByCalendar(ctx context.Context) error {
	if r.row.Kind != release.PromoteRun || r.row.Despite != "" {
		return nil
	}
	lines, err := r.Store.Calendar(ctx, r.row.SiteID)
	if err != nil {
		return err
	}
	if why := calendar.Why(lines, r.now()); why != "" {
		return fmt.Errorf("it came too late. %s", strings.TrimSuffix(why, "."))
	}
	return nil
}

// noteThere records that the environment had what a change asks for before anything was
// done, so that the record says that it has the change.
func (r *run) noteThere(ctx context.Context) error {
	if r.row.ChangeID == nil || r.row.Kind == release.RollBackRun {
		return nil
	}
	if there, err := inForce(ctx, r.Store, r.env.ID, *r.row.ChangeID); err != nil || there {
		return err
	}
	return r.Store.RecordAct(ctx, store.Act{EnvironmentID: r.env.ID, RunID: &r.row.ID, ChangeID: r.row.ChangeID, Kind: actKind[r.row.Kind], Fingerprint: r.row.Target,
		Predecessor: r.env.Fingerprint, Note: "It had these settings already.", Who: r.row.RequestedBy})
}

var actKind = map[release.RunKind]release.ActKind{release.TryRun: release.ActTry, release.PromoteRun: release.ActPromote, release.RollBackRun: release.ActRollBack,
	release.CheckRun: release.ActTry, release.IsolationRun: release.ActTry, release.RecheckRun: release.ActTry, release.MeasureRun: release.ActTry}

func (r *run) intent(ctx context.Context, kind release.ActKind, v settings.Values, fingerprint string) (act.Intent, error) {
	in := act.Intent{Environment: r.env, Layer: r.layer, Values: v, Fingerprint: fingerprint, Kind: kind, Run: &r.row.ID, Change: r.row.ChangeID, Who: r.row.RequestedBy}
	if r.row.ChangeID != nil {
		c, err := r.Store.Change(ctx, *r.row.ChangeID)
		if err != nil {
			return in, err
		}
		in.Base = c.Base
	}
	return in, nil
}

// apply acts, and knows afterwards what is in force when that is known.
func (r *run) apply(ctx context.Context, in act.Intent) release.Outcome {
	o := r.Acts.Apply(ctx, in)
	release.Take(o, func() bool {
		r.env.Fingerprint, r.values, r.changed = in.Fingerprint, in.Values, true
		return true
	}, func(error) bool { return false }, func(error) bool { return false })
	return o
}

// askByHand lets the run rest until a person has carried out its checklist.
func (r *run) askByHand(ctx context.Context, in act.Intent) error {
	task, err := r.Store.ManualTaskOf(ctx, r.row.ID)
	switch {
	case errors.Is(err, store.ErrNotFound):
		if err := r.Acts.AskForManualTask(ctx, in, r.cat, r.values, r.row); err != nil {
			return err
		}
	case err != nil:
		return err
	case task.State != "open":
		return fmt.Errorf("%s was changed by hand, but something else is known of it since. Upload what it has now", r.env.Name)
	}
	r.progress.Say(ctx, "by hand", "Waiting until somebody has done the checklist")
	err = r.Store.Within(ctx, func(s *store.Store) error {
		now, err := s.LockRun(ctx, r.row.ID)
		if err == nil && now.StopAsked { // while it was asked for
			err = ErrStopped
		}
		if err != nil {
			return err
		}
		_, err = s.MoveRun(ctx, r.row.ID, release.RunRests)
		return err
	})
	if err != nil {
		return err
	}
	r.progress.Send(ctx, true)
	return errRests
}

// cancelChecklist takes the checklist back that a person still has of a run that ends, whenever that was decided: errLost, since
// nobody knows how much of it was done.
func (r *run) cancelChecklist(ctx context.Context) error {
	switch task, err := r.Store.ManualTaskOf(ctx, r.row.ID); {
	case errors.Is(err, store.ErrNotFound), err == nil && task.State != "open":
		return nil
	case err != nil:
		return err
	}
	o, err := r.Acts.CancelManualTask(ctx, r.row)
	if err != nil {
		return err
	}
	return after(o, nil)
}
