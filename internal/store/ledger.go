package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jmoiron/sqlx"

	"tidemarker/internal/core/settings"
)

// Exclusion is something excluded, and why.
type Exclusion struct {
	ID           int64          `db:"id"`
	SiteID       int64          `db:"site_id"`
	ChangeID     *int64         `db:"change_id"` // the change that brought it; nil when it was recorded of what was there
	FindingID    *int64         `db:"finding_id"`
	Role         settings.Role  `db:"role"`
	Key          string         `db:"key"`
	Pattern      string         `db:"pattern"`
	Reason       string         `db:"reason"`
	Who          string         `db:"who"`
	MadeAt       time.Time      `db:"made_at"`
	Environments JSON[[]string] `db:"environments"` // none means all
	Classes      JSON[[]string] `db:"classes"`      // of pages that it protects
	Personas     JSON[[]string] `db:"personas"`     // whom it protects
	LookAgain    *time.Time     `db:"look_again"`   // a day
	RetiredAt    *time.Time     `db:"retired_at"`
	RetiredBy    string         `db:"retired_by"`
	RetiredWhy   string         `db:"retired_why"`
	TrialID      *int64         `db:"trial_id"` // the change that tries whether it is still needed
}

// ErrRecorded says that the ledger has this pattern of this setting already.
var ErrRecorded = errors.New("it is recorded already")

// AddExclusion records something excluded, and returns its number. Adding the same
// to a change twice keeps the first and returns 0; ErrRecorded when it is of no change
// and the ledger has it.
func (s *Store) AddExclusion(ctx context.Context, e Exclusion) (id int64, err error) {
	err = s.inTx(ctx, func(tx *sqlx.Tx) error {
		id, err = addExclusion(ctx, tx, e)
		return err
	})
	return id, err
}

// AddExclusions records all of them or none.
func (s *Store) AddExclusions(ctx context.Context, list []Exclusion) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		for _, e := range list {
			if _, err := addExclusion(ctx, tx, e); err != nil {
				return err
			}
		}
		return nil
	})
}

func addExclusion(ctx context.Context, tx *sqlx.Tx, e Exclusion) (int64, error) {
	var ids []int64
	err := tx.SelectContext(ctx, &ids, `INSERT INTO exclusions (site_id, change_id, finding_id, role, key, pattern, reason, who, environments, classes, personas, look_again)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12) ON CONFLICT (change_id, key, pattern) DO NOTHING RETURNING id`,
		e.SiteID, e.ChangeID, e.FindingID, e.Role, e.Key, e.Pattern, e.Reason, e.Who, list(e.Environments), list(e.Classes), list(e.Personas), e.LookAgain)
	if pg, ok := errors.AsType[*pgconn.PgError](err); ok && pg.ConstraintName == "exclusions_recorded" {
		return 0, fmt.Errorf("%s in %s: %w", e.Pattern, e.Key, ErrRecorded)
	}
	if err != nil {
		return 0, fmt.Errorf("write the exclusion: %w", err)
	}
	if len(ids) == 0 {
		return 0, nil
	}
	return ids[0], event(ctx, tx, ids[0], e.Who, "Recorded: "+e.Reason)
}

func list(j JSON[[]string]) JSON[[]string] {
	if j.V == nil {
		j.V = []string{}
	}
	return j
}

func event(ctx context.Context, tx *sqlx.Tx, id int64, who, text string) error {
	if _, err := tx.ExecContext(ctx, `INSERT INTO exclusion_events (exclusion_id, who, text) VALUES ($1, $2, $3)`, id, who, text); err != nil {
		return fmt.Errorf("write the exclusion's history: %w", err)
	}
	return nil
}

// Exclusions lists what a change excludes.
func (s *Store) Exclusions(ctx context.Context, changeID int64) ([]Exclusion, error) {
	return many[Exclusion](ctx, s, "the exclusions", `SELECT `+columns[Exclusion]("")+` FROM exclusions WHERE change_id = $1 ORDER BY id`, changeID)
}

// SiteExclusions lists a site's whole ledger, the newest first.
func (s *Store) SiteExclusions(ctx context.Context, siteID int64) ([]Exclusion, error) {
	return many[Exclusion](ctx, s, "the exclusions", `SELECT `+columns[Exclusion]("")+` FROM exclusions WHERE site_id = $1 ORDER BY id DESC`, siteID)
}

// ChangeExclusions changes entries of a site's ledger, all or none, and notes what was
// said of each; ErrNotFound when one is not there.
func (s *Store) ChangeExclusions(ctx context.Context, siteID int64, ids []int64, who string, change func(*Exclusion) (said string, err error)) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		for _, id := range ids {
			var rows []Exclusion
			if err := tx.SelectContext(ctx, &rows, `SELECT `+columns[Exclusion]("")+` FROM exclusions WHERE id = $1 AND site_id = $2 FOR UPDATE`, id, siteID); err != nil {
				return fmt.Errorf("read exclusion %d: %w", id, err)
			}
			if len(rows) == 0 {
				return fmt.Errorf("exclusion %d: %w", id, ErrNotFound)
			}
			e := rows[0]
			said, err := change(&e)
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `UPDATE exclusions SET reason = $2, environments = $3, classes = $4, personas = $5, look_again = $6, retired_at = $7, retired_by = $8, retired_why = $9, trial_id = $10 WHERE id = $1`,
				id, e.Reason, list(e.Environments), list(e.Classes), list(e.Personas), e.LookAgain, e.RetiredAt, e.RetiredBy, e.RetiredWhy, e.TrialID); err != nil {
				if pg, ok := errors.AsType[*pgconn.PgError](err); ok && pg.ConstraintName == "exclusions_recorded" {
					return fmt.Errorf("%s in %s: %w", e.Pattern, e.Key, ErrRecorded)
				}
				return fmt.Errorf("write exclusion %d: %w", id, err)
			}
			if said != "" {
				if err := event(ctx, tx, id, who, said); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// ExclusionEvent is one line of an exclusion's history.
type ExclusionEvent struct {
	ID          int64     `db:"id"`
	ExclusionID int64     `db:"exclusion_id"`
	Who         string    `db:"who"`
	Text        string    `db:"text"`
	At          time.Time `db:"at"`
}

// ExclusionEvents lists an exclusion's history, the oldest first.
func (s *Store) ExclusionEvents(ctx context.Context, siteID, id int64) ([]ExclusionEvent, error) {
	return many[ExclusionEvent](ctx, s, "the exclusion's history", `SELECT `+columns[ExclusionEvent]("v")+` FROM exclusion_events v JOIN exclusions e ON e.id = v.exclusion_id
		WHERE v.exclusion_id = $1 AND e.site_id = $2 ORDER BY v.id`, id, siteID)
}

// DecidedPolicy is a policy that somebody decided on, for a class of pages and a persona.
type DecidedPolicy struct {
	SiteID  int64     `db:"site_id"`
	Class   string    `db:"class"`
	Persona string    `db:"persona"`
	Policy  string    `db:"policy"`
	Reason  string    `db:"reason"`
	Who     string    `db:"who"`
	At      time.Time `db:"at"`
}

// Policies lists a site's policies that are not the default.
func (s *Store) Policies(ctx context.Context, siteID int64) ([]DecidedPolicy, error) {
	return many[DecidedPolicy](ctx, s, "the policies", `SELECT `+columns[DecidedPolicy]("")+` FROM policies WHERE site_id = $1`, siteID)
}

// DecidePolicy keeps a policy in place of an earlier one; "" brings the default back.
func (s *Store) DecidePolicy(ctx context.Context, p DecidedPolicy) error {
	if p.Policy == "" {
		return s.exec(ctx, "the policy", `DELETE FROM policies WHERE site_id = $1 AND class = $2 AND persona = $3`, p.SiteID, p.Class, p.Persona)
	}
	return s.exec(ctx, "the policy", `INSERT INTO policies (site_id, class, persona, policy, reason, who) VALUES ($1, $2, $3, $4, $5, $6)
		ON CONFLICT (site_id, class, persona) DO UPDATE SET policy = EXCLUDED.policy, reason = EXCLUDED.reason, who = EXCLUDED.who, at = now()`,
		p.SiteID, p.Class, p.Persona, p.Policy, p.Reason, p.Who)
}

// Address is one that a site is known to have.
type Address struct {
	Path  string `db:"path"`
	Class string `db:"class"`
}

// Addresses lists what a site is known to have, beside what is in the test plan.
func (s *Store) Addresses(ctx context.Context, siteID int64) ([]Address, error) {
	rows, err := s.db.QueryxContext(ctx, `SELECT path, class FROM addresses WHERE site_id = $1 ORDER BY path`, siteID)
	if err != nil {
		return nil, fmt.Errorf("read the addresses: %w", err)
	}
	defer rows.Close()
	list := []Address{}
	for rows.Next() { // a site may have 50,000 of them
		var a Address
		if err := rows.Scan(&a.Path, &a.Class); err != nil {
			return nil, fmt.Errorf("read the addresses: %w", err)
		}
		list = append(list, a)
	}
	return list, rows.Err()
}

// SaveAddresses replaces what a site is known to have.
func (s *Store) SaveAddresses(ctx context.Context, siteID int64, all []Address) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM addresses WHERE site_id = $1`, siteID); err != nil {
			return fmt.Errorf("write the addresses: %w", err)
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO addresses (site_id, path, class) SELECT $1, a->>'Path', a->>'Class' FROM jsonb_array_elements($2::jsonb) a ON CONFLICT DO NOTHING`,
			siteID, JSON[[]Address]{all})
		if err != nil {
			return fmt.Errorf("write the addresses: %w", err)
		}
		return nil
	})
}
