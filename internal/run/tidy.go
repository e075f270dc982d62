package run

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"tidemarker/internal/core/calendar"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/notice"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/schedule"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/words"
	"tidemarker/internal/store"
)

// tidy deletes again what a change deleted once, and looks at production afterwards: the settings that delete are switched off,
// which deletes nothing, and on again. Each is an act like any other. What was switched off is always switched on again, also
// when the run is cut off or stopped in between; what was carried out is never carried out twice by one run.
func (r *run) tidy(ctx context.Context) error {
	target := r.row.Before
	r.row.Target = target
	off, done, err := r.tidied(ctx, target)
	if err != nil {
		return err
	}
	if !off {
		if err := r.stopIfAsked(ctx); err != nil {
			return err
		}
	}
	if err := r.loadBaseline(ctx); err != nil {
		return err
	}
	if !off && !done {
		if err := r.mayTidy(ctx, target); err != nil {
			return err
		}
		if err := r.switchOff(context.WithoutCancel(ctx)); err != nil {
			return fmt.Errorf("nothing was deleted: %w", err)
		}
	}
	if !done {
		// Neither is left half done for a person who stops it now.
		if err := r.switchOn(context.WithoutCancel(ctx), target); err != nil {
			return err
		}
	}
	if err := r.countLeft(ctx); err != nil {
		return err
	}
	if err := r.inspect(ctx, nil); err != nil {
		return err
	}
	r.row.Summary = r.deleted() + " " + r.row.Summary
	return nil
}

// tidied is how far this run has come by its acts: whether the settings were switched off by it, and on again.
func (r *run) tidied(ctx context.Context, target string) (off, done bool, err error) {
	mine, err := r.Store.RunActs(ctx, r.row.ID)
	for _, a := range mine {
		applied := a.Kind == release.ActTidy && a.State == release.ActApplied
		off = off || applied && a.Fingerprint != target
		done = done || applied && a.Fingerprint == target
	}
	return off, done, err
}

// mayTidy says what stands in the way, with what would be deleted counted just now.
func (r *run) mayTidy(ctx context.Context, target string) error {
	work := r.row.Tidy.V
	if r.env.Fingerprint != target {
		return fmt.Errorf("%s was changed outside Tide Marker while the run was cut off. Nothing was overwritten", r.env.Name)
	}
	if !r.able.Applies {
		return fmt.Errorf("%s is changed by hand", r.env.Name)
	}
	found, err := Counted(r.cat, r.values, work.Keys)
	if err != nil {
		return err
	}
	work.Found = found
	if err := r.Store.SaveTidy(ctx, r.row.ID, *work); err != nil {
		return err
	}
	if backed, err := r.Store.BackedUp(ctx, r.env.ID); err != nil || !backed {
		return errors.Join(err, fmt.Errorf("there is no backup of %s that is recent enough", r.env.Name))
	}
	lines, err := r.Store.Calendar(ctx, r.row.SiteID)
	if err != nil {
		return err
	}
	if why := calendar.Why(lines, r.now()); why != "" {
		return fmt.Errorf("it came too late. %s", strings.TrimSuffix(why, "."))
	}
	s, err := r.Store.Schedule(ctx, work.Schedule)
	if errors.Is(err, store.ErrNotFound) {
		return errors.New("its schedule was removed in the meantime")
	}
	if err != nil {
		return err
	}
	past, err := r.Store.Carried(ctx, work.Schedule, s.EditedAt)
	if err != nil {
		return err
	}
	if why := schedule.Refuse(work.Most, past, schedule.Sum(found), r.now()); why != "" {
		return fmt.Errorf("%s. Look at what has gathered; an approver takes the schedule up again", why)
	}
	return nil
}

// Counted is how many records each of some settings would delete; the error says which is not in force, or is not counted by
// the speed layer.
func Counted(cat settings.Catalogue, now settings.Values, keys []string) (map[string]int, error) {
	out := map[string]int{}
	for _, k := range keys {
		d, there := cat.Find(k)
		switch {
		case !there || !d.Irreversible || !d.Active(now[k]):
			return nil, fmt.Errorf("%s is no longer in force", k)
		case d.Records == nil:
			return nil, fmt.Errorf("the speed layer does not say how many records “%s” would delete", d.Title)
		}
		out[k] = *d.Records
	}
	return out, nil
}

// switchOff brings the settings that delete to what they do when they delete nothing.
func (r *run) switchOff(ctx context.Context) error {
	off := settings.Values{}
	for _, k := range r.row.Tidy.V.Keys {
		d, _ := r.cat.Find(k)
		off[k] = d.Default
	}
	values := r.values.With(off)
	fp, err := r.Store.SaveRevision(ctx, r.row.SiteID, values)
	if err != nil {
		return err
	}
	if fp == r.row.Target {
		return errors.New("by default the settings delete, so that they cannot be switched off")
	}
	return r.switched(ctx, values, fp, "Switching off what deletes, on "+r.env.Name)
}

func (r *run) switchOn(ctx context.Context, target string) error {
	values, err := r.Store.Revision(ctx, r.row.SiteID, target)
	if err != nil {
		return err
	}
	err = r.switched(ctx, values, target, "Deleting on "+r.env.Name)
	if err != nil && !errors.Is(err, errLost) {
		return fmt.Errorf("what deletes was switched off on %s and could not be switched on again: %w", r.env.Name, err)
	}
	return err
}

func (r *run) switched(ctx context.Context, v settings.Values, fingerprint, said string) error {
	in, err := r.intent(ctx, release.ActTidy, v, fingerprint)
	if err != nil {
		return err
	}
	in.Change = nil // production has the change before and after
	r.progress.Say(ctx, "applying", said)
	return after(r.apply(ctx, in), nil)
}

// countLeft counts what is there after it was done.
func (r *run) countLeft(ctx context.Context) error {
	if err := r.connectAgain(ctx); err != nil {
		return err
	}
	left, err := Counted(r.cat, r.values, r.row.Tidy.V.Keys)
	if err != nil {
		return err
	}
	r.row.Tidy.V.Left = left
	return r.Store.SaveTidy(ctx, r.row.ID, *r.row.Tidy.V)
}

// deleted says how many records there were to delete before and after, by the speed layer's own count.
func (r *run) deleted() string {
	w := r.row.Tidy.V
	var parts []string
	for _, k := range slices.Sorted(maps.Keys(w.Found)) {
		d, _ := r.cat.Find(k)
		parts = append(parts, fmt.Sprintf("%s: %s before, %d after", d.Title, words.Count(w.Found[k], "record"), w.Left[k]))
	}
	return strings.Join(parts, "; ") + "."
}

// sayDeleted says of a tidy that did not come to its end whether it had deleted by then.
func (r *run) sayDeleted(ctx context.Context, event release.RunEvent) error {
	if r.row.Kind != release.TidyRun || event == release.RunFinished {
		return nil
	}
	off, done, err := r.tidied(ctx, r.row.Before)
	switch {
	case err != nil:
		return err
	case done:
		r.row.Summary, r.row.Problem = "The records were deleted. "+r.row.Summary, "The records were deleted. "+r.row.Problem
	case off:
		r.row.Summary += " What deletes is switched off now, and nothing was deleted."
	default:
		r.row.Summary += " Nothing was deleted."
	}
	return nil
}

// afterTidy tells people of a tidy, and pauses its schedule when it was not carried out, or when production is broken after it.
func (r *run) afterTidy(ctx context.Context, s *store.Store, event release.RunEvent) error {
	if r.row.Kind != release.TidyRun || r.row.Tidy.V == nil {
		return nil
	}
	clear := event == release.RunFinished && r.row.Verdict == evidence.VerdictClear
	e := store.Event{SiteID: r.row.SiteID, RunID: &r.row.ID, Topic: notice.Tidied, Who: ourselves, Text: fmt.Sprintf("Tidied %s. %s", r.env.Name, r.row.Summary)}
	if event != release.RunFinished || r.row.Verdict == evidence.VerdictBroken {
		why := fmt.Sprintf("Run %d: %s", r.row.ID, r.row.Summary)
		if _, err := s.PauseSchedule(ctx, r.row.Tidy.V.Schedule, why); err != nil {
			return err
		}
		e.Text = fmt.Sprintf("The tidy of %s is paused. %s", r.env.Name, r.row.Summary)
	}
	if event == release.RunFinished && !clear {
		return nil // that production is not clear is told with the topic for it
	}
	return s.Notify(ctx, e)
}
