package changes

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"tidemarker/internal/core/culprit"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/stepup"
	"tidemarker/internal/run"
	"tidemarker/internal/store"
	"tidemarker/internal/trouble"
)

// StepUpWish is how somebody wants a step-up of a site to go.
type StepUpWish struct {
	Window    stepup.Window `json:"window" doc:"When something may start; a run that is under way is finished."`
	MostLooks int           `json:"mostLooks" minimum:"0" maximum:"1000000" doc:"Looks after which nothing more is started; 0: no limit."`
}

// NotRight says what is wrong with what somebody asks for.
type NotRight struct{ Err error }

func (e *NotRight) Error() string { return e.Err.Error() + "." }

// BeginStepUp begins a change and has it step up through the bundles from what production has.
func (d *Desk) BeginStepUp(ctx context.Context, siteID int64, w StepUpWish, who string) (changeID int64, err error) {
	if err := w.Window.Check(); err != nil {
		return 0, &NotRight{err}
	}
	if _, err := time.LoadLocation(w.Window.Zone); err != nil {
		return 0, &NotRight{fmt.Errorf("“%s” is no time zone. Write it as Europe/Vienna, or leave it out for UTC", w.Window.Zone)}
	}
	envs, err := d.Store.EnvironmentsByRole(ctx, siteID)
	if err != nil {
		return 0, err
	}
	if envs.OnlyOne {
		return 0, &Conflict{"The site has only one environment; stepping up tries bundles on staging."}
	}
	if _, err := d.ReadNow(ctx, siteID); err != nil {
		return 0, err
	}
	err = d.Store.Within(ctx, func(s *store.Store) error {
		in := *d
		in.Store = s
		if changeID, err = in.Begin(ctx, siteID, Words{Title: "Step up through the bundles", Reason: "Tried bundle by bundle; what passes stays."}, nil, who); err != nil {
			return err
		}
		_, err = s.NewStepUp(ctx, store.StepUp{SiteID: siteID, ChangeID: changeID, StepUp: store.JSON[stepup.StepUp]{V: stepup.New()}, Opens: store.JSON[stepup.Window]{V: w.Window}, MostLooks: w.MostLooks, Who: who})
		return err
	})
	if errors.Is(err, store.ErrSteppingUp) {
		return 0, &Conflict{"A step-up is running on this site. Wait for it, or stop it."}
	}
	return changeID, err
}

// StopStepUp ends the step-up on a change with what is proven; the run that is under way is stopped.
func (d *Desk) StopStepUp(ctx context.Context, changeID int64) error {
	c, err := d.Store.WishStepUpStopped(ctx, changeID)
	if errors.Is(err, store.ErrNotFound) {
		return &Conflict{"No step-up is running on this change."}
	}
	if err != nil {
		return err
	}
	if id := max(c.StepUp.V.Run, c.StepUp.V.Search); id != 0 {
		return d.Runner.Stop(ctx, id)
	}
	return nil
}

// ContinueStepUps lets each step-up go on that waits for nothing: it takes in what the run came to that it
// waited for, and begins the next. One site's trouble does not delay another's.
func (d *Desk) ContinueStepUps(ctx context.Context) error {
	ids, err := d.Store.OpenStepUps(ctx)
	if err != nil {
		return err
	}
	var troubles []error
	for _, id := range ids {
		err := d.Store.Within(ctx, func(s *store.Store) error {
			row, err := s.TakeStepUp(ctx, id)
			if errors.Is(err, store.ErrNotFound) {
				return nil
			}
			if err != nil {
				return err
			}
			in := *d
			in.Store = s
			defer trouble.At(trouble.SteppingUp)
			return in.continueStepUp(ctx, row)
		})
		if why, waits := Waits(err); waits { // the transaction is gone; only what it waits for is kept
			err = d.waits(ctx, id, why)
		}
		if err != nil {
			troubles = append(troubles, fmt.Errorf("step-up %d: %w", id, err))
		}
	}
	return errors.Join(troubles...)
}

// waiting is why something cannot be begun yet.
// Waits is why a change cannot move on now but may later; is is false for any other error, and for none.
func Waits(err error) (why string, is bool) {
	if no, is := errors.AsType[*release.NotAllowed](err); is {
		return no.Error(), true
	}
	if why, is := run.Waits(err); is {
		return why, true
	}
	if no, is := errors.AsType[*Conflict](err); is {
		return no.Why, true
	}
	if no, is := errors.AsType[*release.NoMove](err); is {
		return no.Error(), true
	}
	return "", false
}

func (d *Desk) waits(ctx context.Context, id int64, why string) error {
	return d.Store.Within(ctx, func(s *store.Store) error {
		row, err := s.TakeStepUp(ctx, id)
		if errors.Is(err, store.ErrNotFound) || err == nil && row.Waits == why {
			return nil
		}
		if err != nil {
			return err
		}
		row.Waits = why
		return errors.Join(s.SaveStepUp(ctx, row), s.Tell(ctx, store.Signal{Site: row.SiteID, Change: row.ChangeID}))
	})
}

// stepper is one step-up that goes on now.
type stepper struct {
	*Desk
	row  store.StepUp
	on   stepup.Site
	c    store.Change
	envs store.ByRole
}

func (d *Desk) continueStepUp(ctx context.Context, row store.StepUp) error {
	x := &stepper{Desk: d, row: row}
	var err error
	if x.c, err = d.Store.Change(ctx, row.ChangeID); err != nil {
		return err
	}
	if leftStepUp(x.c.State) {
		x.row.StepUp.V, x.row.Waits = row.StepUp.V.Stop("Somebody went on with its change by hand: it is "+string(x.c.State)+"."), ""
		return errors.Join(d.Store.SaveStepUp(ctx, x.row), note(ctx, d.Store, x.c, row.Who, "The step-up of “%s” is over. %s", x.c.Title, x.row.StepUp.V.Summary))
	}
	if x.envs, err = d.Store.EnvironmentsByRole(ctx, row.SiteID); err != nil {
		return err
	}
	if x.envs.Staging.Catalogue.V == nil {
		return &Conflict{"The settings of " + x.envs.Staging.Name + " have not been read yet."}
	}
	base, err := d.Store.Revision(ctx, row.SiteID, x.c.Base)
	if err != nil {
		return err
	}
	x.on = stepup.Site{Catalogue: *x.envs.Staging.Catalogue.V, Base: base}
	if x.envs.Staging.About.V != nil {
		x.on.Host = x.envs.Staging.About.V.Facts.Host()
	}
	before := row
	if over, err := x.takeIn(ctx); err != nil || !over {
		return err
	}
	if err := x.begin(ctx); err != nil {
		return err
	}
	if x.row.Waits == before.Waits && x.row.StepUp.V.Phase == before.StepUp.V.Phase && x.row.StepUp.V.Run == before.StepUp.V.Run && x.row.StepUp.V.Search == before.StepUp.V.Search && len(x.row.StepUp.V.Steps) == len(before.StepUp.V.Steps) {
		return nil
	}
	return errors.Join(d.Store.SaveStepUp(ctx, x.row), d.Store.Tell(ctx, store.Signal{Site: row.SiteID, Change: row.ChangeID}))
}

// leftStepUp tells whether a change has come to where no step-up can go on with it.
func leftStepUp(s release.State) bool {
	return slices.Contains([]release.State{release.Discarded, release.Promoting, release.Promoted, release.Marked, release.Settled, release.Restored, release.RolledBack}, s)
}

// takeIn takes in what the run came to that is waited for; over is false while it goes on.
func (x *stepper) takeIn(ctx context.Context) (over bool, err error) {
	c := x.row.StepUp.V
	id := c.Run
	if c.Phase == stepup.Searching {
		id = c.Search
	}
	if id == 0 {
		return true, nil
	}
	r, err := x.Store.Run(ctx, id)
	if err != nil || !r.State.Over() {
		return false, err
	}
	if r.State == release.Stopped {
		x.row.StepUp.V = c.Stop(fmt.Sprintf("Run %d was stopped.", r.ID))
		return true, nil
	}
	if c.Phase != stepup.Searching {
		result, err := x.result(ctx, r)
		x.row.StepUp.V = c.Tried(x.on, result)
		return true, err
	}
	tried, err := x.Store.Run(ctx, c.Run)
	if err != nil {
		return false, err
	}
	result, err := x.result(ctx, tried)
	if err != nil {
		return false, err
	}
	found, err := x.found(ctx, r)
	x.row.StepUp.V = c.Searched(x.on, found, result)
	return true, err
}

// result is what a try came to.
func (x *stepper) result(ctx context.Context, r store.Run) (stepup.Result, error) {
	made, err := x.Store.LooksMade(ctx, r.ID)
	if err != nil {
		return stepup.Result{}, err
	}
	out := stepup.Result{Run: r.ID, Verdict: r.Verdict, Summary: r.Summary, Looks: made}
	if r.Verdict == evidence.VerdictClear || r.Verdict == evidence.VerdictNotChecked {
		return out, nil
	}
	rows, err := x.Store.Findings(ctx, r.ID)
	if err != nil {
		return out, err
	}
	var found []evidence.Finding
	for _, f := range rows {
		found = append(found, f.Document.V)
	}
	predicted, err := x.Store.Predicted(ctx, r.ID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return out, err
	}
	out.Parts = culprit.Parts(x.on.Base, x.on.Base.With(x.row.StepUp.V.Edits))
	out.Likely = culprit.Likely(x.on.Catalogue, out.Parts, found, predicted.Record.V.Held)
	why, err := x.Runner.Searchable(ctx, r.ID)
	out.Searchable = why == ""
	return out, err
}

// found is what a search came to.
func (x *stepper) found(ctx context.Context, r store.Run) (stepup.Found, error) {
	made, err := x.Store.LooksMade(ctx, r.ID)
	if err != nil {
		return stepup.Found{}, err
	}
	out := stepup.Found{Run: r.ID, Verdict: r.Verdict, Summary: r.Summary, Looks: made}
	s, err := x.Store.Search(ctx, r.ID)
	if err != nil {
		return out, err
	}
	parts := s.Problem.V.Parts
	for i, set := range s.Step.V.Culprits {
		var one stepup.Culprit
		for _, n := range set {
			one.Parts = append(one.Parts, parts[n])
		}
		for _, list := range s.Exclusions.V {
			if list.Culprit != i {
				continue
			}
			for _, n := range list.Fewest {
				one.Excluded = append(one.Excluded, stepup.Exclusion{Key: list.Key, Pattern: list.Candidates[n].Pattern, For: one.Parts[0].Key})
			}
		}
		out.Culprits = append(out.Culprits, one)
	}
	return out, nil
}

// begin begins what the step-up needs next, or ends it.
func (x *stepper) begin(ctx context.Context) error {
	c := x.row.StepUp.V
	if x.row.StopAsked {
		c = c.Stop("Somebody stopped it.")
	}
	next, what := c.Next(x.on)
	if what != stepup.End && x.row.MostLooks > 0 && next.Looks() >= x.row.MostLooks {
		next = next.Stop(fmt.Sprintf("The %d looks that it may make are used up.", x.row.MostLooks))
		what = stepup.End
	}
	if what != stepup.End {
		zone, err := time.LoadLocation(x.row.Opens.V.Zone)
		if err != nil {
			return err
		}
		now := time.Now().In(zone)
		if opens := x.row.Opens.V.Opens(now); opens.After(now) {
			x.row.StepUp.V, x.row.Waits = next, "It goes on at "+opens.Format("15:04 on 2 January")+", "+opens.Location().String()+"."
			return nil
		}
	}
	x.row.Waits = ""
	var err error
	switch what {
	case stepup.Try:
		next.Run, err = x.try(ctx, next)
	case stepup.Search:
		next.Search, err = x.search(ctx, next.Run)
	case stepup.End:
		err = x.finish(ctx, next)
	}
	x.row.StepUp.V = next
	return err
}

// try puts the step-up's edits into its change and tries that.
func (x *stepper) try(ctx context.Context, c stepup.StepUp) (run int64, err error) {
	if err := x.put(ctx, c); err != nil {
		return 0, err
	}
	if err := x.Try(ctx, x.c.ID, x.row.Who); err != nil {
		return 0, err
	}
	runs, err := x.Store.ChangeRuns(ctx, x.c.ID)
	if err != nil || len(runs) == 0 {
		return 0, err
	}
	return runs[0].ID, nil
}

// put makes the change have the step-up's edits, and the ledger its exclusions.
func (x *stepper) put(ctx context.Context, c stepup.StepUp) error {
	edits := settings.Edited(x.on.Base, c.Edits)
	if !settings.Equal(map[string]any(edits), map[string]any(x.c.Edits.V)) {
		if err := x.Edit(ctx, x.c.ID, x.c.Version, Words{x.c.Title, x.c.Reason, x.c.Effect}, edits, x.row.Who); err != nil {
			return err
		}
	}
	known, err := x.Store.Exclusions(ctx, x.c.ID)
	if err != nil {
		return err
	}
	for _, e := range c.Excluded {
		if slices.ContainsFunc(known, func(k store.Exclusion) bool { return k.Key == e.Key && k.Pattern == e.Pattern }) {
			continue
		}
		d, _ := x.on.Catalogue.Find(e.Key)
		f, _ := x.on.Catalogue.Find(e.For)
		if _, err := x.Store.AddExclusion(ctx, store.Exclusion{SiteID: x.row.SiteID, ChangeID: &x.c.ID, Key: e.Key, Pattern: e.Pattern, Role: d.Role, Who: x.row.Who,
			Reason: fmt.Sprintf("Without it “%s” breaks the site: found while stepping up.", f.Title)}); err != nil {
			return err
		}
	}
	return nil
}

// search begins to search for what a try found, or takes the search that the site began by itself.
func (x *stepper) search(ctx context.Context, of int64) (int64, error) {
	there, err := x.Store.SearchesOf(ctx, of)
	if err != nil {
		return 0, err
	}
	if len(there) > 0 {
		return there[0], nil
	}
	r, err := x.Runner.StartSearchIn(ctx, x.Store, of, x.row.Who)
	return r.ID, err
}

// finish leaves the change with what is proven. Where nothing is, staging goes back.
func (x *stepper) finish(ctx context.Context, c stepup.StepUp) error {
	if err := x.put(ctx, c); err != nil {
		return err
	}
	if err := note(ctx, x.Store, x.c, x.row.Who, "The step-up of “%s” is over. %s", x.c.Title, c.Summary); err != nil {
		return err
	}
	if len(c.Proven) > 0 {
		return nil
	}
	situation, _, err := x.Situation(ctx, x.c.ID)
	if err != nil || !situation.StagingHasChange {
		return err
	}
	return x.RollBack(ctx, x.c.ID, false, x.row.Who)
}
