package scheduled

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/calendar"
	"tidemarker/internal/core/notice"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/schedule"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/run"
	"tidemarker/internal/store"
)

// errNotYours says who decides about what deletes data.
var errNotYours = &changes.Conflict{Why: "Only an approver schedules what deletes data on production, or resumes it."}

// notNow is why a tidy that is due waits; told says whether people are to be told so.
type notNow struct {
	why  string
	told bool
}

func (e *notNow) Error() string { return e.why }

// Tidy is what a change deletes that was checked and carried out, and can be carried out again.
type Tidy struct {
	Change store.Change
	Counts map[string]int // how many records each of its settings would delete now
	Titles map[string]string
	Why    string // it cannot recur; "" when it can
}

// Tidies are a site's changes that deleted data on production.
func (d *Desk) Tidies(ctx context.Context, siteID int64) ([]Tidy, error) {
	all, err := d.Store.ChangesIn(ctx, siteID, release.Marked, release.Settled)
	if err != nil {
		return nil, err
	}
	out := []Tidy{}
	for _, c := range all {
		keys, t, err := d.tidyOf(ctx, c)
		if err != nil {
			return nil, err
		}
		if len(keys) > 0 {
			out = append(out, t)
		}
	}
	return out, nil
}

// tidyOf is what a change deletes; no keys when it deletes nothing.
func (d *Desk) tidyOf(ctx context.Context, c store.Change) (keys []string, t Tidy, err error) {
	t = Tidy{Change: c, Titles: map[string]string{}}
	envs, err := d.Store.EnvironmentsByRole(ctx, c.SiteID)
	if err != nil {
		return nil, t, err
	}
	cat := envs.Production.Catalogue.V
	if cat == nil || envs.Production.Fingerprint == "" {
		return nil, t, nil
	}
	base, err := d.Store.Revision(ctx, c.SiteID, c.Base)
	if err != nil {
		return nil, t, err
	}
	wanted := base.With(c.Edits.V)
	for _, k := range cat.Deletes(base, wanted) {
		if def, _ := cat.Find(k); def.Irreversible {
			keys, t.Titles[k] = append(keys, k), def.Title
		}
	}
	if len(keys) == 0 {
		return nil, t, nil
	}
	now, err := d.Store.Revision(ctx, c.SiteID, envs.Production.Fingerprint)
	if err != nil {
		return nil, t, err
	}
	t.Counts, err = run.Counted(*cat, now, keys)
	switch {
	case err != nil:
		t.Why = sentence(err.Error())
	case !d.Runner.Acts.Able(envs.Production).Applies:
		t.Why = envs.Production.Name + " is changed by hand."
	default:
		t.Why = otherwise(wanted, now, c.Edits.V)
	}
	return keys, t, nil
}

// otherwise says that production has not what was checked.
func otherwise(wanted, now, edits settings.Values) string {
	for k := range edits {
		if !settings.Equal(wanted[k], now[k]) {
			return fmt.Sprintf("Production has %s otherwise than it was checked.", k)
		}
	}
	return ""
}

func sentence(s string) string { return s + "." }

// mayRecur says why a schedule cannot be followed as somebody wants it: of what deletes data only.
func (d *Desk) mayRecur(ctx context.Context, siteID int64, s schedule.Schedule, by changes.By) error {
	if s.What != schedule.Tidy {
		return nil
	}
	if !by.Decides {
		return errNotYours
	}
	_, t, err := d.checked(ctx, d.Store, siteID, s.Tidy.Change)
	if err != nil {
		return err
	}
	if t.Why != "" {
		return &changes.Conflict{Why: t.Why}
	}
	return nil
}

// checked is a change of a site that deleted data on production once, and still is there; Why says what is not so.
func (d *Desk) checked(ctx context.Context, s *store.Store, siteID, changeID int64) (keys []string, t Tidy, err error) {
	c, err := s.Change(ctx, changeID)
	if errors.Is(err, store.ErrNotFound) || err == nil && c.SiteID != siteID {
		return nil, Tidy{Why: fmt.Sprintf("This site has no change %d.", changeID)}, nil
	}
	if err != nil {
		return nil, t, err
	}
	in := *d
	in.Store = s
	if keys, t, err = in.tidyOf(ctx, c); err != nil {
		return nil, t, err
	}
	switch {
	case len(keys) == 0:
		t.Why = fmt.Sprintf("“%s” deletes nothing.", c.Title)
	case c.State != release.Marked && c.State != release.Settled:
		t.Why = fmt.Sprintf("“%s” is %s. Only what was carried out on production and found clear recurs.", c.Title, c.State)
	}
	return keys, t, nil
}

// tidy begins what deletes data again, when it may: what was checked is still in force, the calendar lets it, and there is a
// backup. How much it would delete is counted by the run, just before.
func (d *Desk) tidy(ctx context.Context, in *store.Store, s store.Schedule, due time.Time) error {
	envs, err := in.EnvironmentsByRole(ctx, s.SiteID)
	if err != nil {
		return err
	}
	keys, t, err := d.checked(ctx, in, s.SiteID, s.Schedule.V.Tidy.Change)
	if err != nil {
		return err
	}
	if t.Why != "" {
		if _, err := in.PauseSchedule(ctx, s.ID, "Paused: "+t.Why); err != nil {
			return err
		}
		return d.tell(ctx, in, s, "A scheduled tidy is paused. "+t.Why)
	}
	lines, err := in.Calendar(ctx, s.SiteID)
	if err != nil {
		return err
	}
	if why := calendar.Why(lines, d.Now()); why != "" {
		return &notNow{why: why}
	}
	backed, err := in.BackedUp(ctx, envs.Production.ID)
	if err != nil {
		return err
	}
	if !backed {
		return &notNow{fmt.Sprintf("It waits for a backup of %s: it deletes data, which no rollback restores. Record one, and it is carried out.", envs.Production.Name), true}
	}
	who := s.MadeBy + "’s schedule"
	work := &schedule.Work{Schedule: s.ID, At: d.Now(), Keys: slices.Sorted(slices.Values(keys)), Most: s.Schedule.V.Tidy.Most}
	id, err := d.Runner.StartIn(ctx, in, store.Run{SiteID: s.SiteID, EnvironmentID: envs.Production.ID, Kind: release.TidyRun, RequestedBy: who, Tidy: store.JSON[*schedule.Work]{V: work}})
	if err != nil {
		return err
	}
	return errors.Join(in.ScheduleDone(ctx, s.ID, due, &id, ""), in.Record(ctx, store.Event{SiteID: s.SiteID, EnvironmentID: &envs.Production.ID, RunID: &id, Kind: "schedule", Who: who,
		Text: fmt.Sprintf("Began the scheduled tidy of %s, as “%s” did it first.", envs.Production.Name, t.Change.Title)}))
}

// wait says what a tidy waits for, and tells people once.
func (d *Desk) wait(ctx context.Context, id int64, why *notNow) error {
	return d.Store.Within(ctx, func(in *store.Store) error {
		s, err := in.TakeSchedule(ctx, id)
		if errors.Is(err, store.ErrNotFound) || err == nil && s.Said == why.why {
			return nil
		}
		if err != nil {
			return err
		}
		if err := in.ScheduleSaid(ctx, id, why.why); err != nil || !why.told {
			return err
		}
		return d.tell(ctx, in, s, "A scheduled tidy is due. "+why.why)
	})
}

// ourselves is who did what nobody did.
const ourselves = "Tide Marker"

// tell is for all whom tidies concern.
func (d *Desk) tell(ctx context.Context, in *store.Store, s store.Schedule, text string) error {
	return errors.Join(in.Record(ctx, store.Event{SiteID: s.SiteID, Kind: "schedule", Who: ourselves, Topic: notice.Tidied, Text: text}), in.Tell(ctx, store.Signal{Site: s.SiteID}))
}
