// Package watching watches promotions after they were made, lets changes settle, and takes them back by itself where a site says so.
//
// A watch and its looks are rows, written with the end of the promotion (package run); package core/watch says when it is looked
// and what findings come of. [Desk.GoOn] is called every few seconds in each process: one of them takes a watch, for one transaction.
package watching

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/notice"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/watch"
	"tidemarker/internal/run"
	"tidemarker/internal/store"
)

// Us is who does what nobody asked for.
const Us = "Tide Marker"

// Desk is where promotions are watched.
type Desk struct {
	Store   *store.Store
	Runner  *run.Runner
	Changes *changes.Desk
	// Clock is what time it is; time.Now when nil.
	Clock func() time.Time
}

func (d *Desk) now() time.Time {
	if d.Clock == nil {
		return time.Now().UTC()
	}
	return d.Clock().UTC()
}

// GoOn does what is due. A watch that cannot go on keeps no other from it.
func (d *Desk) GoOn(ctx context.Context) error {
	due, err := d.Store.DueWatches(ctx, d.now())
	for _, id := range due {
		if e := d.goOn(ctx, id); e != nil {
			err = errors.Join(err, fmt.Errorf("watch %d: %w", id, e))
		}
	}
	return err
}

// turn is one watch, taken by this process for one transaction.
type turn struct {
	*Desk
	s          *store.Store
	w          store.Watch
	looks      []store.WatchLook
	change     store.Change
	envs       store.ByRole
	production store.Environment
}

func (d *Desk) goOn(ctx context.Context, id int64) error {
	return d.Store.Within(ctx, func(s *store.Store) error {
		w, err := s.TakeWatch(ctx, id)
		if errors.Is(err, store.ErrNotFound) {
			return nil // another process has it, or it is over
		}
		if err != nil {
			return err
		}
		t := &turn{Desk: d, s: s, w: w}
		if t.looks, err = s.WatchLooks(ctx, id); err != nil {
			return err
		}
		if t.change, err = s.Change(ctx, w.ChangeID); err != nil {
			return err
		}
		if t.envs, err = s.EnvironmentsByRole(ctx, w.SiteID); err != nil {
			return err
		}
		if t.production, err = s.Environment(ctx, w.EnvironmentID); err != nil {
			return err
		}
		return t.take(ctx)
	})
}

// take does what is to be done for a watch now.
func (t *turn) take(ctx context.Context) error {
	if t.change.State != release.Marked && t.change.State != release.Promoted {
		if t.change.State == release.RollingBack || t.change.State == release.Promoting {
			return nil // how that ends says what follows
		}
		return t.end(ctx, watch.Ended, t.goneBecause())
	}
	for i := range t.looks {
		if err := t.follow(ctx, &t.looks[i]); err != nil {
			return err
		}
	}
	if err := t.goBack(ctx); err != nil || t.change.State == release.RollingBack {
		return err
	}
	if err := t.begin(ctx); err != nil {
		return err
	}
	return t.conclude(ctx)
}

func (t *turn) goneBecause() string {
	switch {
	case t.w.BackRunID != nil && t.w.BackRefused == "":
		return fmt.Sprintf("It was rolled back automatically and is %s. %s", t.change.State, t.change.Explanation)
	case t.change.State == release.Settled:
		return "It was settled in the meantime."
	}
	return fmt.Sprintf("The change is %s.", t.change.State)
}

// end ends the watch, with looks that were not made left out.
func (t *turn) end(ctx context.Context, to watch.State, why string) error {
	for _, l := range t.looks {
		if l.State == watch.Planned || l.State == watch.Under {
			l.State, l.Why = watch.Skipped, "The watch was over."
			if err := t.s.SaveWatchLook(ctx, l); err != nil {
				return err
			}
		}
	}
	t.w.State, t.w.Why = to, why
	if err := t.s.ReviveWatches(ctx, t.w.ID, t.now()); err != nil {
		return err
	}
	topic := notice.Topic("")
	if t.w.BackRunID != nil { // who was told that it goes back is told how that ended
		topic = notice.GoingBack
	}
	return errors.Join(t.s.SaveWatch(ctx, t.w), t.note(ctx, topic, nil, fmt.Sprintf("The watch of “%s” is over. %s", t.change.Title, why)), t.tell(ctx))
}

// begin begins the look that is due. Of several that are, the last is made for all.
func (t *turn) begin(ctx context.Context) error {
	var due []int
	for i, l := range t.looks {
		if l.State == watch.Under {
			return nil
		}
		if l.State == watch.Planned && !l.TryAt.After(t.now()) {
			due = append(due, i)
		}
	}
	if len(due) == 0 {
		return nil
	}
	last := &t.looks[due[len(due)-1]]
	if t.production.Fingerprint != t.w.Fingerprint {
		for _, i := range due {
			t.looks[i].Tries++
			if err := t.notMade(ctx, &t.looks[i], t.production.Name+" has other settings than were promoted: somebody changed them outside."); err != nil {
				return err
			}
		}
		return nil
	}
	id, err := t.Runner.StartIn(ctx, t.s, store.Run{SiteID: t.w.SiteID, EnvironmentID: t.w.EnvironmentID, ChangeID: &t.w.ChangeID, Kind: release.RecheckRun, RequestedBy: Us})
	if why, waits := run.Waits(err); waits {
		if last.Why == why {
			return nil
		}
		last.Why = why
		return t.s.SaveWatchLook(ctx, *last)
	}
	if err != nil {
		return err
	}
	for _, i := range due[:len(due)-1] {
		last.Look.V.For = append(slices.Clone(t.looks[i].Look.V.For), last.Look.V.For...)
		t.looks[i].State, t.looks[i].Why = watch.Joined, "Made with the look after it: nobody was there at the time."
		if err := t.s.SaveWatchLook(ctx, t.looks[i]); err != nil {
			return err
		}
	}
	last.State, last.RunID, last.StagingRunID, last.Why, last.Tries = watch.Under, &id, nil, "", last.Tries+1
	return t.s.SaveWatchLook(ctx, *last)
}

// notMade says that a look could not be made: it is tried again after a while, and at last given up.
func (t *turn) notMade(ctx context.Context, l *store.WatchLook, why string) error {
	l.Why = why
	if l.Tries >= watch.MostTries {
		l.State = watch.NotChecked
		return t.s.SaveWatchLook(ctx, *l)
	}
	l.State, l.TryAt = watch.Planned, t.now().Add(watch.Pause(l.Tries))
	return t.s.SaveWatchLook(ctx, *l)
}

// conclude says what the watch has come to.
func (t *turn) conclude(ctx context.Context) error {
	var states []watch.LookState
	for _, l := range t.looks {
		states = append(states, l.State)
	}
	to, why := watch.Conclude(states, !t.now().Before(t.w.EndsAt))
	if to == watch.Settled && t.change.State == release.Promoted {
		to, why = watch.Waits, "The check of its promotion was not clear, and nobody has accepted it yet."
	}
	switch {
	case to == watch.Settled:
		return t.settle(ctx, why)
	case to == watch.Waits && (t.w.State != to || t.w.Why != why):
		t.w.State, t.w.Why = to, why
		return errors.Join(t.s.SaveWatch(ctx, t.w), t.note(ctx, notice.Settled, nil, fmt.Sprintf("The watch of “%s” is over, and it is not settled: %s", t.change.Title, why)), t.tell(ctx))
	}
	return nil
}

// settle settles the change, and those whose watches this one took over, where nothing was found that may be theirs.
func (t *turn) settle(ctx context.Context, why string) error {
	if err := t.settled(ctx, t.change, why); err != nil {
		return err
	}
	t.w.State, t.w.Why = watch.Settled, why
	if err := t.s.SaveWatch(ctx, t.w); err != nil {
		return err
	}
	into, err := t.s.WatchesInto(ctx, t.w.ID)
	if err != nil {
		return err
	}
	for _, w := range into {
		looks, err := t.s.WatchLooks(ctx, w.ID)
		if err != nil {
			return err
		}
		if slices.ContainsFunc(looks, func(l store.WatchLook) bool { return l.State == watch.Found }) {
			continue
		}
		c, err := t.s.Change(ctx, w.ChangeID)
		if err != nil {
			return err
		}
		if err := t.settled(ctx, c, fmt.Sprintf("Watched with “%s”: %s", t.change.Title, why)); err != nil {
			return err
		}
		w.State, w.Why = watch.Settled, "With a later promotion: "+why
		if err := t.s.SaveWatch(ctx, w); err != nil {
			return err
		}
	}
	return t.tell(ctx)
}

func (t *turn) settled(ctx context.Context, c store.Change, why string) error {
	to, ok := release.After(c.State, release.Watched)
	if !ok {
		return nil
	}
	if ok, err := t.s.MoveChange(ctx, c.ID, c.State, to, "Settled: "+why); err != nil || !ok {
		return err
	}
	return t.s.Record(ctx, store.Event{SiteID: c.SiteID, EnvironmentID: &t.w.EnvironmentID, ChangeID: &c.ID, Kind: "watch", Who: Us, Topic: notice.Settled, Text: fmt.Sprintf("“%s” is settled. %s", c.Title, why)})
}

// note adds a line to the history, of which people are told when it has a topic.
func (t *turn) note(ctx context.Context, topic notice.Topic, run *int64, text string) error {
	return t.s.Record(ctx, store.Event{Topic: topic, SiteID: t.w.SiteID, EnvironmentID: &t.w.EnvironmentID, ChangeID: &t.w.ChangeID, RunID: run, Kind: "watch", Who: Us, Text: text})
}

func (t *turn) tell(ctx context.Context) error {
	return t.s.Tell(ctx, store.Signal{Site: t.w.SiteID, Change: t.w.ChangeID})
}
