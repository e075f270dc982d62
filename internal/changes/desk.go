package changes

import (
	"context"
	"fmt"
	"slices"
	"time"

	"tidemarker/internal/act"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/run"
	"tidemarker/internal/store"
)

// Desk is where people work on changes.
type Desk struct {
	Store  *store.Store
	Acts   *act.Acts
	Runner *run.Runner
	// Clock is what time it is to calendars; time.Now when nil.
	Clock func() time.Time
}

// Now is what time it is to calendars.
func (d *Desk) Now() time.Time {
	if d.Clock == nil {
		return time.Now()
	}
	return d.Clock()
}

// ChangeRef names a change.
type ChangeRef struct {
	ID    int64  `json:"id"`
	Title string `json:"title"`
	State string `json:"state"`
}

// Conflict says that something cannot be done now, and why.
type Conflict struct{ Why string }

func (e *Conflict) Error() string { return e.Why }

// Edited says that somebody else edited a change since the version that was given.
type Edited struct {
	By      string
	Version int // now
}

func (e *Edited) Error() string {
	return fmt.Sprintf("%s edited this change since you opened it. Nothing was saved; load it again to see both.", e.By)
}

var errMovedOn = &Conflict{"The change has moved on since. Load it again."}

// held is a change that stays as it is until the transaction ends that its desk's store is, with all that decides what may be
// done with it. Nothing asks a site meanwhile.
type held struct {
	*Desk
	situation release.Situation
	c         store.Change
	envs      store.ByRole
}

// hold does something to a change as it stands, all of it or nothing. Whatever else people, runs and watches want to do to it,
// to its site's environments or to the verdicts on it comes before that or after.
func (d *Desk) hold(ctx context.Context, id int64, do func(*held) error) error {
	return d.Store.Within(ctx, func(s *store.Store) error {
		in := *d
		in.Store = s
		if _, err := s.LockChange(ctx, id); err != nil {
			return err
		}
		if err := s.KeepVerdicts(ctx, id); err != nil {
			return err
		}
		x := held{Desk: &in}
		var err error
		if x.situation, x.c, x.envs, err = in.situation(ctx, id); err != nil {
			return err
		}
		return do(&x)
	})
}

// Move makes a move of a change that needs no run, when the rules let it.
func (d *Desk) Move(ctx context.Context, id int64, e release.Event, explanation string) error {
	return d.hold(ctx, id, func(x *held) error { return x.move(ctx, e, explanation) })
}

// move makes a move of the change together with the runs that it needs. The first of several begins at once, each of the others
// when the one before it ended clear.
func (x *held) move(ctx context.Context, e release.Event, explanation string, runs ...store.Run) error {
	to, err := release.Apply(x.situation, e)
	if err != nil {
		return err
	}
	now := x.c
	now.State, now.Explanation = to, explanation
	if err := x.save(ctx, now); err != nil {
		return err
	}
	var next *int64
	for i, r := range slices.Backward(runs) {
		r.SiteID, r.ChangeID, r.NextID = x.c.SiteID, &x.c.ID, next
		if i > 0 {
			r.State = release.Waiting
		}
		id, err := x.Runner.StartIn(ctx, x.Store, r)
		if err != nil {
			return err
		}
		next = &id
	}
	return nil
}

// save writes what the change has become.
func (x *held) save(ctx context.Context, now store.Change) error {
	ok, err := x.Store.SaveChange(ctx, x.c, now)
	if err == nil && !ok {
		err = errMovedOn
	}
	if err != nil {
		return err
	}
	x.c = now
	return x.Store.Tell(ctx, store.Signal{Site: now.SiteID, Change: now.ID})
}

// note adds a line about the change to its site's history.
func (x *held) note(ctx context.Context, who, format string, args ...any) error {
	return note(ctx, x.Store, x.c, who, format, args...)
}

// note adds a line about a change to its site's history.
func note(ctx context.Context, s *store.Store, c store.Change, who, format string, args ...any) error {
	return s.Record(ctx, store.Event{SiteID: c.SiteID, ChangeID: &c.ID, Kind: "change", Who: who, Text: fmt.Sprintf(format, args...)})
}

// saveTarget keeps the full set of values that a change would put in force.
func (d *Desk) saveTarget(ctx context.Context, c store.Change) error {
	base, err := d.Store.Revision(ctx, c.SiteID, c.Base)
	if err != nil {
		return err
	}
	_, err = d.Store.SaveRevision(ctx, c.SiteID, base.With(c.Edits.V))
	return err
}

// Try tries a change on staging.
func (d *Desk) Try(ctx context.Context, id int64, who string) error {
	return d.hold(ctx, id, func(x *held) error {
		if err := x.saveTarget(ctx, x.c); err != nil {
			return err
		}
		return x.move(ctx, release.Try, "Being tried on "+x.envs.Staging.Name+".",
			store.Run{EnvironmentID: x.envs.Staging.ID, Kind: release.TryRun, Target: x.situation.Fingerprint, RequestedBy: who})
	})
}

// Accept accepts an environment as it is although its check left something to judge, and
// makes a mark of what that check saw.
func (d *Desk) Accept(ctx context.Context, id int64, who string) error {
	return d.hold(ctx, id, func(x *held) error {
		if err := x.move(ctx, release.Accept, "Accepted as it is by "+who+"."); err != nil {
			return err
		}
		if x.c.State == release.Marked {
			return x.markAccepted(ctx, who)
		}
		return x.note(ctx, who, "Accepted “%s” as it is.", x.c.Title)
	})
}

// markAccepted makes a mark of what the promotion saw, which production still has.
func (x *held) markAccepted(ctx context.Context, who string) error {
	runs, err := x.Store.ChangeRuns(ctx, x.c.ID)
	if err != nil {
		return err
	}
	last, err := x.Store.LatestMark(ctx, x.envs.Production.ID)
	if err != nil {
		return err
	}
	for _, r := range runs {
		if r.EnvironmentID != x.envs.Production.ID || r.Kind != release.PromoteRun || r.State != release.Done {
			continue
		}
		if r.Target != x.envs.Production.Fingerprint {
			return &Conflict{x.envs.Production.Name + " has different settings from those that the promotion was checked with. Check it again and take a mark, or roll back."}
		}
		mark, err := x.Store.SaveMark(ctx, store.Mark{EnvironmentID: x.envs.Production.ID, RunID: r.ID, Fingerprint: r.Target, Who: who,
			Reason: "Accepted as it is: " + r.Summary, Volatile: last.Volatile, Probes: last.Probes})
		if err != nil {
			return err
		}
		return x.note(ctx, who, "Accepted “%s” as it is on %s: mark %d.", x.c.Title, x.envs.Production.Name, mark)
	}
	return &Conflict{"No promotion of it was checked. Promote it, or roll back."}
}

// Discard discards a change that no environment has.
func (d *Desk) Discard(ctx context.Context, id int64, who string) error {
	return d.hold(ctx, id, func(x *held) error {
		if err := x.move(ctx, release.Discard, "Discarded."); err != nil {
			return err
		}
		return x.note(ctx, who, "Discarded the change “%s”.", x.c.Title)
	})
}

// target are the full values that a change would put in force.
func target(base settings.Values, c store.Change) settings.Values { return base.With(c.Edits.V) }
