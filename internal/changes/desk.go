package changes

import (
	"context"
	"fmt"
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

// move makes a move of a change together with the runs that it needs, all or nothing.
// The first of several begins at once, each of the others when the one before it ended
// clear.
func (d *Desk) move(ctx context.Context, situation release.Situation, c store.Change, e release.Event, explanation string, runs ...store.Run) error {
	to, err := release.Apply(situation, e)
	if err != nil {
		return err
	}
	return d.Store.Within(ctx, func(s *store.Store) error {
		ok, err := s.MoveChange(ctx, c.ID, c.State, to, explanation)
		if err != nil {
			return err
		}
		if !ok {
			return errMovedOn
		}
		var next *int64
		for i := len(runs) - 1; i >= 0; i-- {
			r := runs[i]
			r.SiteID, r.ChangeID, r.NextID = c.SiteID, &c.ID, next
			if i > 0 {
				r.State = release.Waiting
			}
			id, err := d.Runner.StartIn(ctx, s, r)
			if err != nil {
				return err
			}
			next = &id
		}
		return s.Tell(ctx, store.Signal{Site: c.SiteID, Change: c.ID})
	})
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
	situation, c, envs, err := d.situation(ctx, id)
	if err != nil {
		return err
	}
	if err := d.saveTarget(ctx, c); err != nil {
		return err
	}
	return d.move(ctx, situation, c, release.Try, "Being tried on "+envs.Staging.Name+".",
		store.Run{EnvironmentID: envs.Staging.ID, Kind: release.TryRun, Target: situation.Fingerprint, RequestedBy: who})
}

// Accept accepts an environment as it is although its check left something to judge, and
// makes a mark of it.
func (d *Desk) Accept(ctx context.Context, id int64, who string) error {
	situation, c, envs, err := d.situation(ctx, id)
	if err != nil {
		return err
	}
	to, err := release.Apply(situation, release.Accept)
	if err != nil {
		return err
	}
	runs, err := d.Store.ChangeRuns(ctx, c.ID)
	if err != nil {
		return err
	}
	return d.Store.Within(ctx, func(s *store.Store) error {
		ok, err := s.MoveChange(ctx, c.ID, c.State, to, "Accepted as it is by "+who+".")
		if err == nil && !ok {
			err = errMovedOn
		}
		if err != nil || to != release.Marked {
			return err
		}
		last, err := s.LatestMark(ctx, envs.Production.ID)
		if err != nil {
			return err
		}
		for _, r := range runs {
			if r.EnvironmentID == envs.Production.ID && r.Kind == release.PromoteRun && r.State == release.Done {
				_, err := s.SaveMark(ctx, store.Mark{EnvironmentID: envs.Production.ID, RunID: r.ID, Fingerprint: envs.Production.Fingerprint, Who: who,
					Reason: "Accepted as it is: " + r.Summary, Volatile: last.Volatile, Probes: last.Probes})
				return err
			}
		}
		return nil
	})
}

// Discard discards a change that no environment has.
func (d *Desk) Discard(ctx context.Context, id int64, who string) error {
	situation, c, _, err := d.situation(ctx, id)
	if err != nil {
		return err
	}
	return d.Store.Within(ctx, func(s *store.Store) error {
		in := *d
		in.Store = s
		if err := in.move(ctx, situation, c, release.Discard, "Discarded."); err != nil {
			return err
		}
		return note(ctx, s, c, who, "Discarded the change “%s”.", c.Title)
	})
}

// target are the full values that a change would put in force.
func target(base settings.Values, c store.Change) settings.Values { return base.With(c.Edits.V) }
