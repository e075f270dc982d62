package changes

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"tidemarker/internal/act"
	"tidemarker/internal/core/culprit"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// Words are what a person says about a change.
type Words struct {
	Title  string `json:"title" minLength:"1" maxLength:"200"`
	Reason string `json:"reason" maxLength:"4000"`
	Effect string `json:"effect" maxLength:"4000"`
}

// Begin begins a change from what is on production, read anew, with edits that may be
// none.
func (d *Desk) Begin(ctx context.Context, siteID int64, w Words, edits settings.Values, who string) (int64, error) {
	production, err := d.ReadNow(ctx, siteID)
	if err != nil {
		return 0, err
	}
	base, err := d.Store.Revision(ctx, siteID, production.Fingerprint)
	if err != nil {
		return 0, err
	}
	if err := refused(production, base.With(edits)); err != nil {
		return 0, err
	}
	c := store.Change{SiteID: siteID, Title: w.Title, Reason: w.Reason, Effect: w.Effect, Base: production.Fingerprint, CreatedBy: who,
		Edits: store.JSON[settings.Values]{V: settings.Edited(base, edits)}}
	err = d.Store.Within(ctx, func(s *store.Store) error {
		if c.ID, err = s.NewChange(ctx, c); err != nil {
			return err
		}
		return note(ctx, s, c, who, "Began the change “%s”.", w.Title)
	})
	return c.ID, err
}

// ReadNow reads a site's staging and production and returns production. Who acts on one of them has read it, and so has who began
// the transaction that the desk's store is: no site is asked within one.
func (d *Desk) ReadNow(ctx context.Context, siteID int64) (store.Environment, error) {
	envs, err := d.Store.EnvironmentsByRole(ctx, siteID)
	if err != nil {
		return store.Environment{}, err
	}
	if d.Store.Tx() != nil {
		return envs.Production, nil
	}
	for _, e := range []store.Environment{envs.Staging, envs.Production} {
		_, _, err := d.Acts.Read(ctx, e.ID)
		if _, busy := errors.AsType[*act.Busy](err); err != nil && (!busy || e.Fingerprint == "") {
			return envs.Production, err
		}
	}
	return d.Store.Environment(ctx, envs.Production.ID)
}

// refused is settings.Refusals when values do not fit an environment.
func refused(env store.Environment, v settings.Values) error {
	if env.Catalogue.V == nil {
		return nil
	}
	if no, ok := errors.AsType[settings.Refusals](env.Catalogue.V.Validate(v)); ok {
		return no
	}
	return nil
}

// Edit replaces a change's words and edits; *[Edited] when somebody else did since the
// version.
func (d *Desk) Edit(ctx context.Context, id int64, version int, w Words, edits settings.Values, who string) error {
	return d.hold(ctx, id, func(x *held) error { return x.edit(ctx, version, w, edits, who) })
}

// Describe replaces a change's title, reason and expected effect, in whatever state it is; what it does stays. *[Edited] when
// somebody else edited it since a version.
func (d *Desk) Describe(ctx context.Context, id int64, version int, w Words, who string) error {
	return d.hold(ctx, id, func(x *held) error {
		was, now := x.c.Title, x.c
		now.Title, now.Reason, now.Effect, now.EditedBy = w.Title, w.Reason, w.Effect, who
		if err := x.seen(version); err != nil {
			return err
		}
		if err := x.save(ctx, now); err != nil {
			return err
		}
		if was == w.Title {
			return nil
		}
		return x.note(ctx, who, "Renamed the change “%s” to “%s”.", was, w.Title)
	})
}

// seen is *[Edited] when somebody edited the change since a version. What moved it on meanwhile the rules see to.
func (x *held) seen(version int) error {
	if version < x.c.Edition || version > x.c.Version {
		return &Edited{x.c.EditedBy, x.c.Version}
	}
	return nil
}

func (x *held) edit(ctx context.Context, version int, w Words, edits settings.Values, who string) error {
	if err := x.seen(version); err != nil {
		return err
	}
	to, err := release.Apply(x.situation, release.Edit)
	if err != nil {
		return err
	}
	base, err := x.Store.Revision(ctx, x.c.SiteID, x.c.Base)
	if err != nil {
		return err
	}
	if err := refused(x.envs.Production, base.With(edits)); err != nil {
		return err
	}
	now := x.c
	now.Title, now.Reason, now.Effect, now.State, now.Edits.V, now.EditedBy = w.Title, w.Reason, w.Effect, to, settings.Edited(base, edits), who
	now.Makers.V = withMaker(x.c, who)
	return x.save(ctx, now)
}

// Rebase begins a change again from what production has now, with those of its edits that
// still differ.
func (d *Desk) Rebase(ctx context.Context, id int64, who string) error {
	return d.hold(ctx, id, func(x *held) error {
		to, err := release.Apply(x.situation, release.Rebase)
		if err != nil {
			return err
		}
		base, err := x.Store.Revision(ctx, x.c.SiteID, x.situation.Production)
		if err != nil {
			return err
		}
		now := x.c
		now.Base, now.State, now.Edits.V = x.situation.Production, to, settings.Edited(base, x.c.Edits.V)
		if err := x.save(ctx, now); err != nil {
			return err
		}
		return x.note(ctx, who, "Began the change “%s” again from what production has now.", x.c.Title)
	})
}

// Split keeps the first step of a change and makes a change of each of the others, every
// one after the one before it.
func (d *Desk) Split(ctx context.Context, id int64, who string) error {
	return d.hold(ctx, id, func(x *held) error {
		if _, err := release.Apply(x.situation, release.Edit); err != nil {
			return err
		}
		c, cat := x.c, x.envs.Production.Catalogue.V
		if cat == nil || !cat.Piled(c.Edits.V) {
			return &Conflict{"There is nothing to split: at most one thing that is risky is changed."}
		}
		steps := cat.Split(c.Edits.V)
		before := c.ID
		for i, step := range steps {
			part := store.Change{SiteID: c.SiteID, Title: fmt.Sprintf("%s (%d of %d)", c.Title, i+1, len(steps)), Effect: c.Effect, Base: c.Base, Edits: store.JSON[settings.Values]{V: step.Edits}, CreatedBy: who}
			part.Reason = strings.TrimSpace(fmt.Sprintf("Part of “%s”: %s. %s", c.Title, step.Title, c.Reason))
			if i == 0 {
				first := c
				first.Title, first.Edits, first.EditedBy, first.Makers.V = part.Title, part.Edits, who, withMaker(c, who)
				if err := x.save(ctx, first); err != nil {
					return err
				}
				continue
			}
			part.Follows = &before
			next, err := x.Store.NewChange(ctx, part)
			if err != nil {
				return err
			}
			before = next
		}
		return note(ctx, x.Store, c, who, "Split the change “%s” into %d.", c.Title, len(steps))
	})
}

// RemoveCulprit takes out of a change what a search found to break the site: the parts of one culprit, and
// what cannot be in force without them.
func (d *Desk) RemoveCulprit(ctx context.Context, searchRun int64, which int, who string) (changeID int64, err error) {
	r, err := d.Store.Run(ctx, searchRun)
	if err != nil {
		return 0, err
	}
	x, err := d.Store.Search(ctx, searchRun)
	if err != nil {
		return 0, err
	}
	if r.ChangeID == nil {
		return 0, &Conflict{"What was searched is of no change."}
	}
	culprits := x.Step.V.Culprits
	if which < 0 || which >= len(culprits) {
		return 0, &Conflict{"The search has found no such culprit."}
	}
	return *r.ChangeID, d.hold(ctx, *r.ChangeID, func(h *held) error {
		c := h.c
		base, err := h.Store.Revision(ctx, c.SiteID, c.Base)
		if err != nil {
			return err
		}
		var gone []culprit.Part
		for _, i := range culprits[which] {
			gone = append(gone, x.Problem.V.Parts[i])
		}
		edits := culprit.Without(*h.envs.Production.Catalogue.V, h.envs.Production.About.V.Facts.Host(), base, base.With(c.Edits.V), gone)
		return h.edit(ctx, c.Version, Words{c.Title, c.Reason, c.Effect}, edits, who)
	})
}

// NotPatterns says that a key is no setting that takes patterns.
type NotPatterns struct{ Key string }

func (e *NotPatterns) Error() string {
	return fmt.Sprintf("%q is not a setting that takes patterns on this site.", e.Key)
}

// Exclude adds a pattern to one of a change's settings, and records why.
func (d *Desk) Exclude(ctx context.Context, id int64, all []store.Exclusion) error {
	return d.hold(ctx, id, func(x *held) error {
		c, cat := x.c, x.envs.Production.Catalogue.V
		if cat == nil {
			return &Conflict{"The site's settings have not been read yet."}
		}
		base, err := x.Store.Revision(ctx, c.SiteID, c.Base)
		if err != nil {
			return err
		}
		values, edits := base.With(c.Edits.V), settings.Values{}
		for _, e := range all {
			def, known := cat.Find(e.Key)
			if !known || def.Type != settings.Patterns {
				return &NotPatterns{e.Key}
			}
			if list := values.With(edits).Strings(e.Key); !slices.Contains(list, e.Pattern) {
				edits[e.Key] = append(slices.Clone(list), e.Pattern)
			}
			e.SiteID, e.ChangeID, e.Role = c.SiteID, &id, def.Role
			if _, err := x.Store.AddExclusion(ctx, e); err != nil {
				return err
			}
			if err := x.Store.Record(ctx, store.Event{SiteID: c.SiteID, ChangeID: &id, Kind: "exclusion", Who: e.Who, Text: fmt.Sprintf("Excluded by “%s”: %s. %s", def.Title, e.Pattern, e.Reason)}); err != nil {
				return err
			}
		}
		return x.edit(ctx, c.Version, Words{c.Title, c.Reason, c.Effect}, c.Edits.V.With(edits), all[0].Who)
	})
}
