package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"tidemarker/internal/core/release"
)

// Act is one act on an environment's settings, recorded before it is done.
type Act struct {
	ID            int64            `db:"id"`
	EnvironmentID int64            `db:"environment_id"`
	RunID         *int64           `db:"run_id"`
	ChangeID      *int64           `db:"change_id"`
	Kind          release.ActKind  `db:"kind"`
	Fingerprint   string           `db:"fingerprint"` // to be in force
	Predecessor   string           `db:"predecessor"` // in force before
	Base          string           `db:"base"`        // what the change was begun from
	Found         string           `db:"found"`       // what was read back; "" when nothing was
	State         release.ActState `db:"state"`
	Note          string           `db:"note"`
	Who           string           `db:"who"`
	IntendedAt    time.Time        `db:"intended_at"`
	EndedAt       *time.Time       `db:"ended_at"`
	Reads         int              `db:"reads"`        // while unknown: how often reading back failed
	NextReadAt    *time.Time       `db:"next_read_at"` // and when it is tried again
}

// Intend records what is about to be done. It fails while an earlier act on the
// environment is open: nothing acts on top of what is not known.
func (s *Store) Intend(ctx context.Context, a Act) (int64, error) {
	return s.insert(ctx, "the intent", `INSERT INTO acts (environment_id, run_id, change_id, kind, fingerprint, predecessor, base, state, note, who)
		VALUES ($1, $2, $3, $4, $5, $6, $7, 'intended', $8, $9) RETURNING id`,
		a.EnvironmentID, a.RunID, a.ChangeID, a.Kind, a.Fingerprint, a.Predecessor, a.Base, a.Note, a.Who)
}

// EndAct records what came of an intent and, when something was read back, what is in
// force, both or neither.
func (s *Store) EndAct(ctx context.Context, id int64, state release.ActState, note, found string) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		var a Act
		if err := tx.GetContext(ctx, &a, `UPDATE acts SET state = $2, note = $3, found = $4, ended_at = CASE WHEN $2 <> 'unknown' THEN now() END,
			next_read_at = CASE WHEN $2 = 'unknown' THEN now() END WHERE id = $1 RETURNING `+columns[Act](""), id, state, note, found); err != nil {
			return fmt.Errorf("write the outcome: %w", err)
		}
		if found == "" {
			return nil
		}
		if _, err := tx.ExecContext(ctx, `UPDATE environments SET fingerprint = $2, read_at = now() WHERE id = $1`, a.EnvironmentID, found); err != nil {
			return fmt.Errorf("write the outcome: %w", err)
		}
		if state != release.ActApplied || a.Kind != release.ActRollBack { // nothing else is done about drift: neither a control nor a restore decides
			return nil
		}
		return settleDrift(ctx, tx, a.EnvironmentID, found, a.Who)
	})
}

// RecordAct records what was found done: by somebody else, or as the first reading.
func (s *Store) RecordAct(ctx context.Context, a Act) error {
	return s.Within(ctx, func(s *Store) error {
		if err := s.exec(ctx, "the act", `INSERT INTO acts (environment_id, run_id, change_id, kind, fingerprint, predecessor, found, state, note, who, ended_at)
			VALUES ($1, $2, $3, $4, $5, $6, $5, 'applied', $7, $8, now())`, a.EnvironmentID, a.RunID, a.ChangeID, a.Kind, a.Fingerprint, a.Predecessor, a.Note, a.Who); err != nil {
			return err
		}
		return s.SaveFingerprint(ctx, a.EnvironmentID, a.Fingerprint)
	})
}

// ActLanded says of an act that was taken for not applied that it was applied after all.
func (s *Store) ActLanded(ctx context.Context, id int64, note string) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		var a Act
		if err := tx.GetContext(ctx, &a, `UPDATE acts SET state = 'applied', note = $2, found = fingerprint, ended_at = now() WHERE id = $1 RETURNING `+columns[Act](""), id, note); err != nil {
			return fmt.Errorf("write the outcome: %w", err)
		}
		_, err := tx.ExecContext(ctx, `UPDATE environments SET fingerprint = $2, read_at = now() WHERE id = $1`, a.EnvironmentID, a.Fingerprint)
		return err
	})
}

// Acts lists what was done to an environment, the latest first.
func (s *Store) Acts(ctx context.Context, envID int64, limit int) ([]Act, error) {
	return many[Act](ctx, s, "what was done", `SELECT `+columns[Act]("")+` FROM acts WHERE environment_id = $1 ORDER BY id DESC LIMIT $2`, envID, limit)
}

// RunActs lists what a run did, the oldest first.
func (s *Store) RunActs(ctx context.Context, runID int64) ([]Act, error) {
	return many[Act](ctx, s, "what was done", `SELECT `+columns[Act]("")+` FROM acts WHERE run_id = $1 ORDER BY id`, runID)
}

// LastAct is what was last done to an environment; ErrNotFound when nothing was.
func (s *Store) LastAct(ctx context.Context, envID int64) (Act, error) {
	return one[Act](ctx, s, "an act on the environment", `SELECT `+columns[Act]("")+` FROM acts WHERE environment_id = $1 ORDER BY id DESC LIMIT 1`, envID)
}

// OpenAct is the act on an environment whose outcome is not known, or not recorded yet;
// ErrNotFound when there is none.
func (s *Store) OpenAct(ctx context.Context, envID int64) (Act, error) {
	return one[Act](ctx, s, "an open act on the environment", `SELECT `+columns[Act]("")+` FROM acts WHERE environment_id = $1 AND state IN ('intended', 'unknown')`, envID)
}

// OpenActs lists a site's open acts.
func (s *Store) OpenActs(ctx context.Context, siteID int64) ([]Act, error) {
	return many[Act](ctx, s, "the open acts", `SELECT `+columns[Act]("a")+` FROM acts a JOIN environments e ON e.id = a.environment_id WHERE e.site_id = $1 AND a.state IN ('intended', 'unknown') ORDER BY a.id`, siteID)
}

// UnknownDue lists the environments on which an act's outcome is unknown and is to be
// read back now.
func (s *Store) UnknownDue(ctx context.Context) ([]int64, error) {
	return many[int64](ctx, s, "the environments", `SELECT environment_id FROM acts WHERE state = 'unknown' AND next_read_at <= now() ORDER BY next_read_at`)
}

// ReadFailed notes that reading an unknown act's environment failed, and when it is
// tried again.
func (s *Store) ReadFailed(ctx context.Context, actID int64, why string, again time.Duration) error {
	return s.exec(ctx, "the attempt", `UPDATE acts SET reads = reads + 1, note = $2, next_read_at = now() + make_interval(secs => $3) WHERE id = $1 AND state = 'unknown'`, actID, why, again.Seconds())
}

// Placed lists what was applied to an environment, the oldest first, as the record of
// what is in force reads it. Where the site took something else than it was given, what
// it has is nobody's.
func (s *Store) Placed(ctx context.Context, envID int64) ([]release.Placed, error) {
	type row struct {
		Change int64           `db:"change"`
		Kind   release.ActKind `db:"kind"`
		From   string          `db:"from"`
		To     string          `db:"to"`
		Base   string          `db:"base"`
	}
	rows, err := many[row](ctx, s, "what was done", `SELECT CASE WHEN state = 'applied' THEN coalesce(change_id, 0) ELSE 0 END AS change,
		CASE WHEN state = 'applied' THEN kind ELSE 'outside' END AS kind, predecessor AS from, found AS to, base FROM acts
		WHERE environment_id = $1 AND found <> '' AND state IN ('applied', 'not applied') AND (state = 'applied' OR found <> predecessor) ORDER BY id`, envID)
	out := make([]release.Placed, len(rows))
	for i, r := range rows {
		out[i] = release.Placed(r)
	}
	return out, err
}
