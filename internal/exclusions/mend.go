package exclusions

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// TrialWithout begins a change that takes patterns out, so that a check on staging says
// whether they are still needed.
func (d *Desk) TrialWithout(ctx context.Context, siteID int64, ids []int64, who string) (changeID int64, err error) {
	rows, err := d.Store.SiteExclusions(ctx, siteID)
	if err != nil {
		return 0, err
	}
	var mends []exclusion.Mend
	var names []string
	for _, id := range ids {
		i := slices.IndexFunc(rows, func(e store.Exclusion) bool { return e.ID == id })
		if i < 0 {
			return 0, fmt.Errorf("exclusion %d: %w", id, store.ErrNotFound)
		}
		mends = append(mends, exclusion.Mend{Role: string(rows[i].Role), Key: rows[i].Key, Remove: []string{rows[i].Pattern}})
		names = append(names, rows[i].Pattern)
	}
	title := "Without " + strings.Join(names, ", ")
	if len(title) > 150 {
		title = fmt.Sprintf("Without %s and %d more", names[0], len(names)-1)
	}
	changeID, err = d.Mend(ctx, siteID, title, "Is it still needed? When staging is clear without it, it is not.", mends, who)
	if err != nil {
		return 0, err
	}
	return changeID, d.Store.ChangeExclusions(ctx, siteID, ids, who, func(e *store.Exclusion) (string, error) {
		e.TrialID = &changeID
		return fmt.Sprintf("A trial without it was started, change %d.", changeID), nil
	})
}

// Mend begins a change that adds patterns to what production has and takes others out.
func (d *Desk) Mend(ctx context.Context, siteID int64, title, reason string, mends []exclusion.Mend, who string) (changeID int64, err error) {
	envs, err := d.Store.EnvironmentsByRole(ctx, siteID)
	if err != nil {
		return 0, err
	}
	production := envs.Production
	if production.Catalogue.V == nil {
		return 0, conflict(production.Name + " has not been read yet.")
	}
	now, err := d.Store.Revision(ctx, siteID, production.Fingerprint)
	if err != nil {
		return 0, err
	}
	edits, err := mended(*production.Catalogue.V, now, mends)
	if err != nil {
		return 0, err
	}
	if len(settings.Diff(now, now.With(edits))) == 0 {
		return 0, conflict("Nothing would change on production: its settings are like this already. Where staging differs, a change is tried there; edit that one.")
	}
	if _, err := d.Changes.ReadNow(ctx, siteID); err != nil {
		return 0, err
	}
	err = d.Store.Within(ctx, func(s *store.Store) error {
		in := *d.Changes
		in.Store = s
		if changeID, err = in.Begin(ctx, siteID, changes.Words{Title: title, Reason: reason}, edits, who); err != nil {
			return err
		}
		var added []store.Exclusion
		for _, m := range mends {
			for _, p := range m.Add {
				added = append(added, store.Exclusion{SiteID: siteID, ChangeID: &changeID, Role: settings.Role(m.Role), Key: m.Key, Pattern: p, Reason: strings.TrimSpace(title + ". " + reason), Who: who})
			}
		}
		return s.AddExclusions(ctx, added)
	})
	return changeID, err
}

// mended are the edits that mends come to; each gets its key and role.
func mended(cat settings.Catalogue, now settings.Values, mends []exclusion.Mend) (settings.Values, error) {
	edits := settings.Values{}
	for i, m := range mends {
		def, known := patternSetting(cat, m)
		if !known {
			return nil, refused(fmt.Sprintf("body.mends[%d]", i), fmt.Errorf("this site has no setting with patterns for %s", strings.TrimSpace(m.Key+" "+m.Role)))
		}
		mends[i].Key, mends[i].Role = def.Key, string(def.Role)
		list := now.With(edits).Strings(def.Key)
		list = slices.DeleteFunc(list, func(p string) bool { return slices.Contains(m.Remove, p) })
		for _, p := range m.Add {
			if !slices.Contains(list, p) {
				list = append(list, p)
			}
		}
		edits[def.Key] = some(list)
	}
	return edits, nil
}

// patternSetting is the setting that a mend is about: by its key, or by its role.
func patternSetting(cat settings.Catalogue, m exclusion.Mend) (settings.Definition, bool) {
	d, known := cat.Find(m.Key)
	if m.Key == "" {
		if all := cat.WithRole(settings.Role(m.Role)); len(all) > 0 {
			d, known = all[0], true
		}
	}
	return d, known && d.Type == settings.Patterns
}
