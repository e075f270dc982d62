package rollouts

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tidemarker/internal/act"
	"tidemarker/internal/changes"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/notice"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/rollout"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/words"
	"tidemarker/internal/speedlayer"
	"tidemarker/internal/store"
)

const (
	// pause is for how long a site that cannot go on waits before it is looked at again.
	pause = 15 * time.Second
	// patience is for how long one site may take to answer: others wait meanwhile.
	patience = 20 * time.Second
)

// Site is a site of a rollout with what its change has come to.
type Site struct {
	store.RolloutProgress
	Stage rollout.Stage
}

// Look is what a rollout has come to.
func (d *Desk) Look(ctx context.Context, id int64) (r store.Rollout, p rollout.Plan, sites []Site, err error) {
	if r, err = d.Store.Rollout(ctx, id); err != nil {
		return r, p, nil, err
	}
	p, sites, err = d.plan(ctx, r)
	return r, p, sites, err
}

// plan reads what a rollout has come to.
func (d *Desk) plan(ctx context.Context, r store.Rollout) (rollout.Plan, []Site, error) {
	p := rollout.Plan{State: r.State, Pace: r.Pace}
	rows, err := d.Store.RolloutProgresses(ctx, r.ID)
	if err != nil {
		return p, nil, err
	}
	var sites []Site
	for _, row := range rows {
		m := Site{row, stageOf(r, row)}
		sites = append(sites, m)
		p.Members = append(p.Members, rollout.Member{Site: row.SiteID, Wave: row.Wave, Stage: m.Stage})
	}
	return p, sites, nil
}

func stageOf(r store.Rollout, m store.RolloutProgress) rollout.Stage {
	seen := rollout.Seen{Begun: m.ChangeID != nil, Skipped: m.Skipped != "", Nothing: m.Nothing, State: m.Change.State, WatchSaw: m.WatchWaits}
	if m.Tried != nil {
		seen.Verdict = m.Tried.Verdict
	}
	if last := m.Promoted; last != nil {
		seen.Failed = last.State == release.Failed && (r.GoneAt == nil || last.CreatedAt.After(*r.GoneAt))
	}
	return rollout.StageOf(seen)
}

// GoOn does what follows. A rollout that cannot go on keeps no other from it.
func (d *Desk) GoOn(ctx context.Context) error {
	open, err := d.Store.OpenRollouts(ctx)
	for _, id := range open {
		if e := d.goOn(ctx, id); e != nil {
			err = errors.Join(err, fmt.Errorf("rollout %d: %w", id, e))
		}
	}
	return err
}

func (d *Desk) goOn(ctx context.Context, id int64) error {
	r, err := d.Store.Rollout(ctx, id)
	if err != nil {
		return err
	}
	p, sites, err := d.plan(ctx, r)
	if err != nil {
		return err
	}
	step := rollout.Next(p)
	if step.Done || len(step.Stop) > 0 {
		return d.conclude(ctx, id)
	}
	due := func(m Site) bool { return !m.TryAt.After(d.now()) }
	for _, m := range sites {
		var do func(context.Context, *Desk, store.Rollout, *Site) error
		still := func(rollout.Step) []int64 { return []int64{m.SiteID} } // a measurement hurts nobody
		switch {
		case !due(m):
			continue
		case slices.Contains(step.Try, m.SiteID):
			do, still = try, func(s rollout.Step) []int64 { return s.Try }
		case r.Measures && m.Stage == rollout.Tried && m.MeasureRunID == nil:
			do = measured
		case slices.Contains(step.Promote, m.SiteID):
			do, still = promote, func(s rollout.Step) []int64 { return s.Promote }
		default:
			continue
		}
		if e := d.one(ctx, id, m.SiteID, m.Stage, still, do); e != nil {
			err = errors.Join(err, e)
		}
	}
	return err
}

// taken does something with a rollout that is not over, in a transaction in which nobody else has it; nothing where somebody has.
func (d *Desk) taken(ctx context.Context, id int64, do func(in *Desk, r store.Rollout, p rollout.Plan, sites []Site) error) error {
	return d.Store.Within(ctx, func(s *store.Store) error {
		r, err := s.TakeRollout(ctx, id)
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		in := d.within(s)
		p, sites, err := in.plan(ctx, r)
		if err != nil {
			return err
		}
		return do(in, r, p, sites)
	})
}

// one does the next thing on one site, when the site is still at that stage.
func (d *Desk) one(ctx context.Context, id, siteID int64, stage rollout.Stage, still func(rollout.Step) []int64, do func(context.Context, *Desk, store.Rollout, *Site) error) error {
	within, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	_, err := d.Changes.ReadNow(within, siteID) // before the transaction, in which no site is asked
	if err != nil {
		return d.wait(ctx, id, siteID, stage, err)
	}
	err = d.taken(within, id, func(in *Desk, r store.Rollout, p rollout.Plan, sites []Site) error {
		i := slices.IndexFunc(sites, func(m Site) bool { return m.SiteID == siteID })
		// Somebody may have stopped it, or another site turned out broken, since it was looked at.
		if i < 0 || sites[i].Stage != stage || !slices.Contains(still(rollout.Next(p)), siteID) || sites[i].TryAt.After(d.now()) {
			return nil
		}
		m := &sites[i]
		m.Said = ""
		if err := do(within, in, r, m); err != nil {
			return err
		}
		return errors.Join(in.Store.SaveRolloutSite(within, m.RolloutSite), in.Store.Tell(within, store.Signal{Site: r.SiteID, Change: r.ChangeID}))
	})
	if err == nil || ctx.Err() != nil {
		return ctx.Err()
	}
	return d.wait(ctx, id, siteID, stage, err)
}

// wait says what a site waits for, and lets it rest. What is nobody's doing but ours is an error, too.
func (d *Desk) wait(ctx context.Context, id, siteID int64, stage rollout.Stage, why error) error {
	said, known := changes.Waits(why)
	if !known {
		_, busy := errors.AsType[*act.Busy](why)
		_, away := errors.AsType[*speedlayer.Unreachable](why)
		_, refused := errors.AsType[*changes.NotRight](why)
		known, said = busy || away || refused || errors.Is(why, context.DeadlineExceeded), why.Error()
	}
	err := d.taken(ctx, id, func(in *Desk, r store.Rollout, _ rollout.Plan, sites []Site) error {
		i := slices.IndexFunc(sites, func(m Site) bool { return m.SiteID == siteID })
		if i < 0 || sites[i].Stage != stage {
			return nil
		}
		changed := sites[i].Said != said
		sites[i].Said, sites[i].TryAt = said, d.now().Add(pause)
		if err := in.Store.SaveRolloutSite(ctx, sites[i].RolloutSite); err != nil || !changed {
			return err
		}
		return in.Store.Tell(ctx, store.Signal{Site: r.SiteID, Change: r.ChangeID})
	})
	if known {
		return err
	}
	return errors.Join(why, err)
}

// try begins the change of a site where there is none yet, and tries it on staging.
func try(ctx context.Context, d *Desk, r store.Rollout, m *Site) error {
	if m.ChangeID == nil {
		src, err := d.read(ctx, r.ChangeID)
		if err != nil {
			return err
		}
		o, err := d.offerTo(ctx, src, m.SiteID)
		if err != nil {
			return err
		}
		m.Without.V = append([]settings.Unmet{}, o.Fit.Without...)
		for _, x := range o.Fit.Mapped {
			if x.Confirm && !slices.Contains(m.Confirmed.V, x.Key) {
				m.Without.V = append(m.Without.V, settings.Unmet{Role: x.From.Role, Why: fmt.Sprintf("%s (%s): nobody said that its values are right there.", x.From.Title, x.From.Key)})
			}
		}
		take := taken(o.Fit, m.Confirmed.V)
		if len(take) == 0 {
			m.Nothing = len(o.Fit.Mapped) == 0 && len(o.Fit.Without) == 0
			if m.Nothing {
				return nil
			}
			return &changes.Conflict{Why: "Nothing of it fits there now. " + o.Why}
		}
		words := changes.Words{Title: r.Title, Reason: strings.TrimSpace(fmt.Sprintf("Copied from “%s” of %s, where it settled. %s", src.change.Title, src.doc.Site, r.Reason)), Effect: src.change.Effect}
		id, err := d.Changes.BeginCopied(ctx, m.SiteID, words, src.doc, take, r.MadeBy)
		if err != nil {
			return err
		}
		m.ChangeID = &id
		return nil // it is tried with the next turn: that it is begun is kept, though it cannot be tried yet
	}
	return d.Changes.Try(ctx, *m.ChangeID, r.MadeBy)
}

// measured begins to measure what the change does to speed on staging.
func measured(ctx context.Context, d *Desk, r store.Rollout, m *Site) error {
	id, err := d.Changes.Measure(ctx, *m.ChangeID, measure.Scope{}, r.MadeBy)
	if err == nil {
		m.MeasureRunID = &id
	}
	return err
}

// promote promotes a site's change in the name of whoever let the waves go, as long as they may.
func promote(ctx context.Context, d *Desk, r store.Rollout, m *Site) error {
	if of := m.Measured; of != nil && !of.State.Over() {
		return &changes.Conflict{Why: fmt.Sprintf("Run %d (%s) is under way. It is promoted after that.", of.ID, of.Kind)}
	}
	name := people.Called(r.GoneBy)
	p, err := d.Store.PersonNamed(ctx, name)
	if errors.Is(err, store.ErrNotFound) || err == nil && (p.Disabled || !p.Role.May(people.Work)) {
		return &changes.Conflict{Why: name + ", who released it, may no longer promote. Somebody who may has to release it again."}
	}
	if err != nil {
		return err
	}
	return d.Changes.Promote(ctx, *m.ChangeID, changes.By{Who: r.GoneBy, Decides: r.GoneDecides && p.Role.May(people.Decide)}, "")
}

// conclude stops a rollout at what is not clear, or ends it when it is through, and tells people.
func (d *Desk) conclude(ctx context.Context, id int64) error {
	var queued []int64
	err := d.taken(ctx, id, func(in *Desk, r store.Rollout, p rollout.Plan, sites []Site) error {
		step := rollout.Next(p)
		switch {
		case step.Done:
			r.State, r.Why = rollout.Ended, through(sites)
			return errors.Join(in.Store.SaveRollout(ctx, r), note(ctx, in.Store, r, ourselves, notice.RolledOut, fmt.Sprintf("Rollout %d of “%s” is through. %s", r.ID, r.Title, r.Why)))
		case len(step.Stop) == 0:
			return nil
		}
		var why []string
		for _, m := range sites {
			if slices.Contains(step.Stop, m.SiteID) {
				why = append(why, fmt.Sprintf("%s: %s", m.Name, broke(m)))
			}
			if m.Stage == rollout.Promoting && m.Promoted != nil && m.Promoted.State.StopsAtOnce() {
				queued = append(queued, m.Promoted.ID)
			}
		}
		r.State, r.Why = rollout.Stopped, strings.Join(why, " ")
		return errors.Join(in.Store.SaveRollout(ctx, r), note(ctx, in.Store, r, ourselves, notice.RolledOut, fmt.Sprintf("Rollout %d of “%s” stopped. %s", r.ID, r.Title, r.Why)))
	})
	for _, run := range queued { // what has not begun does not begin
		err = errors.Join(err, d.Runner.Stop(ctx, run))
	}
	return err
}

// broke says what is not clear on a site.
func broke(m Site) string {
	switch {
	case m.Change.State == release.Marked:
		return "its watch saw something that a person has to judge."
	case m.Change.State == release.Checked && m.Promoted != nil:
		return "it could not be promoted. " + m.Promoted.Summary
	}
	return strings.TrimSpace(fmt.Sprintf("the change is %s. %s", m.Change.State, m.Change.Explanation))
}

// through says where a rollout has come to when it is over.
func through(sites []Site) string {
	n, left := 0, 0
	for _, m := range sites {
		switch m.Stage {
		case rollout.There, rollout.Settled:
			n++
		case rollout.Skipped, rollout.Discarded:
			left++
		}
	}
	said := fmt.Sprintf("%d of %s", n, words.Count(len(sites), "site"))
	if n == 1 {
		said += " has it"
	} else {
		said += " have it"
	}
	if left > 0 {
		said += fmt.Sprintf(", %d skipped", left)
	}
	return said + "."
}
