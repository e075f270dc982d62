package changes

import (
	"context"
	"fmt"
	"strings"

	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// Back is where rolling a change back goes on one environment.
type Back struct {
	Environment store.Environment
	Way         release.Way
	Mark        store.Mark // to compare with
	Exact       bool       // the mark is of exactly the settings that it goes back to
}

// Plan is what rolling a change back comes to.
type Plan struct {
	Backs     []Back         // production first, since that is where visitors are
	OnTop     []store.Change // other changes that would go with it on production, the latest last
	Other     bool           // and something that belongs to no change
	Edits     settings.Values
	Conflicts []settings.Conflict // what a person decides when just this change's edits are taken out
}

// PlanRollBack says where rolling a change back goes: on each environment that has it, to
// what was in force before it came; and what would go with it.
func (d *Desk) PlanRollBack(ctx context.Context, id int64) (Plan, error) {
	c, err := d.Store.Change(ctx, id)
	if err != nil {
		return Plan{}, err
	}
	envs, err := d.Store.EnvironmentsByRole(ctx, c.SiteID)
	if err != nil {
		return Plan{}, err
	}
	var p Plan
	for _, e := range []store.Environment{envs.Production, envs.Staging} {
		placed, err := d.Store.Placed(ctx, e.ID)
		if err != nil {
			return p, err
		}
		way, has := release.Back(release.Record(placed), c.ID)
		if has {
			b, err := d.back(ctx, e, way)
			if err != nil {
				return p, err
			}
			p.Backs = append(p.Backs, b)
		}
		if e.ID == envs.Production.ID {
			if err := d.onTop(ctx, &p, way); err != nil {
				return p, err
			}
		}
		if envs.OnlyOne {
			break
		}
	}
	if len(p.OnTop) > 0 {
		p.Edits, p.Conflicts, err = d.inverse(ctx, c, envs.Production, p.Backs[0].Way.To)
	}
	return p, err
}

func (d *Desk) back(ctx context.Context, e store.Environment, way release.Way) (Back, error) {
	b := Back{Environment: e, Way: way}
	marks, err := d.Store.Marks(ctx, e.ID, 500)
	if err != nil {
		return b, err
	}
	of := make([]release.MarkOf, len(marks))
	for i, m := range marks {
		of[i] = release.MarkOf{ID: m.ID, Fingerprint: m.Fingerprint}
	}
	chosen, exact, ok := release.ChooseMark(of, way.To)
	if !ok {
		return b, &Conflict{e.Name + " has no mark to prove a rollback with. Take one first."}
	}
	for _, m := range marks {
		if m.ID == chosen.ID {
			b.Mark = m
		}
	}
	b.Exact = exact
	return b, nil
}

func (d *Desk) onTop(ctx context.Context, p *Plan, way release.Way) error {
	p.Other = way.Other
	for _, id := range way.OnTop {
		c, err := d.Store.Change(ctx, id)
		if err != nil {
			return err
		}
		p.OnTop = append(p.OnTop, c)
	}
	return nil
}

// RollBack restores every environment that has a change. all says that the changes that
// were promoted on top of it go, too.
func (d *Desk) RollBack(ctx context.Context, id int64, all bool, who string) error {
	event := release.RollBack
	if all {
		event = release.RollBackAll
	}
	return d.hold(ctx, id, func(x *held) error {
		if _, err := release.Apply(x.situation, event); err != nil {
			return err
		}
		p, err := x.PlanRollBack(ctx, id)
		if err != nil {
			return err
		}
		if len(p.Backs) == 0 { // it is restored already, and checked once more
			b, err := x.back(ctx, x.envs.Staging, release.Way{To: x.envs.Staging.Fingerprint})
			if err != nil {
				return err
			}
			p.Backs = append(p.Backs, b)
		}
		var runs []store.Run
		for _, b := range p.Backs {
			runs = append(runs, store.Run{EnvironmentID: b.Environment.ID, Kind: release.RollBackRun, Target: b.Way.To, MarkID: &b.Mark.ID, RequestedBy: who})
		}
		return x.move(ctx, event, "Being rolled back.", runs...)
	})
}

// inverse is what takes just this change out of what production has.
func (d *Desk) inverse(ctx context.Context, c store.Change, production store.Environment, before string) (settings.Values, []settings.Conflict, error) {
	was, err := d.Store.Revision(ctx, c.SiteID, before)
	if err != nil {
		return nil, nil, err
	}
	placed, err := d.Store.Placed(ctx, production.ID)
	if err != nil {
		return nil, nil, err
	}
	after := before
	for _, s := range release.Record(placed) {
		if s.Change == c.ID {
			after = s.After
		}
	}
	then, err := d.Store.Revision(ctx, c.SiteID, after)
	if err != nil {
		return nil, nil, err
	}
	now, err := d.Store.Revision(ctx, c.SiteID, production.Fingerprint)
	if err != nil {
		return nil, nil, err
	}
	edits, conflicts := settings.Inverse(was, then, now)
	return edits, conflicts, nil
}

// Undecided says which settings a person has to decide about before a change is taken
// out.
type Undecided struct{ Conflicts []settings.Conflict }

func (e *Undecided) Error() string {
	keys := make([]string, len(e.Conflicts))
	for i, c := range e.Conflicts {
		keys[i] = c.Key
	}
	return "Nothing was started. A later change set the same, so decide each: " + strings.Join(keys, ", ")
}

// TakeOut begins a change that takes just this change's edits out of what production has
// and leaves those that came on top. restore says of each setting that was set again
// since whether it goes back to what it was before the change; *[Undecided] names those
// of which nothing is said.
func (d *Desk) TakeOut(ctx context.Context, id int64, restore map[string]bool, who string) (newID int64, err error) {
	err = d.hold(ctx, id, func(x *held) error {
		if _, err := release.Apply(x.situation, release.TakeOut); err != nil {
			return err
		}
		p, err := x.PlanRollBack(ctx, id)
		if err != nil {
			return err
		}
		edits, err := p.without(restore)
		if err != nil {
			return err
		}
		var names []string
		for _, o := range p.OnTop {
			names = append(names, "“"+o.Title+"”")
		}
		inverse := store.Change{SiteID: x.c.SiteID, Title: "Without “" + x.c.Title + "”", Reason: fmt.Sprintf("Takes out the edits of “%s” and leaves those of %s.", x.c.Title, strings.Join(names, ", ")),
			Base: x.envs.Production.Fingerprint, Edits: store.JSON[settings.Values]{V: edits}, CreatedBy: who, TakesOut: &x.c.ID}
		if newID, err = x.Store.NewChange(ctx, inverse); err != nil {
			return err
		}
		inverse.ID = newID
		return note(ctx, x.Store, inverse, who, "Began the change “%s”.", inverse.Title)
	})
	return newID, err
}

// without are the edits that take just the change out, as decided.
func (p Plan) without(restore map[string]bool) (settings.Values, error) {
	edits, open := p.Edits, []settings.Conflict{}
	for _, x := range p.Conflicts {
		back, said := restore[x.Key]
		switch {
		case !said:
			open = append(open, x)
		case back:
			edits = edits.With(settings.Values{x.Key: x.Before})
		}
	}
	if len(open) > 0 {
		return nil, &Undecided{open}
	}
	if len(edits) == 0 {
		return nil, &Conflict{"Nothing of it is in force now: what came on top set all of it again."}
	}
	return edits, nil
}
