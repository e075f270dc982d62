package changes

import (
	"context"
	"errors"
	"slices"
	"strings"

	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/store"
)

// By is who wants something that not everybody may.
type By struct {
	Who     string // as the record calls them
	Decides bool   // they may decide about production
}

// Promote puts on production exactly what was checked. Whoever decides about production may do
// it despite the calendar, for a reason.
func (d *Desk) Promote(ctx context.Context, id int64, by By, despite string) error {
	return d.reachProduction(ctx, id, release.Promote, by, despite)
}

// Tidy carries out on production, by itself, what deletes data and was checked.
func (d *Desk) Tidy(ctx context.Context, id int64, by By, despite string) error {
	return d.reachProduction(ctx, id, release.Tidy, by, despite)
}

var saidOf = map[release.Event]string{release.Promote: "Being promoted.", release.Tidy: "The tidy is being carried out on production."}

func (d *Desk) reachProduction(ctx context.Context, id int64, event release.Event, by By, despite string) error {
	despite = strings.TrimSpace(despite)
	if despite != "" && !by.Decides {
		return &Conflict{"Only who decides about production may promote despite the calendar."}
	}
	c, err := d.Store.Change(ctx, id)
	if err != nil {
		return err
	}
	envs, err := d.Store.EnvironmentsByRole(ctx, c.SiteID)
	if err != nil {
		return err
	}
	if envs.OnlyOne {
		return &Conflict{"The site has only one environment; there is nowhere to promote to."}
	}
	if _, err := d.ReadNow(ctx, c.SiteID); err != nil { // what is in force may have been changed since it was last read
		return err
	}
	return d.hold(ctx, id, func(x *held) error {
		if x.situation.Calendar == "" {
			despite = ""
		}
		if despite != "" {
			x.situation.Calendar = ""
		}
		wish, approval, err := x.Wish(ctx, x.c, by)
		if err != nil {
			return err
		}
		if _, err := release.Apply(x.situation, event); err != nil {
			return err
		}
		if why := wish.MayPromote(x.situation); why != "" {
			return &release.NotAllowed{Event: event, State: x.situation.State, Why: why}
		}
		if err := x.spend(ctx, x.situation, x.c, approval, by); err != nil {
			return err
		}
		if despite != "" {
			if err := x.Store.Record(ctx, store.Event{SiteID: x.c.SiteID, ChangeID: &x.c.ID, EnvironmentID: &x.envs.Production.ID, Kind: "despite", Who: by.Who,
				Text: "Promoted “" + x.c.Title + "” despite the calendar: " + despite}); err != nil {
				return err
			}
		}
		return x.move(ctx, event, saidOf[event],
			store.Run{EnvironmentID: x.envs.Production.ID, Kind: release.PromoteRun, Target: x.situation.Fingerprint, RequestedBy: by.Who, Despite: despite})
	})
}

// Wish is who wants a change on production, under which rule, with the newest approval; nil when there is none.
func (d *Desk) Wish(ctx context.Context, c store.Change, by By) (release.Wish, *store.Approval, error) {
	row, err := d.Store.Site(ctx, c.SiteID)
	if err != nil {
		return release.Wish{}, nil, err
	}
	w := release.Wish{Who: people.Called(by.Who), Decides: by.Decides, Makers: Makers(c), ByAnother: row.Document.V.Promotes().ByAnother}
	a, err := d.Store.ApprovalOf(ctx, c.ID)
	if errors.Is(err, store.ErrNotFound) {
		return w, nil, nil
	}
	if err != nil {
		return w, nil, err
	}
	w.Approval = &release.Approval{State: a.State, Fingerprint: a.Fingerprint, Production: a.Production, DecidedBy: people.Called(a.DecidedBy)}
	return w, &a, nil
}

// Makers are the people who made a change: who began it, and whoever edited it.
func Makers(c store.Change) []string {
	out := []string{}
	for _, who := range append([]string{c.CreatedBy, c.EditedBy}, c.Makers.V...) {
		if name := people.Called(who); who != "" && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// withMaker are those who edited a change since it was begun, and who does now.
func withMaker(c store.Change, who string) []string {
	if who == "" || slices.Contains(c.Makers.V, who) {
		return c.Makers.V
	}
	return append(slices.Clone(c.Makers.V), who)
}

// spend records that the promotion begins which an approval was for. Who decides and promotes approves by that.
func (d *Desk) spend(ctx context.Context, situation release.Situation, c store.Change, a *store.Approval, by By) error {
	if a == nil || !a.State.Open() {
		return nil
	}
	from, now := a.State, *a
	events := []release.ApprovalEvent{release.Spend}
	switch moved := (release.Approval{State: a.State, Fingerprint: a.Fingerprint, Production: a.Production}).Moved(situation); {
	case moved != "":
		events, now.Reason = []release.ApprovalEvent{release.Withdraw}, "It was promoted as it is now by "+by.Who+"."
	case a.State != release.Approved:
		events, now.DecidedBy = []release.ApprovalEvent{release.Approve, release.Spend}, by.Who
	}
	for _, e := range events {
		to, err := release.ApplyApproval(now.State, e)
		if err != nil {
			return err
		}
		now.State = to
	}
	ok, err := d.Store.MoveApproval(ctx, now, from)
	if err == nil && !ok {
		err = errMovedOn
	}
	return err
}
