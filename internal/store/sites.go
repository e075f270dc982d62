package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
)

// Site is a registered site. The document has no tokens; its secret values are open here and sealed in the database.
type Site struct {
	ID        int64           `db:"id"`
	Name      string          `db:"name"`
	Document  JSON[site.Site] `db:"document"`
	CreatedAt time.Time       `db:"created_at"`
	UpdatedAt time.Time       `db:"updated_at"`
}

// Environment is one environment of a registered site, and what was last read of it.
type Environment struct {
	ID            int64                     `db:"id"`
	SiteID        int64                     `db:"site_id"`
	Name          string                    `db:"name"`
	Role          site.Role                 `db:"role"`
	Position      int                       `db:"position"` // in lists
	URL           string                    `db:"url"`
	ConnectorKind string                    `db:"connector_kind"`
	ConnectorURL  string                    `db:"connector_url"`
	Token         string                    `db:"token"` // itself or env:NAME, sealed: see [Store.Reveal]; never leaves the server
	About         JSON[*settings.About]     `db:"about"`
	Catalogue     JSON[*settings.Catalogue] `db:"catalogue"`
	Fingerprint   string                    `db:"fingerprint"` // last read back; "" before the first reading
	ReadAt        *time.Time                `db:"read_at"`
}

// SaveSite registers a site or updates it by its name, all at once. Tokens and secret
// values that the document does not tell stay as they are known. Environments that
// the document no longer has are removed only when nothing was ever recorded of them.
// A [site.MissingSecret] says what is not known, a [site.RolesChanged] which environments
// get another role, unless rolesMayChange.
func (s *Store) SaveSite(ctx context.Context, doc site.Site, rolesMayChange bool, who string) (Site, error) {
	var row Site
	err := s.inTx(ctx, func(tx *sqlx.Tx) error {
		var before JSON[site.Site]
		err := tx.GetContext(ctx, &before, `SELECT document FROM sites WHERE name = $1 FOR UPDATE`, doc.Name)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return fmt.Errorf("read the site as it was: %w", err)
		}
		if before.V, err = s.openSite(before.V); err != nil {
			return err
		}
		doc = doc.WithSecretsFrom(before.V).WithRoles()
		if other := site.RoleChanges(before.V, doc); len(other) > 0 && !rolesMayChange {
			return &site.RolesChanged{Changes: other}
		}
		if err := doc.Complete(); err != nil {
			return err
		}
		sealed, err := s.sealSite(doc.WithoutTokens())
		if err != nil {
			return err
		}
		err = tx.GetContext(ctx, &row, `
			INSERT INTO sites (name, document) VALUES ($1, $2)
			ON CONFLICT (name) DO UPDATE SET document = excluded.document, updated_at = now()
			RETURNING `+columns[Site](""), doc.Name, JSON[site.Site]{sealed})
		if err != nil {
			return fmt.Errorf("save the site: %w", err)
		}
		row.Document.V = doc.WithoutTokens()
		if err := s.saveEnvironments(ctx, tx, row.ID, doc); err != nil {
			return err
		}
		return recordSite(ctx, tx, row.ID, fmt.Sprintf("Site file read: %d environments, %d pages, %d journeys.", len(doc.Environments), len(doc.Pages), len(doc.Journeys)), who)
	})
	return row, err
}

func recordSite(ctx context.Context, tx *sqlx.Tx, id int64, text, who string) error {
	if _, err := tx.ExecContext(ctx, `INSERT INTO history (site_id, kind, text, who) VALUES ($1, 'site', $2, $3)`, id, text, who); err != nil {
		return fmt.Errorf("record it: %w", err)
	}
	return nil
}

// ChangeTestPlan changes what is looked at on a site, with a line in its history; change
// says what it did, and "" leaves everything as it was, as an error of it does.
func (s *Store) ChangeTestPlan(ctx context.Context, id int64, who string, change func(site.Site) (now site.Site, told string, err error)) (Site, error) {
	var row Site
	err := s.inTx(ctx, func(tx *sqlx.Tx) error {
		err := tx.GetContext(ctx, &row, `SELECT `+columns[Site]("")+` FROM sites WHERE id = $1 FOR UPDATE`, id)
		if errors.Is(err, sql.ErrNoRows) {
			return fmt.Errorf("site %d: %w", id, ErrNotFound)
		}
		if err != nil {
			return fmt.Errorf("read the site: %w", err)
		}
		if row.Document.V, err = s.openSite(row.Document.V); err != nil {
			return err
		}
		now, told, err := change(row.Document.V)
		if err != nil || told == "" {
			return err
		}
		sealed, err := s.sealSite(now)
		if err != nil {
			return err
		}
		if err := tx.GetContext(ctx, &row, `UPDATE sites SET document = $2, updated_at = now() WHERE id = $1 RETURNING `+columns[Site](""), id, JSON[site.Site]{sealed}); err != nil {
			return fmt.Errorf("save the site: %w", err)
		}
		row.Document.V = now
		return recordSite(ctx, tx, id, told, who)
	})
	return row, err
}

// StillRecorded is the error of a site file that lacks environments with a record.
type StillRecorded struct{ Environments int }

func (e *StillRecorded) Error() string {
	return fmt.Sprintf("the site file no longer has %d of the site's environments, of which marks or changes are recorded. Put them back into the file: their record is not thrown away", e.Environments)
}

func (s *Store) saveEnvironments(ctx context.Context, tx *sqlx.Tx, siteID int64, doc site.Site) error {
	names := make([]string, 0, len(doc.Environments))
	for i, e := range doc.Environments {
		c := site.Connector{}
		if e.Connector != nil {
			c = *e.Connector
		}
		names = append(names, e.Name)
		token, err := s.keys.Seal(c.Token)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `
			INSERT INTO environments (site_id, name, role, position, url, connector_kind, connector_url, token)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8)
			ON CONFLICT (site_id, name) DO UPDATE SET role = excluded.role, position = excluded.position, url = excluded.url,
				connector_kind = excluded.connector_kind, connector_url = excluded.connector_url,
				token = CASE WHEN excluded.token = '' AND environments.connector_url = excluded.connector_url THEN environments.token ELSE excluded.token END`,
			siteID, e.Name, e.Role, i, e.URL, c.Kind, c.URL, token)
		if err != nil {
			return fmt.Errorf("save the environment %s: %w", e.Name, err)
		}
	}
	query, args, err := sqlx.In(`SELECT count(*) FROM environments e WHERE site_id = ? AND name NOT IN (?)
		AND (EXISTS (SELECT FROM acts a WHERE a.environment_id = e.id) OR EXISTS (SELECT FROM marks m WHERE m.environment_id = e.id))`, siteID, names)
	if err != nil {
		return err
	}
	var used int
	if err := tx.GetContext(ctx, &used, tx.Rebind(query), args...); err != nil {
		return fmt.Errorf("look for environments that are gone: %w", err)
	}
	if used > 0 {
		return &StillRecorded{used}
	}
	query, args, err = sqlx.In(`DELETE FROM environments WHERE site_id = ? AND name NOT IN (?)`, siteID, names)
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, tx.Rebind(query), args...); err != nil {
		return fmt.Errorf("remove environments that are gone: %w", err)
	}
	return nil
}

// Sites lists the sites whose name has a part, by name, a page of them, and how many
// there are in all.
func (s *Store) Sites(ctx context.Context, part string, limit, offset int) ([]Site, int, error) {
	list, err := many[Site](ctx, s, "the sites", `SELECT `+columns[Site]("")+` FROM sites WHERE position(lower($1) in lower(name)) > 0 ORDER BY name LIMIT $2 OFFSET $3`, part, limit, offset)
	if err == nil {
		err = s.openSites(list)
	}
	if err != nil {
		return nil, 0, err
	}
	total, err := one[int](ctx, s, "the number of sites", `SELECT count(*) FROM sites WHERE position(lower($1) in lower(name)) > 0`, part)
	return list, total, err
}

// Site reads a site by its number.
func (s *Store) Site(ctx context.Context, id int64) (Site, error) {
	return s.opened(one[Site](ctx, s, fmt.Sprintf("site %d", id), `SELECT `+columns[Site]("")+` FROM sites WHERE id = $1`, id))
}

// SiteNamed reads a site by its name.
func (s *Store) SiteNamed(ctx context.Context, name string) (Site, error) {
	return s.opened(one[Site](ctx, s, fmt.Sprintf("the site %q", name), `SELECT `+columns[Site]("")+` FROM sites WHERE name = $1`, name))
}

// Environments lists a site's environments in the order of its document.
func (s *Store) Environments(ctx context.Context, siteID int64) ([]Environment, error) {
	return many[Environment](ctx, s, "the environments", `SELECT `+columns[Environment]("")+` FROM environments WHERE site_id = $1 ORDER BY position`, siteID)
}

// EnvironmentsOfKinds lists the numbers of all environments whose speed layer is of one
// of these kinds, the one first that was not read for the longest time.
func (s *Store) EnvironmentsOfKinds(ctx context.Context, kinds []string) ([]int64, error) {
	return many[int64](ctx, s, "the environments", `SELECT id FROM environments WHERE connector_kind = ANY($1) ORDER BY read_at NULLS FIRST`, kinds)
}

// ByRole are a site's environments by their roles. A site without production has its
// staging in its place, and one without staging its production: the one environment that
// everything is about.
type ByRole struct {
	All                 []Environment
	Staging, Production Environment
	OnlyOne             bool // staging and production are the same
}

// EnvironmentsByRole reads a site's environments by their roles.
func (s *Store) EnvironmentsByRole(ctx context.Context, siteID int64) (ByRole, error) {
	all, err := s.Environments(ctx, siteID)
	if err != nil {
		return ByRole{}, err
	}
	out := ByRole{All: all}
	for _, e := range all {
		switch e.Role {
		case site.Staging:
			out.Staging = e
		case site.Production:
			out.Production = e
		}
	}
	switch {
	case out.Staging.ID == 0 && out.Production.ID == 0:
		return out, fmt.Errorf("site %d has neither staging nor production: %w", siteID, ErrNotFound)
	case out.Staging.ID == 0:
		out.Staging = out.Production
	case out.Production.ID == 0:
		out.Production = out.Staging
	}
	out.OnlyOne = out.Staging.ID == out.Production.ID
	return out, nil
}

// Environment reads one environment.
func (s *Store) Environment(ctx context.Context, id int64) (Environment, error) {
	return one[Environment](ctx, s, fmt.Sprintf("environment %d", id), `SELECT `+columns[Environment]("")+` FROM environments WHERE id = $1`, id)
}

// SaveReading records what was read of an environment.
func (s *Store) SaveReading(ctx context.Context, envID int64, about settings.About, cat settings.Catalogue, fingerprint string) error {
	return s.exec(ctx, "what was read", `UPDATE environments SET about = $2, catalogue = $3, fingerprint = $4, read_at = now() WHERE id = $1`,
		envID, JSON[settings.About]{about}, JSON[settings.Catalogue]{cat}, fingerprint)
}

// SaveFingerprint records the fingerprint an environment read back.
func (s *Store) SaveFingerprint(ctx context.Context, envID int64, fingerprint string) error {
	return s.exec(ctx, "the fingerprint", `UPDATE environments SET fingerprint = $2, read_at = now() WHERE id = $1`, envID, fingerprint)
}

// SaveRevision keeps a set of values once, by its fingerprint.
func (s *Store) SaveRevision(ctx context.Context, siteID int64, v settings.Values) (fingerprint string, err error) {
	fingerprint, err = v.Fingerprint()
	if err != nil {
		return "", err
	}
	return fingerprint, s.exec(ctx, "the revision", `INSERT INTO revisions (site_id, fingerprint, values) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`,
		siteID, fingerprint, JSON[settings.Values]{v})
}

// Revision reads a set of values by its fingerprint.
func (s *Store) Revision(ctx context.Context, siteID int64, fingerprint string) (settings.Values, error) {
	v, err := one[JSON[settings.Values]](ctx, s, "the revision "+fingerprint, `SELECT values FROM revisions WHERE site_id = $1 AND fingerprint = $2`, siteID, fingerprint)
	return v.V, err
}
