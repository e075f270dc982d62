package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// ManualTask is a checklist that a person carries out in a site's own administration.
type ManualTask struct {
	ID            int64            `db:"id"`
	SiteID        int64            `db:"site_id"`
	EnvironmentID int64            `db:"environment_id"`
	RunID         int64            `db:"run_id"`
	Target        string           `db:"target"`
	Predecessor   string           `db:"predecessor"`
	Items         JSON[[]TaskItem] `db:"items"`
	State         string           `db:"state"` // open, done, given up
	Proof         JSON[*TaskProof] `db:"proof"` // nil when no file proves it
	DoneBy        string           `db:"done_by"`
	MadeAt        time.Time        `db:"made_at"`
	DoneAt        *time.Time       `db:"done_at"`
}

// TaskItem is one thing to be done by hand. Without a key it is not about a setting.
type TaskItem struct {
	Key   string     `json:"key,omitempty"`
	Title string     `json:"title"`
	Where string     `json:"where,omitempty"`
	From  any        `json:"from,omitempty"`
	To    any        `json:"to,omitempty"`
	Done  bool       `json:"done"`
	Who   string     `json:"who,omitempty"`
	At    *time.Time `json:"at,omitempty"`
}

// TaskProof is what an exported file says after the work: the JSON Patch (RFC 6902)
// from the file before it.
type TaskProof struct {
	Patch json.RawMessage `json:"patch"`
}

// BeginManualTask records a checklist and the intent that it carries out, together.
func (s *Store) BeginManualTask(ctx context.Context, h ManualTask, a Act) error {
	return s.Within(ctx, func(s *Store) error {
		if _, err := s.Intend(ctx, a); err != nil {
			return err
		}
		return s.exec(ctx, "the checklist", `INSERT INTO manual_tasks (site_id, environment_id, run_id, target, predecessor, items) VALUES ($1, $2, $3, $4, $5, $6)`,
			h.SiteID, h.EnvironmentID, h.RunID, h.Target, h.Predecessor, h.Items)
	})
}

const manualTaskColumns = `id, site_id, environment_id, run_id, target, predecessor, items, state, proof, done_by, made_at, done_at`

// ManualTaskOf is a run's checklist; ErrNotFound when it has none.
func (s *Store) ManualTaskOf(ctx context.Context, runID int64) (ManualTask, error) {
	return one[ManualTask](ctx, s, fmt.Sprintf("a checklist of run %d", runID), `SELECT `+manualTaskColumns+` FROM manual_tasks WHERE run_id = $1`, runID)
}

// ErrSettled says that a checklist is no longer open.
var ErrSettled = errors.New("the checklist is no longer open")

// TickItem says of one item whether it is done. ErrSettled when the list is not open.
func (s *Store) TickItem(ctx context.Context, runID int64, n int, done bool, who string) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		var h ManualTask
		if err := tx.GetContext(ctx, &h, `SELECT `+manualTaskColumns+` FROM manual_tasks WHERE run_id = $1 FOR UPDATE`, runID); err != nil {
			return fmt.Errorf("a checklist of run %d: %w", runID, ErrNotFound)
		}
		if h.State != "open" {
			return ErrSettled
		}
		if n < 0 || n >= len(h.Items.V) {
			return fmt.Errorf("item %d of the checklist: %w", n, ErrNotFound)
		}
		it := &h.Items.V[n]
		it.Done, it.Who, it.At = done, "", nil
		if now := time.Now().UTC(); done {
			it.Who, it.At = who, &now
		}
		_, err := tx.ExecContext(ctx, `UPDATE manual_tasks SET items = $2 WHERE id = $1`, h.ID, h.Items)
		return err
	})
}

// EndManualTask closes a checklist and lets its run go on. ok is false when it was
// closed already.
func (s *Store) EndManualTask(ctx context.Context, id int64, state, who string, proof *TaskProof) (ok bool, err error) {
	return s.changed(ctx, "the checklist", `UPDATE manual_tasks SET state = $2, done_by = $3, proof = $4, done_at = now() WHERE id = $1 AND state = 'open'`, id, state, who, JSON[*TaskProof]{proof})
}

// SaveExport keeps a settings file that somebody exported from a site.
func (s *Store) SaveExport(ctx context.Context, envID int64, fingerprint string, document json.RawMessage, who string) error {
	return s.exec(ctx, "the exported file", `INSERT INTO exports (environment_id, fingerprint, document, who) VALUES ($1, $2, $3, $4)`, envID, fingerprint, string(document), who)
}

// LatestExport is the document of the file that was exported last; ErrNotFound when
// there is none.
func (s *Store) LatestExport(ctx context.Context, envID int64) (json.RawMessage, error) {
	v, err := one[JSON[json.RawMessage]](ctx, s, "an exported file", `SELECT document FROM exports WHERE environment_id = $1 ORDER BY id DESC LIMIT 1`, envID)
	return v.V, err
}
