// Package rollouts takes a change that settled on one site to others.
//
// A rollout and its sites are rows; package core/rollout says what follows from what their changes have come to. [Desk.GoOn] is called
// every few seconds in each process. Each thing that it does (a change begun, tried, measured, promoted) is one transaction that holds
// the rollout's row and reads anew what it is about, so that of several processes one does it, once.
package rollouts

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/notice"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/rollout"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/words"
	"tidemarker/internal/run"
	"tidemarker/internal/store"
)

// ourselves is who did what nobody did.
const ourselves = "Tide Marker"

// Desk is where changes are taken to other sites.
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

// within is the desk in a transaction.
func (d *Desk) within(s *store.Store) *Desk {
	in, theirs := *d, *d.Changes
	theirs.Store, in.Store, in.Changes = s, s, &theirs
	return &in
}

// Offer is what a change would be on another site.
type Offer struct {
	store.Candidate
	Fit settings.Fit
	Why string // it cannot be copied there; "" when it can
}

// source is a change on its way to others.
type source struct {
	change     store.Change
	production int64 // the environment on which it settled
	doc        settings.Copied
	base       settings.Values
}

// read reads a change as it is carried to others: its own edits, and what it excludes.
func (d *Desk) read(ctx context.Context, changeID int64) (src source, err error) {
	if src.change, err = d.Store.Change(ctx, changeID); err != nil {
		return src, err
	}
	envs, err := d.Store.EnvironmentsByRole(ctx, src.change.SiteID)
	if err != nil {
		return src, err
	}
	src.production = envs.Production.ID
	if src.base, err = d.Store.Revision(ctx, src.change.SiteID, src.change.Base); err != nil {
		return src, err
	}
	edits := src.change.Edits.V
	if src.doc, err = d.Changes.CopiedOf(ctx, envs.Production, src.base.With(edits)); err != nil {
		return src, err
	}
	cat := *envs.Production.Catalogue.V
	added := map[settings.CopiedExclusion]bool{} // role and pattern
	for key := range edits {
		def, _ := cat.Find(key)
		for _, p := range edits.Strings(key) {
			if !slices.Contains(src.base.Strings(key), p) {
				added[settings.CopiedExclusion{Role: def.Role, Pattern: p}] = true
			}
		}
	}
	src.doc.Exclusions = slices.DeleteFunc(src.doc.Exclusions, func(e settings.CopiedExclusion) bool {
		return !added[settings.CopiedExclusion{Role: e.Role, Pattern: e.Pattern}]
	})
	return src, nil
}

// offer is what a change would be on a site, by what is known of it.
func offer(src source, c store.Candidate, cat *settings.Catalogue) Offer {
	o := Offer{Candidate: c}
	switch {
	case c.OnlyOne:
		o.Why = "It has only one environment, and nothing to try it on."
	case cat == nil || c.About.V == nil || c.Fingerprint == "":
		o.Why = c.Production + " has not been read yet."
	}
	if o.Why != "" {
		return o
	}
	o.Fit = cat.FitEdits(src.doc, src.base, src.change.Edits.V, c.Values.V, c.About.V.Facts.Host())
	if len(o.Fit.Mapped) == 0 && len(o.Fit.Without) == 0 {
		o.Why = "It has all of this already."
	} else if len(o.Fit.Mapped) == 0 {
		o.Why = "Nothing of it fits: " + o.Fit.Without[0].Why
	}
	return o
}

// Offers are all other sites, with what a change would be there.
func (d *Desk) Offers(ctx context.Context, changeID int64) ([]Offer, error) {
	src, err := d.read(ctx, changeID)
	if err != nil {
		return nil, err
	}
	return d.offers(ctx, src, 0)
}

// offers are those of one site, or of all (0).
func (d *Desk) offers(ctx context.Context, src source, siteID int64) ([]Offer, error) {
	rows, err := d.Store.Candidates(ctx, src.change.ID, siteID)
	if err != nil {
		return nil, err
	}
	out, read := []Offer{}, map[string]*settings.Catalogue{} // many sites have the same
	for _, c := range rows {
		cat, known := read[c.RawCatalog]
		if !known {
			if cat, err = c.Catalogue(); err != nil {
				return nil, fmt.Errorf("the catalogue of %s: %w", c.Name, err)
			}
			read[c.RawCatalog] = cat
		}
		out = append(out, offer(src, c, cat))
	}
	return out, nil
}

// offerTo is that of one other site.
func (d *Desk) offerTo(ctx context.Context, src source, siteID int64) (Offer, error) {
	all, err := d.offers(ctx, src, siteID)
	if err == nil && len(all) == 0 {
		err = fmt.Errorf("site %d: %w", siteID, store.ErrNotFound)
	}
	if err != nil {
		return Offer{}, err
	}
	return all[0], nil
}

// Destination is a site to which a change is taken.
type Destination struct {
	Site      int64    `json:"site" minimum:"1"`
	Wave      int      `json:"wave" minimum:"1" maximum:"20" doc:"The first is 1."`
	Confirmed []string `json:"confirmed,omitempty" doc:"Keys of that site whose values are right there, though they name addresses, cookies or scripts of the other site. Without that they are not copied."`
}

// Terms is how a change is taken to others.
type Terms struct {
	Title    string        `json:"title" minLength:"1" maxLength:"200" doc:"Of the changes that are started."`
	Reason   string        `json:"reason,omitempty" maxLength:"4000"`
	Pace     rollout.Pace  `json:"pace" enum:"check,watch" doc:"check: a wave is followed by the next when each site's check on production is clear; watch: when its watch is over, too."`
	Measures bool          `json:"measures,omitempty" doc:"Each staging is measured, with the change and without it in turns."`
	Sites    []Destination `json:"sites" minItems:"1" maxItems:"1000"`
}

// Begin begins a rollout of a change that settled.
func (d *Desk) Begin(ctx context.Context, changeID int64, w Terms, who string) (id int64, err error) {
	src, err := d.read(ctx, changeID)
	if err != nil {
		return 0, err
	}
	if src.change.State != release.Settled {
		return 0, &changes.Conflict{Why: fmt.Sprintf("The change is %s. What has settled on one site goes on to others.", src.change.State)}
	}
	var sites []store.RolloutSite
	for _, c := range w.Sites {
		if c.Site == src.change.SiteID || slices.ContainsFunc(sites, func(m store.RolloutSite) bool { return m.SiteID == c.Site }) {
			return 0, &changes.NotRight{Err: fmt.Errorf("site %d is named twice, or has the change itself", c.Site)}
		}
		o, err := d.offerTo(ctx, src, c.Site)
		if err != nil {
			return 0, err
		}
		if o.Why != "" {
			return 0, &changes.Conflict{Why: o.Name + ": " + o.Why}
		}
		if len(taken(o.Fit, c.Confirmed)) == 0 {
			return 0, &changes.Conflict{Why: o.Name + ": all that fits names something of the other site. Say what of it is right there."}
		}
		if c.Confirmed == nil {
			c.Confirmed = []string{}
		}
		sites = append(sites, store.RolloutSite{SiteID: c.Site, Wave: c.Wave, Confirmed: store.JSON[[]string]{V: c.Confirmed}})
	}
	row := store.Rollout{SiteID: src.change.SiteID, ChangeID: changeID, State: rollout.Open, Pace: w.Pace, Measures: w.Measures, Title: strings.TrimSpace(w.Title), Reason: w.Reason, MadeBy: who, MadeAt: d.now()}
	err = d.Store.Within(ctx, func(s *store.Store) error {
		if err := s.LockRunsOf(ctx, src.production); err != nil { // of two that begin one at once the second sees the first
			return err
		}
		now, err := s.Candidates(ctx, changeID, 0)
		if err != nil {
			return err
		}
		for _, c := range now {
			if c.In != 0 && slices.ContainsFunc(sites, func(m store.RolloutSite) bool { return m.SiteID == c.SiteID }) {
				return &changes.Conflict{Why: fmt.Sprintf("Rollout %d takes it to %s already.", c.In, c.Name)}
			}
		}
		if id, err = s.NewRollout(ctx, row, sites); err != nil {
			return err
		}
		row.ID = id
		return note(ctx, s, row, who, "", fmt.Sprintf("Began to take “%s” to %s.", src.change.Title, words.Count(len(sites), "other site")))
	})
	return id, err
}

// taken is what of a fit is copied: all but what nobody said is right there.
func taken(f settings.Fit, confirmed []string) (out []settings.Mapped) {
	for _, m := range f.Mapped {
		if !m.Confirm || slices.Contains(confirmed, m.Key) {
			out = append(out, m)
		}
	}
	return out
}

// note adds a line to the history of the site from which a rollout goes out.
func note(ctx context.Context, s *store.Store, r store.Rollout, who string, topic notice.Topic, text string) error {
	return errors.Join(s.Record(ctx, store.Event{SiteID: r.SiteID, ChangeID: &r.ChangeID, Kind: "rollout", Who: who, Topic: topic, Text: text}), s.Tell(ctx, store.Signal{Site: r.SiteID, Change: r.ChangeID}))
}

// Go lets the waves go, for the first time or again after it stopped. Sites are promoted in the name of whoever says so, by the
// rules that hold for them.
func (d *Desk) Go(ctx context.Context, id int64, by changes.By) error {
	return d.move(ctx, id, func(in *Desk, r *store.Rollout) (string, error) {
		p, _, err := in.plan(ctx, *r)
		if err != nil {
			return "", err
		}
		if why := rollout.MayGo(p); why != "" {
			return "", &changes.Conflict{Why: why}
		}
		now := d.now()
		r.State, r.Why, r.GoneBy, r.GoneDecides, r.GoneAt = rollout.Going, "", by.Who, by.Decides, &now
		return fmt.Sprintf("Let rollout %d go, from wave %d on.", r.ID, p.Wave()), nil
	}, by.Who)
}

// Stop lets nothing more be promoted until somebody lets it go again.
func (d *Desk) Stop(ctx context.Context, id int64, who string) error {
	return d.move(ctx, id, func(_ *Desk, r *store.Rollout) (string, error) {
		if r.State != rollout.Going {
			return "", &changes.Conflict{Why: "Nothing of it is being promoted."}
		}
		r.State, r.Why = rollout.Stopped, "Stopped by "+who+"."
		return fmt.Sprintf("Stopped rollout %d.", r.ID), nil
	}, who)
}

// End ends a rollout. Changes that it began stay as they are, each on its own.
func (d *Desk) End(ctx context.Context, id int64, who string) error {
	return d.move(ctx, id, func(_ *Desk, r *store.Rollout) (string, error) {
		if r.State.Over() {
			return "", &changes.Conflict{Why: "It is over already."}
		}
		r.State, r.Why = rollout.Ended, "Ended by "+who+"."
		return fmt.Sprintf("Ended rollout %d. Changes that it began stay as they are.", r.ID), nil
	}, who)
}

// Skip lets the waves go on without a site, whose change stays as it is.
func (d *Desk) Skip(ctx context.Context, id, siteID int64, why, who string) error {
	return d.move(ctx, id, func(in *Desk, r *store.Rollout) (string, error) {
		all, err := in.Store.RolloutSites(ctx, id)
		if err != nil {
			return "", err
		}
		i := slices.IndexFunc(all, func(m store.RolloutSite) bool { return m.SiteID == siteID && m.Skipped == "" })
		if i < 0 || r.State.Over() {
			return "", &changes.Conflict{Why: "That site is no longer in it."}
		}
		row, err := in.Store.Site(ctx, siteID)
		if err != nil {
			return "", err
		}
		all[i].Skipped, all[i].Said = strings.TrimSpace(why), ""
		if all[i].Skipped == "" {
			return "", &changes.NotRight{Err: errors.New("say why, in a sentence")}
		}
		return fmt.Sprintf("Skipped %s in rollout %d: %s", row.Name, id, all[i].Skipped), in.Store.SaveRolloutSite(ctx, all[i])
	}, who)
}

func (d *Desk) move(ctx context.Context, id int64, do func(in *Desk, r *store.Rollout) (said string, err error), who string) error {
	return d.Store.Within(ctx, func(s *store.Store) error {
		r, err := s.LockRollout(ctx, id)
		if err != nil {
			return err
		}
		said, err := do(d.within(s), &r)
		if err != nil {
			return err
		}
		return errors.Join(s.SaveRollout(ctx, r), note(ctx, s, r, who, "", said))
	})
}
