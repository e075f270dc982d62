package watching

import (
	"context"
	"errors"
	"fmt"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/notice"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/watch"
	"tidemarker/internal/core/words"
	"tidemarker/internal/run"
	"tidemarker/internal/store"
)

// announce says that the change will go back by itself, when the site says so for what a look found.
func (t *turn) announce(ctx context.Context, l *store.WatchLook) error {
	row, err := t.s.Site(ctx, t.w.SiteID)
	if err != nil {
		return err
	}
	rule := row.Document.V.Promotes().GoBack
	if rule == nil || t.w.BackAt != nil {
		return nil
	}
	var before []watch.Late
	for _, earlier := range t.looks {
		if earlier.ID != l.ID && earlier.DueAt.Before(l.DueAt) && (earlier.State == watch.Found || earlier.State == watch.Clear || earlier.State == watch.News) {
			before = earlier.Held.V
		}
	}
	class := func(page string) string {
		p, _ := row.Document.V.Page(page)
		return p.Class
	}
	found, due := watch.Due(*rule, l.Held.V, before, class)
	if !due {
		return nil
	}
	why := fmt.Sprintf("%s: %s. %s", found.Page, found.Title, found.Why)
	situation, _, err := t.changes().Situation(ctx, t.change.ID)
	if err != nil {
		return err
	}
	at := t.now().Add(rule.Announced())
	t.w.BackAt, t.w.BackWhy = &at, why
	said := fmt.Sprintf("“%s” is rolled back automatically in %s, as this site's rules say, unless somebody stops it. %s", t.change.Title, words.Span(int(rule.Announced().Seconds())), why)
	if no := release.NotByItself(situation); no != "" {
		t.w.BackRefused = no
		said = fmt.Sprintf("“%s” would be rolled back automatically, but is not: %s %s", t.change.Title, no, why)
	}
	return errors.Join(t.s.SaveWatch(ctx, t.w), t.note(ctx, notice.GoingBack, nil, said))
}

// changes is the desk within the turn's transaction.
func (t *turn) changes() *changes.Desk {
	in := *t.Changes
	in.Store = t.s
	return &in
}

// goBack rolls the change back when that was announced, the time is over and nobody said no.
func (t *turn) goBack(ctx context.Context) error {
	if t.w.BackAt == nil || t.w.BackRefused != "" || t.now().Before(*t.w.BackAt) {
		return nil
	}
	if t.w.BackRunID != nil {
		return t.stillThere(ctx)
	}
	situation, _, err := t.changes().Situation(ctx, t.change.ID)
	if err != nil {
		return err
	}
	if situation.ProductionBusy != "" || situation.ProductionUnknown != "" {
		return nil // with the next turn
	}
	no := release.NotByItself(situation)
	if no == "" {
		err = t.changes().RollBack(ctx, t.change.ID, false, Us)
		if _, later := run.Waits(err); later {
			return nil // with the next turn
		}
		why, is := changes.Waits(err)
		if err != nil && !is {
			return err
		}
		no = why
	}
	if no != "" {
		t.w.BackRefused = no
		return errors.Join(t.s.SaveWatch(ctx, t.w), t.note(ctx, notice.GoingBack, nil, fmt.Sprintf("“%s” was not rolled back automatically: %s", t.change.Title, no)), t.tell(ctx))
	}
	runs, err := t.s.ChangeRuns(ctx, t.change.ID)
	if err != nil {
		return err
	}
	for _, r := range runs {
		if r.Kind == release.RollBackRun && r.EnvironmentID == t.w.EnvironmentID && !r.State.Over() {
			t.w.BackRunID = &r.ID
		}
	}
	t.change.State = release.RollingBack
	return errors.Join(t.s.SaveWatch(ctx, t.w), t.note(ctx, notice.GoingBack, t.w.BackRunID, fmt.Sprintf("“%s” is rolled back automatically. %s", t.change.Title, t.w.BackWhy)), t.tell(ctx))
}

// stillThere says that going back did not bring the change back from production: it is tried once, and then it is a person's.
func (t *turn) stillThere(ctx context.Context) error {
	r, err := t.s.Run(ctx, *t.w.BackRunID)
	if err != nil || !r.State.Over() {
		return err
	}
	t.w.BackRefused = fmt.Sprintf("it was tried (run %d), and production still has the change. %s", r.ID, r.Summary)
	return errors.Join(t.s.SaveWatch(ctx, t.w), t.note(ctx, notice.GoingBack, t.w.BackRunID, fmt.Sprintf("“%s” was not rolled back automatically: %s", t.change.Title, t.w.BackRefused)), t.tell(ctx))
}

// Conflict says that something cannot be done with a watch now.
type Conflict struct{ Why string }

func (e *Conflict) Error() string { return e.Why }

// SayNo keeps a change that is announced to go back by itself where it is.
func (d *Desk) SayNo(ctx context.Context, id int64, who, why string) error {
	return d.taken(ctx, id, func(t *turn) error {
		if t.w.BackAt == nil || t.w.BackRefused != "" || t.w.BackRunID != nil {
			return &Conflict{"Nothing is announced to be rolled back automatically, or it went already."}
		}
		t.w.BackRefused = who + " said no"
		if why != "" {
			t.w.BackRefused += ": " + why
		}
		return errors.Join(t.s.SaveWatch(ctx, t.w), t.s.Record(ctx, store.Event{SiteID: t.w.SiteID, EnvironmentID: &t.w.EnvironmentID, ChangeID: &t.w.ChangeID, Kind: "watch", Who: who,
			Text: fmt.Sprintf("“%s” is not rolled back automatically: %s.", t.change.Title, t.w.BackRefused)}), t.tell(ctx))
	})
}

// Settle says that a change stands although its watch saw something or could not look.
func (d *Desk) Settle(ctx context.Context, changeID int64, who, why string) error {
	of, err := d.Store.WatchesOf(ctx, changeID)
	if err != nil {
		return err
	}
	if len(of) == 0 {
		return &Conflict{"Its promotion is not watched."}
	}
	return d.taken(ctx, of[0].ID, func(t *turn) error {
		c := t.change
		if err := t.changes().Move(ctx, changeID, release.DeclareSettled, fmt.Sprintf("Settled by %s: %s", who, why)); err != nil {
			return err
		}
		t.w.State, t.w.Why = watch.Settled, fmt.Sprintf("%s settled it: %s", who, why)
		return errors.Join(t.s.SaveWatch(ctx, t.w), t.s.Record(ctx, store.Event{SiteID: t.w.SiteID, EnvironmentID: &t.w.EnvironmentID, ChangeID: &c.ID, Kind: "watch", Who: who,
			Text: fmt.Sprintf("“%s” is settled by a person, although: %s %s", c.Title, of[0].Why, why)}), t.tell(ctx))
	})
}

// Stop ends a watch before its time: the change is then settled by a person, or not.
func (d *Desk) Stop(ctx context.Context, id int64, who, why string) error {
	return d.taken(ctx, id, func(t *turn) error {
		if t.w.State != watch.Watching {
			return &Conflict{"The watch is over."}
		}
		for _, l := range t.looks {
			if l.State == watch.Planned {
				l.State, l.Why = watch.Skipped, who+" ended the watch."
				if err := t.s.SaveWatchLook(ctx, l); err != nil {
					return err
				}
			}
		}
		t.w.EndsAt = t.now()
		return errors.Join(t.s.SaveWatch(ctx, t.w), t.s.Record(ctx, store.Event{SiteID: t.w.SiteID, EnvironmentID: &t.w.EnvironmentID, ChangeID: &t.w.ChangeID, Kind: "watch", Who: who,
			Text: fmt.Sprintf("Ended the watch of “%s” before its time. %s", t.change.Title, why)}), t.tell(ctx))
	})
}

// taken does something with a watch that is not over, which no other process has meanwhile.
func (d *Desk) taken(ctx context.Context, id int64, do func(*turn) error) error {
	return d.Store.Within(ctx, func(s *store.Store) error {
		w, err := s.LockWatch(ctx, id)
		if err != nil {
			return err
		}
		if w.State.Over() {
			return &Conflict{"The watch is over. " + w.Why}
		}
		t := &turn{Desk: d, s: s, w: w}
		if t.looks, err = s.WatchLooks(ctx, id); err != nil {
			return err
		}
		if t.change, err = s.Change(ctx, w.ChangeID); err != nil {
			return err
		}
		return do(t)
	})
}
