package run

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/notice"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/site"
	"tidemarker/internal/speedlayer"
	"tidemarker/internal/store"
	"tidemarker/internal/trouble"
)

// end ends the run: restores what it is to restore, and then, all at once, records how
// it ended, moves its change, and lets the next run begin. errLost and errLater say that
// the environment cannot be restored yet.
func (r *run) end(ctx context.Context, cause error) error {
	if err := r.cancelChecklist(ctx); err != nil {
		return err
	}
	event := r.judge(cause)
	if err := r.sayDeleted(ctx, event); err != nil {
		return err
	}
	if err := r.takeBackEdit(ctx); err != nil {
		r.row.Problem = joined(r.row.Problem, "What was published for a test could not be taken back; the next run on "+r.env.Name+" tries again: "+err.Error())
	}
	_, givenUp := errors.AsType[*tooOften](cause)
	if r.row.Restores || givenUp && r.row.Kind.RestoresWhenItFails() {
		if err := r.restore(ctx); err != nil {
			return err
		}
	}
	trouble.At(trouble.Ending)
	err := r.Store.Within(ctx, func(s *store.Store) error { return r.record(ctx, s, event) })
	if err != nil {
		return err
	}
	trouble.At(trouble.Ended)
	r.progress.Send(ctx, true)
	return nil
}

// takeBackEdit takes back what the run published for a test, where that is not done yet: however it ended, and also when it was
// begun too often to be finished.
func (r *run) takeBackEdit(ctx context.Context) error {
	left := r.progress.Editing()
	if left == "" {
		return nil
	}
	if r.layer == nil {
		if err := r.connectAgain(ctx); err != nil {
			return err
		}
	}
	if err := r.inspection().TakeBack(ctx, left); err != nil {
		return err
	}
	if r.progress.Editing() != "" {
		return errors.New("the steps that take it back do not lead there")
	}
	return nil
}

// takeBackEarlier takes back what earlier runs on the environment left published.
func (r *run) takeBackEarlier(ctx context.Context) error {
	left, err := r.Store.LeftEdits(ctx, r.env.ID, r.row.ID)
	if err != nil {
		return err
	}
	for _, l := range left {
		if !slices.ContainsFunc(r.site.PublishingTestsOn(r.env.Name), func(e site.PublishingTest) bool { return e.Name == l.Test }) {
			continue // the test plan has it no more, and nobody knows how it is taken back
		}
		if err := r.inspection().TakeBack(ctx, l.Test); err != nil {
			return err
		}
		if r.progress.Editing() != "" { // it is on record as this run's now
			continue
		}
		if err := r.Store.EditTakenBack(ctx, l.Run); err != nil {
			return err
		}
	}
	return nil
}

// judge says how the run ended: that it came to a verdict, was stopped, or failed.
func (r *run) judge(cause error) release.RunEvent {
	not := "Not checked: "
	if r.row.Kind == release.MeasureRun {
		not = "Not measured: "
	}
	switch {
	case errors.Is(cause, ErrStopped):
		r.row.Verdict, r.row.Problem, r.row.Summary = evidence.VerdictNotChecked, "Stopped before the end.", not+"stopped before the end."
		return release.RunStopped
	case cause != nil:
		r.row.Verdict, r.row.Problem, r.row.Summary = evidence.VerdictNotChecked, cause.Error(), not+cause.Error()
		r.Log.Warn("a run failed", "run", r.row.ID, "why", cause)
		return release.RunFailed
	case r.row.Problem != "" && r.row.StopAsked: // concluded before, and restored only now
		return release.RunStopped
	case r.row.Problem != "" && r.row.Verdict == evidence.VerdictNotChecked:
		return release.RunFailed
	}
	r.row.Problem = ""
	return release.RunFinished
}

// restore brings back what the run found, and says that it did only when that was read
// back. What could not be read or is not known is tried again, for as long as it takes;
// what the run came to is kept meanwhile.
func (r *run) restore(ctx context.Context) error {
	restored, err := r.bringBack(ctx)
	if err == nil {
		r.row.Restored = restored
		return nil
	}
	_, unreachable := errors.AsType[*speedlayer.Unreachable](err)
	if !unreachable && !errors.Is(err, errLost) && !store.Outage(err) {
		r.row.Problem = joined(r.row.Problem, "Restoring failed: "+err.Error())
		return nil
	}
	if kept := r.Store.SaveConclusion(ctx, r.row); kept != nil {
		return kept
	}
	if errors.Is(err, errLost) {
		return errLost
	}
	r.progress.Say(ctx, "putting back", r.env.Name+" cannot be restored yet: "+err.Error())
	if kept := r.Store.AttemptFailed(ctx, r.row.ID, r.row.Problem, release.Pause(r.row.Attempt)); kept != nil {
		return kept
	}
	return errLater
}

func joined(a, b string) string {
	if a == "" {
		return b
	}
	return a + " " + b
}

// bringBack reads what is in force and, where that is this run's doing, brings back what
// was before it.
func (r *run) bringBack(ctx context.Context) (restored bool, err error) {
	mine, err := r.Store.RunActs(ctx, r.row.ID)
	if err != nil || len(mine) == 0 {
		return err == nil, err // nothing was applied
	}
	if err := r.connectAgain(ctx); err != nil {
		return false, err
	}
	if r.env.Fingerprint == r.row.Before {
		return true, nil
	}
	if last := mine[len(mine)-1]; r.env.Fingerprint != r.row.Target && r.env.Fingerprint != last.Found {
		return false, fmt.Errorf("%s was changed outside Tide Marker while the run was under way. Nothing was overwritten", r.env.Name)
	}
	v, err := r.Store.Revision(ctx, r.row.SiteID, r.row.Before)
	if err != nil {
		return false, err
	}
	r.progress.Say(ctx, "putting back", "Restoring what "+r.env.Name+" had before")
	in, err := r.intent(ctx, release.ActRestore, v, r.row.Before)
	if err != nil {
		return false, err
	}
	if !r.able.Applies {
		return false, fmt.Errorf("%s is changed by hand: put it back there, and upload its settings", r.env.Name)
	}
	if err := after(r.apply(ctx, in), nil); err != nil {
		return false, err
	}
	return true, r.inspection().Purge(ctx)
}

// connectAgain reads what is in force now.
func (r *run) connectAgain(ctx context.Context) error {
	env, now, err := r.Acts.ReadLocked(ctx, r.env.ID)
	if err != nil {
		return errors.Join(err, r.lostOwn(ctx))
	}
	r.env, r.values = env, now.Values
	if r.layer, err = r.Acts.Layer(env); err != nil {
		return err
	}
	r.able, r.cat = r.Acts.Able(env), *env.Catalogue.V
	return nil
}

// record writes all that follows from the run's end, in one transaction.
func (r *run) record(ctx context.Context, s *store.Store, event release.RunEvent) error {
	clear := event == release.RunFinished && r.row.Verdict == evidence.VerdictClear
	if clear && r.row.Kind == release.PromoteRun {
		r.mark = &store.Mark{EnvironmentID: r.env.ID, RunID: r.row.ID, Fingerprint: r.env.Fingerprint, Who: r.row.RequestedBy, Reason: r.row.Summary,
			Volatile: r.baseMark.Volatile, Probes: r.baseMark.Probes}
	}
	if event == release.RunFinished {
		if err := r.saveMark(ctx, s); err != nil {
			return err
		}
		if err := r.renew(ctx, s); err != nil {
			return err
		}
		if err := r.planRechecks(ctx, s); err != nil {
			return err
		}
	}
	if err := s.EndRun(ctx, r.row, event); err != nil {
		return err
	}
	released, err := r.letNextBegin(ctx, s, clear)
	if err != nil {
		return err
	}
	if err := r.beginWatch(ctx, s, event); err != nil {
		return err
	}
	if !released {
		if err := moveAfter(ctx, s, r.row, event == release.RunFinished); err != nil {
			return err
		}
	}
	if err := removeWhatIsGone(ctx, s, r.row.SiteID, fmt.Sprintf("Production was rolled back to before it (run %d).", r.row.ID)); err != nil {
		return err
	}
	if event == release.RunFinished {
		if err := r.searchUnasked(ctx, s); err != nil {
			return err
		}
	}
	if err := errors.Join(r.notify(ctx, s), r.afterTidy(ctx, s, event)); err != nil {
		return err
	}
	return s.Record(ctx, store.Event{SiteID: r.row.SiteID, EnvironmentID: &r.env.ID, ChangeID: r.row.ChangeID, RunID: &r.row.ID,
		Kind: string(r.row.Kind), Who: r.row.RequestedBy, Text: fmt.Sprintf("%s %s. %s", done[r.row.Kind], r.env.Name, r.row.Summary)})
}

// ourselves is who did what nobody did.
const ourselves = "Tide Marker"

// notify tells people how the run ended: all whom it concerns when production is not clear, and whoever began it. What a watch looks
// at it tells itself.
func (r *run) notify(ctx context.Context, s *store.Store) error {
	if r.row.RequestedBy == ourselves {
		return nil
	}
	e := store.Event{SiteID: r.row.SiteID, ChangeID: r.row.ChangeID, RunID: &r.row.ID, Who: ourselves, Text: fmt.Sprintf("%s %s. %s", done[r.row.Kind], r.env.Name, r.row.Summary)}
	at, _, _ := r.site.Environment(r.env.Name)
	looked := r.row.Kind == release.PromoteRun || r.row.Kind == release.CheckRun || r.row.Kind == release.RollBackRun || r.row.Kind == release.TidyRun && r.row.Problem == ""
	if at.Role == site.Production && looked && r.row.Verdict != evidence.VerdictClear && !r.row.StopAsked {
		e.Topic = notice.Broken
		found, err := s.Findings(ctx, r.row.ID)
		if err != nil {
			return err
		}
		for _, f := range found {
			if f.Document.V.Severity == evidence.Broken && e.FindingID == nil {
				e.FindingID = &f.ID
			}
		}
		return s.Notify(ctx, e)
	}
	if r.row.Kind == release.TidyRun {
		return nil // told with the topic for it
	}
	e.Topic, e.For = notice.Finished, []string{people.Called(r.row.RequestedBy)}
	return s.Notify(ctx, e)
}

// done says in words what a run has done.
var done = map[release.RunKind]string{release.MarkRun: "Mark of", release.TryRun: "Tried on", release.PromoteRun: "Promoted to",
	release.RollBackRun: "Rolled back", release.CheckRun: "Checked", release.IsolationRun: "Cache isolation tested on", release.RecheckRun: "Rechecked", release.CulpritRun: "Searched for the culprit on", release.MeasureRun: "Measured on", release.TidyRun: "Tidied"}

// letNextBegin lets the run that waited for this one begin when this one ended clear,
// and skips it when not.
func (r *run) letNextBegin(ctx context.Context, s *store.Store, clear bool) (released bool, err error) {
	now, err := s.Run(ctx, r.row.ID) // as it is since its end was written: somebody may have stopped the one that waited
	if err != nil || now.NextID == nil {
		return false, err
	}
	if !clear {
		return false, skip(ctx, s, *now.NextID)
	}
	if _, err := s.MoveRun(ctx, *now.NextID, release.RunReleased); err != nil {
		return false, err
	}
	return true, r.jobs.handIn(ctx, s, *now.NextID)
}

// skip ends a run that waited for one that did not end clear, and those after it.
func skip(ctx context.Context, s *store.Store, id int64) error {
	next, err := s.Run(ctx, id)
	if err != nil || next.State.Over() {
		return err
	}
	next.Verdict, next.Problem, next.Summary = evidence.VerdictNotChecked, "The run before it did not end clear.", "Not started: the run before it did not end clear."
	if err := s.EndRun(ctx, next, release.RunSkipped); err != nil || next.NextID == nil {
		return err
	}
	return skip(ctx, s, *next.NextID)
}

// moveAfter tells a run's change what came of the run. What that means follows from what
// the environments have by the record, not from what was meant.
func moveAfter(ctx context.Context, s *store.Store, r store.Run, finished bool) error {
	if r.ChangeID == nil {
		return nil
	}
	c, err := s.Change(ctx, *r.ChangeID)
	if err != nil {
		return err
	}
	end := release.RunEnd{Kind: r.Kind, Verdict: r.Verdict, Finished: finished}
	envs, err := s.EnvironmentsByRole(ctx, r.SiteID)
	if err != nil {
		return err
	}
	if end.OnStaging, err = inForce(ctx, s, envs.Staging.ID, c.ID); err != nil {
		return err
	}
	if !envs.OnlyOne {
		if end.OnProduction, err = inForce(ctx, s, envs.Production.ID, c.ID); err != nil {
			return err
		}
	}
	e, ok := end.Event()
	if !ok {
		return nil
	}
	to, ok := release.After(c.State, e)
	if !ok {
		return nil // the change has moved on meanwhile
	}
	if _, err := s.MoveChange(ctx, c.ID, c.State, to, r.Summary); err != nil {
		return err
	}
	if c.TakesOut == nil || !end.OnProduction {
		return nil
	}
	return remove(ctx, s, *c.TakesOut, fmt.Sprintf("Its edits were taken out again by “%s”.", c.Title))
}

func inForce(ctx context.Context, s *store.Store, envID, changeID int64) (bool, error) {
	placed, err := s.Placed(ctx, envID)
	return release.InForce(release.Record(placed), changeID), err
}

// removeWhatIsGone moves the changes that production no longer has, because it went back
// to before them.
func removeWhatIsGone(ctx context.Context, s *store.Store, siteID int64, why string) error {
	envs, err := s.EnvironmentsByRole(ctx, siteID)
	if err != nil || envs.OnlyOne {
		return err
	}
	there, err := s.ChangesIn(ctx, siteID, release.Promoted, release.Marked, release.Settled)
	if err != nil || len(there) == 0 {
		return err
	}
	placed, err := s.Placed(ctx, envs.Production.ID)
	if err != nil {
		return err
	}
	standing := release.Record(placed)
	for _, c := range there {
		if !release.InForce(standing, c.ID) {
			if err := remove(ctx, s, c.ID, why); err != nil {
				return err
			}
		}
	}
	return nil
}

// remove says of a change that production no longer has it.
func remove(ctx context.Context, s *store.Store, id int64, why string) error {
	c, err := s.Change(ctx, id)
	if err != nil {
		return err
	}
	to, ok := release.After(c.State, release.Removed)
	if !ok {
		return nil
	}
	_, err = s.MoveChange(ctx, id, c.State, to, why)
	return errors.Join(err, s.Tell(ctx, store.Signal{Site: c.SiteID, Change: id}))
}
