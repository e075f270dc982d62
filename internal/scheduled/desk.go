// Package scheduled does what is to be done again and again by itself: checks of production as it is, readings of what
// environments have, and tidies.
//
// [Desk.GoOn] is called every few seconds in each process. What is due (package core/schedule) is taken by one of them, in the
// transaction in which its run is begun; what cannot be begun now waits, and is begun once when it can.
package scheduled

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"sync"
	"time"

	"tidemarker/internal/act"
	"tidemarker/internal/changes"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/schedule"
	"tidemarker/internal/core/words"
	"tidemarker/internal/run"
	"tidemarker/internal/store"
)

// Desk is where people say what is to be done again and again, and what does it.
type Desk struct {
	Store  *store.Store
	Runner *run.Runner
	// Clock is what time it is; time.Now when nil.
	Clock func() time.Time
}

// Now is what time it is to schedules.
func (d *Desk) Now() time.Time {
	if d.Clock == nil {
		return time.Now()
	}
	return d.Clock()
}

// NotRight says what is wrong with a schedule.
type NotRight struct{ Err error }

func (e *NotRight) Error() string { return e.Err.Error() + "." }

// ErrEdited says that somebody else edited or removed a schedule.
var ErrEdited = errors.New("somebody else edited this schedule just now. Load it again")

// Add adds a schedule to a site. What deletes data is for who decides about production.
func (d *Desk) Add(ctx context.Context, siteID int64, s schedule.Schedule, by changes.By) (id int64, err error) {
	if _, err := schedule.Read(s, time.LoadLocation); err != nil {
		return 0, &NotRight{err}
	}
	if err := d.mayRecur(ctx, siteID, s, by); err != nil {
		return 0, err
	}
	err = d.Store.Within(ctx, func(in *store.Store) error {
		if id, err = in.NewSchedule(ctx, store.Schedule{SiteID: siteID, Schedule: store.JSON[schedule.Schedule]{V: s}, MadeBy: by.Who}, d.Now()); err != nil {
			return err
		}
		return note(ctx, in, siteID, by.Who, "Scheduled "+described(s)+".")
	})
	return id, err
}

// Edit replaces a schedule, or pauses it; [ErrEdited] when somebody else edited it since a version.
func (d *Desk) Edit(ctx context.Context, id int64, version int, s schedule.Schedule, paused bool, by changes.By) error {
	if _, err := schedule.Read(s, time.LoadLocation); err != nil {
		return &NotRight{err}
	}
	return d.Store.Within(ctx, func(in *store.Store) error {
		was, err := in.Schedule(ctx, id)
		if err != nil {
			return err
		}
		if was.Schedule.V.What != s.What {
			return &NotRight{errors.New("a schedule stays what it is. Remove it, and add another")}
		}
		if justPaused := paused && reflect.DeepEqual(was.Schedule.V, s); !justPaused {
			within := *d
			within.Store = in
			if err := within.mayRecur(ctx, was.SiteID, s, by); err != nil {
				return err
			}
		}
		now := was
		now.Schedule.V, now.Paused = s, paused
		ok, err := in.EditSchedule(ctx, now, version, d.Now())
		if err == nil && !ok {
			err = ErrEdited
		}
		if err != nil {
			return err
		}
		said := "Scheduled again: " + described(s) + ", before that " + described(was.Schedule.V) + "."
		if was.Paused != paused {
			said = map[bool]string{true: "Paused ", false: "Took up again "}[paused] + described(s) + "."
		}
		return note(ctx, in, was.SiteID, by.Who, said)
	})
}

// Remove ends a schedule.
func (d *Desk) Remove(ctx context.Context, id int64, who string) error {
	return d.Store.Within(ctx, func(in *store.Store) error {
		was, err := in.Schedule(ctx, id)
		if err != nil {
			return err
		}
		if ok, err := in.RemoveSchedule(ctx, id); err != nil || !ok {
			return errors.Join(err, map[bool]error{true: nil, false: ErrEdited}[ok])
		}
		return note(ctx, in, was.SiteID, who, "Ended "+described(was.Schedule.V)+".")
	})
}

func note(ctx context.Context, s *store.Store, siteID int64, who, text string) error {
	return errors.Join(s.Record(ctx, store.Event{SiteID: siteID, Kind: "schedule", Who: who, Text: text}), s.Tell(ctx, store.Signal{Site: siteID}))
}

func described(s schedule.Schedule) string {
	what := map[schedule.What]string{schedule.Check: "checks of production", schedule.Drift: "readings of all environments"}[s.What]
	if s.What == schedule.Tidy {
		what = fmt.Sprintf("the tidy of change %d, at most %s at once,", s.Tidy.Change, words.Count(s.Tidy.Most, "record"))
	}
	quiet := ""
	if s.Quiet.From != "" {
		quiet = fmt.Sprintf(", quiet from %s to %s", s.Quiet.From, s.Quiet.To)
	}
	return fmt.Sprintf("%s from %s on, %s, by %s%s", what, s.Begins, s.Zone, s.Rule, quiet)
}

const (
	// mostAtOnce is how many schedules are followed at once.
	mostAtOnce = 8
	// readingFor is for how long a reading may take: one site that does not answer keeps others waiting for no longer.
	readingFor = time.Minute
)

// GoOn does what is due.
func (d *Desk) GoOn(ctx context.Context) error {
	all, err := d.Store.Schedules(ctx, 0)
	if err != nil {
		return err
	}
	troubles := make([]error, len(all))
	var work sync.WaitGroup
	room := make(chan struct{}, mostAtOnce)
	for i, s := range all {
		if due, err := d.due(s); err != nil || !due {
			troubles[i] = err
			continue
		}
		room <- struct{}{}
		work.Go(func() {
			defer func() { <-room }()
			if err := d.goOn(ctx, s.ID); err != nil {
				troubles[i] = fmt.Errorf("schedule %d: %w", s.ID, err)
			}
		})
	}
	work.Wait()
	return errors.Join(troubles...)
}

func (d *Desk) due(s store.Schedule) (bool, error) {
	l, err := schedule.Read(s.Schedule.V, time.LoadLocation)
	if err != nil {
		return false, fmt.Errorf("schedule %d cannot be read: %w", s.ID, err)
	}
	_, is := l.Due(s.LastDue, d.Now())
	return is, nil
}

// goOn takes a schedule and begins what is due, if it still is.
func (d *Desk) goOn(ctx context.Context, id int64) error {
	var taken *store.Schedule
	err := d.Store.Within(ctx, func(in *store.Store) error {
		s, err := in.TakeSchedule(ctx, id)
		if errors.Is(err, store.ErrNotFound) {
			return nil // another process has it, or it is paused or gone
		}
		if err != nil {
			return err
		}
		l, err := schedule.Read(s.Schedule.V, time.LoadLocation)
		if err != nil {
			return err
		}
		due, is := l.Due(s.LastDue, d.Now())
		if !is {
			return nil
		}
		if s.Schedule.V.What == schedule.Drift {
			taken = &s
			return in.ScheduleDone(ctx, id, due, nil, "")
		}
		if s.Schedule.V.What == schedule.Tidy {
			return d.tidy(ctx, in, s, due)
		}
		return d.check(ctx, in, s, due)
	})
	if later, is := errors.AsType[*notNow](err); is {
		return d.wait(ctx, id, later)
	}
	if why, waits := run.Waits(err); waits {
		return d.Store.ScheduleSaid(ctx, id, why)
	}
	if err != nil || taken == nil {
		return err
	}
	return d.read(ctx, *taken)
}

// check begins a check of production as it is.
func (d *Desk) check(ctx context.Context, in *store.Store, s store.Schedule, due time.Time) error {
	envs, err := in.EnvironmentsByRole(ctx, s.SiteID)
	if err != nil {
		return err
	}
	production := envs.Production
	if _, err := in.LatestMark(ctx, production.ID); errors.Is(err, store.ErrNotFound) {
		return in.ScheduleDone(ctx, s.ID, due, nil, "Not checked: "+production.Name+" has no mark to compare with. Take one first.")
	} else if err != nil {
		return err
	}
	who := s.MadeBy + "’s schedule"
	id, err := d.Runner.StartIn(ctx, in, store.Run{SiteID: s.SiteID, EnvironmentID: production.ID, Kind: release.CheckRun, RequestedBy: who})
	if err != nil {
		return err
	}
	return errors.Join(in.ScheduleDone(ctx, s.ID, due, &id, ""), in.Record(ctx, store.Event{SiteID: s.SiteID, EnvironmentID: &production.ID, RunID: &id, Kind: "schedule", Who: who, Text: "Began the scheduled check of " + production.Name + "."}))
}

// read reads all environments of a site; what was changed outside is noted by that.
func (d *Desk) read(ctx context.Context, s store.Schedule) error {
	envs, err := d.Store.Environments(ctx, s.SiteID)
	if err != nil {
		return err
	}
	within, cancel := context.WithTimeout(ctx, readingFor)
	defer cancel()
	said := ""
	for _, e := range envs {
		if !slices.Contains(d.Runner.Acts.Kinds.Readable(), e.ConnectorKind) {
			continue
		}
		_, _, err := d.Runner.Acts.Read(within, e.ID)
		if _, busy := errors.AsType[*act.Busy](err); err != nil && !busy { // whoever acts on it reads it
			said += e.Name + " could not be read: " + err.Error() + ". "
		}
	}
	return d.Store.ScheduleSaid(ctx, s.ID, said)
}
