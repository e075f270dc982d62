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

// ReadNow reads a site's staging and production and returns production. Who acts on one
// of them has read it.
func (d *Desk) ReadNow(ctx context.Context, siteID int64) (store.Environment, error) {
	envs, err := d.Store.EnvironmentsByRole(ctx, siteID)
	if err != nil {
		return store.Environment{}, err
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
	return d.edit(ctx, d.Store, id, version, w, edits, who)
}

// Describe replaces a change's title, reason and expected effect, in whatever state it is; what it does stays. *[Edited] when
// somebody else edited it since a version.
func (d *Desk) Describe(ctx context.Context, id int64, version int, w Words, who string) error {
	return d.Store.Within(ctx, func(s *store.Store) error {
		c, err := s.Change(ctx, id)
		if err != nil {
			return err
		}
		was := c.Title
		theirs := &Edited{c.EditedBy, c.Version}
		c.Title, c.Reason, c.Effect, c.EditedBy = w.Title, w.Reason, w.Effect, who
		ok, err := s.DescribeChange(ctx, c, version)
		if err != nil {
			return err
		}
		if !ok {
			return theirs
		}
		if was != w.Title {
			return note(ctx, s, c, who, "Renamed the change “%s” to “%s”.", was, w.Title)
		}
		return s.Tell(ctx, store.Signal{Site: c.SiteID, Change: id})
	})
}

func (d *Desk) edit(ctx context.Context, s *store.Store, id int64, version int, w Words, edits settings.Values, who string) error {
	situation, c, envs, err := d.situation(ctx, id)
	if err != nil {
		return err
	}
	to, err := release.Apply(situation, release.Edit)
	if err != nil {
		return err
	}
	base, err := s.Revision(ctx, c.SiteID, c.Base)
	if err != nil {
		return err
	}
	if err := refused(envs.Production, base.With(edits)); err != nil {
		return err
	}
	c.Title, c.Reason, c.Effect, c.State, c.Edits.V, c.EditedBy = w.Title, w.Reason, w.Effect, to, settings.Edited(base, edits), who
	return s.Within(ctx, func(s *store.Store) error {
		ok, err := s.EditChange(ctx, c, version)
		if err != nil {
			return err
		}
		if !ok {
			theirs, err := s.Change(ctx, id)
			return errors.Join(err, &Edited{theirs.EditedBy, theirs.Version})
		}
		return s.Tell(ctx, store.Signal{Site: c.SiteID, Change: id})
	})
}

// Rebase begins a change again from what production has now, with those of its edits that
// still differ.
func (d *Desk) Rebase(ctx context.Context, id int64, who string) error {
	situation, c, _, err := d.situation(ctx, id)
	if err != nil {
		return err
	}
	to, err := release.Apply(situation, release.Rebase)
	if err != nil {
		return err
	}
	base, err := d.Store.Revision(ctx, c.SiteID, situation.Production)
	if err != nil {
		return err
	}
	c.Base, c.State, c.Edits.V = situation.Production, to, settings.Edited(base, c.Edits.V)
	return d.Store.Within(ctx, func(s *store.Store) error {
		ok, err := s.EditChange(ctx, c, c.Version)
		if err == nil && !ok {
			err = &Conflict{"Somebody else edited this change just now. Look at it again."}
		}
		if err != nil {
			return err
		}
		return note(ctx, s, c, who, "Began the change “%s” again from what production has now.", c.Title)
	})
}

// Split keeps the first step of a change and makes a change of each of the others, every
// one after the one before it.
func (d *Desk) Split(ctx context.Context, id int64, who string) error {
	situation, c, envs, err := d.situation(ctx, id)
	if err != nil {
		return err
	}
	if _, err := release.Apply(situation, release.Edit); err != nil {
		return err
	}
	cat := envs.Production.Catalogue.V
	if cat == nil || !cat.Piled(c.Edits.V) {
		return &Conflict{"There is nothing to split: at most one thing that is risky is changed."}
	}
	steps := cat.Split(c.Edits.V)
	var parts []store.Change
	for i, step := range steps {
		part := store.Change{SiteID: c.SiteID, Title: fmt.Sprintf("%s (%d of %d)", c.Title, i+1, len(steps)), Effect: c.Effect, Base: c.Base, Edits: store.JSON[settings.Values]{V: step.Edits}, CreatedBy: who}
		part.Reason = strings.TrimSpace(fmt.Sprintf("Part of “%s”: %s. %s", c.Title, step.Title, c.Reason))
		parts = append(parts, part)
	}
	first := c
	first.Title, first.Edits, first.EditedBy = parts[0].Title, parts[0].Edits, who
	return d.Store.Within(ctx, func(s *store.Store) error {
		ok, err := s.SplitChange(ctx, first, parts[1:])
		if err == nil && !ok {
			err = &Conflict{"Somebody else edited this change just now. Nothing was split; look at it again."}
		}
		if err != nil {
			return err
		}
		return note(ctx, s, c, who, "Split the change “%s” into %d.", c.Title, len(steps))
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
	c, err := d.Store.Change(ctx, *r.ChangeID)
	if err != nil {
		return 0, err
	}
	envs, err := d.Store.EnvironmentsByRole(ctx, c.SiteID)
	if err != nil {
		return 0, err
	}
	base, err := d.Store.Revision(ctx, c.SiteID, c.Base)
	if err != nil {
		return 0, err
	}
	var gone []culprit.Part
	for _, i := range culprits[which] {
		gone = append(gone, x.Problem.V.Parts[i])
	}
	edits := culprit.Without(*envs.Production.Catalogue.V, envs.Production.About.V.Facts.Host(), base, base.With(c.Edits.V), gone)
	return c.ID, d.Edit(ctx, c.ID, c.Version, Words{c.Title, c.Reason, c.Effect}, edits, who)
}

// NotPatterns says that a key is no setting that takes patterns.
type NotPatterns struct{ Key string }

func (e *NotPatterns) Error() string {
	return fmt.Sprintf("%q is not a setting that takes patterns on this site.", e.Key)
}

// Exclude adds a pattern to one of a change's settings, and records why.
func (d *Desk) Exclude(ctx context.Context, id int64, all []store.Exclusion) error {
	c, err := d.Store.Change(ctx, id)
	if err != nil {
		return err
	}
	envs, err := d.Store.EnvironmentsByRole(ctx, c.SiteID)
	if err != nil {
		return err
	}
	if envs.Production.Catalogue.V == nil {
		return &Conflict{"The site's settings have not been read yet."}
	}
	base, err := d.Store.Revision(ctx, c.SiteID, c.Base)
	if err != nil {
		return err
	}
	return d.Store.Within(ctx, func(s *store.Store) error {
		values, edits := base.With(c.Edits.V), settings.Values{}
		for _, e := range all {
			def, known := envs.Production.Catalogue.V.Find(e.Key)
			if !known || def.Type != settings.Patterns {
				return &NotPatterns{e.Key}
			}
			if list := values.With(edits).Strings(e.Key); !slices.Contains(list, e.Pattern) {
				edits[e.Key] = append(slices.Clone(list), e.Pattern)
			}
			e.SiteID, e.ChangeID, e.Role = c.SiteID, &id, def.Role
			if _, err := s.AddExclusion(ctx, e); err != nil {
				return err
			}
			if err := s.Record(ctx, store.Event{SiteID: c.SiteID, ChangeID: &id, Kind: "exclusion", Who: e.Who, Text: fmt.Sprintf("Excluded by “%s”: %s. %s", def.Title, e.Pattern, e.Reason)}); err != nil {
				return err
			}
		}
		return d.edit(ctx, s, id, c.Version, Words{c.Title, c.Reason, c.Effect}, c.Edits.V.With(edits), all[0].Who)
	})
}
