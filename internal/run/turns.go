package run

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/inspect"
	"tidemarker/internal/store"
)

// turns are how the run's inspection goes back to the earlier settings and on again. Each
// turn is an act like any other: its intent is recorded first, and it is read back.
func (r *run) turns(ctx context.Context) (inspect.Turns, error) {
	at, _, _ := r.site.Environment(r.env.Name)
	if r.row.Kind == release.CheckRun && r.baseMark != nil && r.baseMark.Fingerprint == r.env.Fingerprint {
		return inspect.Turns{Why: "nothing was changed since the mark was taken", Same: true}, nil
	}
	if r.row.Kind == release.MeasureRun && r.row.ChangeID == nil && r.row.Before == r.row.Target {
		return inspect.Turns{Why: "nothing was changed", Same: true}, nil
	}
	switch {
	case r.row.Kind == release.RollBackRun:
		return inspect.Turns{Why: "a rollback is not taken back to look"}, nil
	case at.Role == site.Production:
		witness, err := r.witness(ctx)
		return inspect.Turns{Why: "visitors are on " + r.env.Name + ", which does not alternate", Before: r.row.Kind == release.PromoteRun, Witness: witness}, err
	case !r.able.Applies:
		return inspect.Turns{Why: r.env.Name + " is changed by hand"}, nil
	}
	earlier, err := r.earlier(ctx)
	if err != nil || earlier == "" {
		return inspect.Turns{Why: "there are no earlier settings to return to"}, err
	}
	return inspect.Turns{
		Earlier: func(ctx context.Context) (settings.Values, error) { return r.turn(ctx, release.ActControl, earlier) },
		Again:   func(ctx context.Context) (settings.Values, error) { return r.turn(ctx, release.ActTry, r.row.Target) },
	}, nil
}

// witness is what staging was found to have when the change was tried with these very settings,
// last; nil when it was not.
func (r *run) witness(ctx context.Context) ([]evidence.Finding, error) {
	if r.row.Kind != release.PromoteRun || r.row.ChangeID == nil {
		return nil, nil
	}
	runs, err := r.Store.ChangeRuns(ctx, *r.row.ChangeID)
	if err != nil {
		return nil, err
	}
	for _, x := range runs {
		if x.Kind != release.TryRun || x.State != release.Done || x.Target != r.row.Target {
			continue
		}
		rows, err := r.Store.Findings(ctx, x.ID)
		found := make([]evidence.Finding, 0, len(rows))
		for _, f := range rows {
			found = append(found, f.Document.V)
		}
		return found, err
	}
	return nil, nil
}

// lookBefore looks at production just before something is promoted to it, once.
func (r *run) lookBefore(ctx context.Context) error {
	at, _, _ := r.site.Environment(r.env.Name)
	if r.row.Kind != release.PromoteRun || at.Role != site.Production || r.env.Fingerprint == r.row.Target {
		return nil
	}
	if mine, err := r.Store.RunActs(ctx, r.row.ID); err != nil || len(mine) > 0 {
		return err // what was looked at before the first is kept
	}
	if err := r.inspection().LookBefore(ctx); err != nil {
		return err
	}
	return r.inspection().MeasureLittle(ctx, measure.Before)
}

// comeBefore lets somebody be on the site before its settings are changed, whose browser keeps
// what it gets; nil when nothing is to be changed now.
func (r *run) comeBefore(ctx context.Context) (*inspect.Returning, error) {
	if r.row.Kind != release.TryRun && r.row.Kind != release.PromoteRun || r.row.Target == "" || r.env.Fingerprint == r.row.Target || !r.able.Applies {
		return nil, nil
	}
	return r.inspection().ComeBefore(ctx)
}

// earlier is the fingerprint of what the environment had before what is looked at: before
// this run, before its change, or when the mark was taken; "" when it is the same.
func (r *run) earlier(ctx context.Context) (string, error) {
	mark := ""
	if r.baseMark != nil {
		mark = r.baseMark.Fingerprint
	}
	return before(ctx, r.Store, r.row, mark)
}

// before is the fingerprint of what an environment had before what a run looked at, which was
// held against a mark of some settings; "" when it is the same.
func before(ctx context.Context, s *store.Store, of store.Run, mark string) (string, error) {
	if of.Before != "" && of.Before != of.Target {
		return of.Before, nil
	}
	if of.ChangeID != nil {
		placed, err := s.Placed(ctx, of.EnvironmentID)
		if err != nil {
			return "", err
		}
		if way, there := release.Back(release.Record(placed), *of.ChangeID); there && way.To != of.Target {
			return way.To, nil
		}
	}
	if mark != of.Target {
		return mark, nil
	}
	return "", nil
}

// compared are the settings of the mark, nil when the environment has them.
func (r *run) compared(ctx context.Context) (settings.Values, error) {
	if r.baseMark == nil || r.baseMark.Fingerprint == r.env.Fingerprint {
		return nil, nil
	}
	return r.Store.Revision(ctx, r.row.SiteID, r.baseMark.Fingerprint)
}

// turn puts settings in force for a control. What is not applied ends the control and not
// the run; what is not known rests as ever.
func (r *run) turn(ctx context.Context, kind release.ActKind, fingerprint string) (settings.Values, error) {
	if r.env.Fingerprint == fingerprint {
		return r.values, nil
	}
	v, err := r.Store.Revision(ctx, r.row.SiteID, fingerprint)
	if err != nil {
		return nil, err
	}
	in, err := r.intent(ctx, kind, v, fingerprint)
	if err != nil {
		return nil, err
	}
	o := r.apply(ctx, in)
	return v, release.Take(o, func() error { return nil }, func(why error) error { return &inspect.NoTurn{Err: why} }, func(error) error { return after(o, nil) })
}

// standAgain puts in force again what the run is to leave, when a control left the earlier
// settings there; also when the run was stopped meanwhile. What is restored anyway is not.
func (r *run) standAgain(ctx context.Context) error {
	if r.row.Restores || r.env.Fingerprint == r.row.Target || !r.atControl(ctx) {
		return nil
	}
	ctx = context.WithoutCancel(ctx)
	r.progress.Say(ctx, "applying", "Applying the change again on "+r.env.Name)
	if _, err := r.turn(ctx, release.ActTry, r.row.Target); err != nil {
		return err
	}
	return r.inspection().Purge(ctx)
}

// atControl tells whether the environment has what a control of this run put there. An act that was meant and not applied, as
// by a process that died before the site was told, has changed nothing; what somebody else put there is no control's.
func (r *run) atControl(ctx context.Context) bool {
	mine, err := r.Store.RunActs(context.WithoutCancel(ctx), r.row.ID)
	if err != nil {
		return false
	}
	for _, a := range slices.Backward(mine) {
		if a.State == release.ActApplied {
			return a.Kind == release.ActControl && a.Fingerprint == r.env.Fingerprint
		}
	}
	return false
}

// renew takes into the mark what the site itself has moved on in.
func (r *run) renew(ctx context.Context, s *store.Store) error {
	if len(r.renewed) == 0 || r.baseMark == nil {
		return nil
	}
	for i := range r.renewed {
		r.renewed[i].Run = r.row.ID
	}
	if err := s.RenewMark(ctx, r.baseMark.ID, r.renewed); err != nil {
		return err
	}
	return s.Record(ctx, store.Event{SiteID: r.row.SiteID, EnvironmentID: &r.env.ID, RunID: &r.row.ID, Kind: "mark", Who: r.row.RequestedBy,
		Text: renewedText(r.baseMark.ID, r.env.Name, r.renewed)})
}

// renewedText says in the history what was taken into a mark, and why.
func renewedText(mark int64, environment string, renewed []store.Renewal) string {
	var pages []string
	for _, x := range renewed {
		pages = append(pages, x.Key.Page)
	}
	slices.Sort(pages)
	pages = slices.Compact(pages)
	return fmt.Sprintf("Mark %d of %s has newer evidence of %s: it is otherwise with the earlier settings, too, so that the site itself has moved on.",
		mark, environment, strings.Join(pages, ", "))
}
