package changes

import (
	"context"
	"fmt"

	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// Copied is a revision of an environment on its way to another site, with what is excluded in it and why.
func (d *Desk) Copied(ctx context.Context, envID int64, fingerprint string) (settings.Copied, error) {
	env, err := d.Store.Environment(ctx, envID)
	if err != nil {
		return settings.Copied{}, err
	}
	v, err := d.Store.Revision(ctx, env.SiteID, fingerprint)
	if err != nil {
		return settings.Copied{}, err
	}
	return d.CopiedOf(ctx, env, v)
}

// CopiedOf is Copied of values that need not have been in force.
func (d *Desk) CopiedOf(ctx context.Context, env store.Environment, v settings.Values) (settings.Copied, error) {
	row, err := d.Store.Site(ctx, env.SiteID)
	if err != nil {
		return settings.Copied{}, err
	}
	if env.Catalogue.V == nil || env.About.V == nil {
		return settings.Copied{}, &Conflict{env.Name + " has not been read yet."}
	}
	rows, err := d.Store.SiteExclusions(ctx, env.SiteID)
	if err != nil {
		return settings.Copied{}, err
	}
	var left []settings.CopiedExclusion
	in := map[string]map[string]bool{} // patterns by setting
	for _, e := range rows {
		if in[e.Key] == nil {
			in[e.Key] = map[string]bool{}
			for _, p := range v.Strings(e.Key) {
				in[e.Key][p] = true
			}
		}
		if e.RetiredAt == nil && in[e.Key][e.Pattern] {
			left = append(left, settings.CopiedExclusion{Role: e.Role, Pattern: e.Pattern, Reason: e.Reason})
		}
	}
	return settings.CopyOf(row.Name, env.About.V.Software, *env.Catalogue.V, v, left)
}

// BeginCopied begins a change with what is taken of a copied revision, and records what it excludes; what the change then holds
// is the edits of the settings that are taken.
func (d *Desk) BeginCopied(ctx context.Context, siteID int64, w Words, from settings.Copied, taken []settings.Mapped, who string) (id int64, err error) {
	edits, keys := settings.Values{}, map[settings.Role]string{}
	for _, m := range taken {
		edits[m.Key], keys[m.From.Role] = m.Value, m.Key
	}
	if _, err := d.ReadNow(ctx, siteID); err != nil {
		return 0, err
	}
	var copied []store.Exclusion
	for _, e := range from.Exclusions {
		key, there := keys[e.Role]
		if !there {
			continue
		}
		copied = append(copied, store.Exclusion{SiteID: siteID, Role: e.Role, Key: key, Pattern: e.Pattern,
			Reason: fmt.Sprintf("%s (copied from %s)", e.Reason, from.Site), Who: who})
	}
	err = d.Store.Within(ctx, func(s *store.Store) error {
		in := *d
		in.Store = s
		if id, err = in.Begin(ctx, siteID, w, edits, who); err != nil {
			return err
		}
		for i := range copied {
			copied[i].ChangeID = &id
		}
		return s.AddExclusions(ctx, copied)
	})
	return id, err
}
