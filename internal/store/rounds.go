package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"tidemarker/internal/core/evidence"
)

// RoundKind says what a round is for.
type RoundKind string

// The kinds of rounds.
const (
	MarkRound     RoundKind = "mark"
	TryRound      RoundKind = "try"
	PromoteRound  RoundKind = "promote"
	RollBackRound RoundKind = "roll back"
	CheckRound    RoundKind = "check" // looks at an environment as it is
	ProveRound    RoundKind = "prove" // asks for pages as everybody, without looking at them
)

// RoundState says how far a round has come.
type RoundState string

// The states of a round.
const (
	Queued  RoundState = "queued"
	Waiting RoundState = "waiting" // for the round before it
	Running RoundState = "running"
	ByHand  RoundState = "by hand" // a person is to carry something out
	Done    RoundState = "done"
	Stopped RoundState = "stopped" // by a person
	Failed  RoundState = "failed"
)

// Over tells whether a round has ended.
func (s RoundState) Over() bool { return s == Done || s == Stopped || s == Failed }

// RoundProgress is how far a round has come within its phase.
type RoundProgress struct {
	Warmed  int               `json:"warmed"`
	ToWarm  int               `json:"toWarm"`
	Looks   evidence.Progress `json:"looks"`
	Broken  int               `json:"broken"`
	Unsure  int               `json:"unsure"`
	Now     string            `json:"now" doc:"What is happening now."`
	Unheld  []string          `json:"unheld,omitempty" doc:"Pages that were not served held before they were looked at."`
	Purged  int               `json:"purged"`
	Started time.Time         `json:"started"`
	Editing string            `json:"editing,omitempty" doc:"An edit of the site that is published and not taken back yet."`
}

// Round is one staging round, promotion, rollback, or taking of a mark.
type Round struct {
	ID            int64               `db:"id"`
	SiteID        int64               `db:"site_id"`
	EnvironmentID int64               `db:"environment_id"`
	ChangeID      *int64              `db:"change_id"`
	Kind          RoundKind           `db:"kind"`
	State         RoundState          `db:"state"`
	Phase         string              `db:"phase"`
	Progress      JSON[RoundProgress] `db:"progress"`
	Target        string              `db:"target"` // fingerprint to be in force; "" to leave it as it is
	Before        string              `db:"before"` // fingerprint found at the start
	PutBack       bool                `db:"put_back"`
	Restored      bool                `db:"restored"`
	MarkID        *int64              `db:"mark_id"` // compared with
	NextID        *int64              `db:"next_id"`
	Verdict       evidence.Verdict    `db:"verdict"`
	Summary       string              `db:"summary"`
	Problem       string              `db:"problem"`
	StopAsked     bool                `db:"stop_asked"`
	Attempt       int                 `db:"attempt"`
	RequestedBy   string              `db:"requested_by"`
	CreatedAt     time.Time           `db:"created_at"`
	StartedAt     *time.Time          `db:"started_at"`
	FinishedAt    *time.Time          `db:"finished_at"`
}

// NewRound records that a round is wanted.
func (s *Store) NewRound(ctx context.Context, r Round) (int64, error) {
	if r.State == "" {
		r.State = Queued
	}
	return s.insert(ctx, "the round", `INSERT INTO rounds (site_id, environment_id, change_id, kind, state, target, put_back, mark_id, next_id, requested_by)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) RETURNING id`,
		r.SiteID, r.EnvironmentID, r.ChangeID, r.Kind, r.State, r.Target, r.PutBack, r.MarkID, r.NextID, r.RequestedBy)
}

// Round reads one round.
func (s *Store) Round(ctx context.Context, id int64) (Round, error) {
	return one[Round](ctx, s, fmt.Sprintf("round %d", id), `SELECT * FROM rounds WHERE id = $1`, id)
}

// Rounds lists a site's rounds, the latest first.
func (s *Store) Rounds(ctx context.Context, siteID int64, limit int) ([]Round, error) {
	return many[Round](ctx, s, "the rounds", `SELECT * FROM rounds WHERE site_id = $1 ORDER BY id DESC LIMIT $2`, siteID, limit)
}

// ChangeRounds lists a change's rounds, the latest first.
func (s *Store) ChangeRounds(ctx context.Context, changeID int64) ([]Round, error) {
	return many[Round](ctx, s, "the rounds", `SELECT * FROM rounds WHERE change_id = $1 ORDER BY id DESC`, changeID)
}

// OpenRounds lists the rounds that have not ended, the oldest first.
func (s *Store) OpenRounds(ctx context.Context) ([]Round, error) {
	return many[Round](ctx, s, "the open rounds", `SELECT * FROM rounds WHERE state IN ('queued', 'running', 'waiting', 'by hand') ORDER BY id`)
}

// StartRound says that a round is being worked on, and throws away what an earlier
// attempt that was cut off had gathered.
func (s *Store) StartRound(ctx context.Context, id int64) error {
	return s.exec(ctx, "the round", `WITH gone AS (DELETE FROM looks WHERE round_id = $1), gone2 AS (DELETE FROM findings WHERE round_id = $1)
		UPDATE rounds SET state = 'running', attempt = attempt + 1, started_at = coalesce(started_at, now()) WHERE id = $1`, id)
}

// SaveProgress says what a round is doing now.
func (s *Store) SaveProgress(ctx context.Context, id int64, phase string, p RoundProgress) error {
	return s.exec(ctx, "the progress", `UPDATE rounds SET phase = $2, progress = $3 WHERE id = $1`, id, phase, JSON[RoundProgress]{p})
}

// SaveBefore records what a round found in force and with which mark it compares.
func (s *Store) SaveBefore(ctx context.Context, id int64, before string, markID *int64) error {
	return s.exec(ctx, "the round", `UPDATE rounds SET before = CASE WHEN before = '' THEN $2 ELSE before END, mark_id = coalesce($3, mark_id) WHERE id = $1`, id, before, markID)
}

// EndRound records how a round ended.
func (s *Store) EndRound(ctx context.Context, r Round) error {
	return s.exec(ctx, "the round", `UPDATE rounds SET state = $2, verdict = $3, summary = $4, problem = $5, restored = $6, phase = '', finished_at = now() WHERE id = $1`,
		r.ID, r.State, r.Verdict, r.Summary, r.Problem, r.Restored)
}

// AskToStop asks whoever works on a round to stop. A round that nobody works on yet is
// stopped at once.
func (s *Store) AskToStop(ctx context.Context, id int64) error {
	return s.exec(ctx, "the round", `UPDATE rounds SET stop_asked = true WHERE id = $1 AND state IN ('queued', 'running', 'waiting', 'by hand')`, id)
}

// StopAsked tells whether a round has been asked to stop.
func (s *Store) StopAsked(ctx context.Context, id int64) (bool, error) {
	return one[bool](ctx, s, "the round", `SELECT stop_asked FROM rounds WHERE id = $1`, id)
}

// RestForHand says that a round waits for a person to carry something out.
func (s *Store) RestForHand(ctx context.Context, id int64) error {
	return s.exec(ctx, "the round", `UPDATE rounds SET state = 'by hand', phase = 'by hand' WHERE id = $1`, id)
}

// Release lets a round that waited begin.
func (s *Store) Release(ctx context.Context, id int64) error {
	return s.exec(ctx, "the round", `UPDATE rounds SET state = 'queued' WHERE id = $1 AND state = 'waiting'`, id)
}

// Application is one act on an environment's settings, recorded before it is done.
type Application struct {
	ID            int64      `db:"id"`
	EnvironmentID int64      `db:"environment_id"`
	RoundID       *int64     `db:"round_id"`
	ChangeID      *int64     `db:"change_id"`
	Kind          string     `db:"kind"` // try, promote, roll back, put back, outside, first
	Fingerprint   string     `db:"fingerprint"`
	Predecessor   string     `db:"predecessor"`
	State         string     `db:"state"` // intended, applied, not applied
	Note          string     `db:"note"`
	Who           string     `db:"who"`
	IntendedAt    time.Time  `db:"intended_at"`
	EndedAt       *time.Time `db:"ended_at"`
}

// Intend records what is about to be done.
func (s *Store) Intend(ctx context.Context, a Application) (int64, error) {
	return s.insert(ctx, "the intent", `INSERT INTO applications (environment_id, round_id, change_id, kind, fingerprint, predecessor, state, note, who)
		VALUES ($1, $2, $3, $4, $5, $6, 'intended', $7, $8) RETURNING id`,
		a.EnvironmentID, a.RoundID, a.ChangeID, a.Kind, a.Fingerprint, a.Predecessor, a.Note, a.Who)
}

// Outcome records what came of an intent, and the fingerprint then in force when it
// is known, both or neither.
func (s *Store) Outcome(ctx context.Context, id int64, state, note, fingerprint string) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		var a Application
		if err := tx.GetContext(ctx, &a, `UPDATE applications SET state = $2, note = $3, ended_at = now() WHERE id = $1 RETURNING *`, id, state, note); err != nil {
			return fmt.Errorf("write the outcome: %w", err)
		}
		if fingerprint == "" {
			return nil
		}
		if _, err := tx.ExecContext(ctx, `UPDATE environments SET fingerprint = $2, read_at = now() WHERE id = $1`, a.EnvironmentID, fingerprint); err != nil {
			return fmt.Errorf("write the outcome: %w", err)
		}
		if state != "applied" || a.Kind == "outside" {
			return nil
		}
		return settleDrift(ctx, tx, a.EnvironmentID, fingerprint, a.Who)
	})
}

// Applications lists what was done to an environment, the latest first.
func (s *Store) Applications(ctx context.Context, envID int64, limit int) ([]Application, error) {
	return many[Application](ctx, s, "what was applied", `SELECT * FROM applications WHERE environment_id = $1 ORDER BY id DESC LIMIT $2`, envID, limit)
}

// Intents lists what a round intended and whose outcome is not recorded.
func (s *Store) Intents(ctx context.Context, roundID int64) ([]Application, error) {
	return many[Application](ctx, s, "the intents", `SELECT * FROM applications WHERE round_id = $1 AND state = 'intended' ORDER BY id`, roundID)
}

// LeftIntents lists what rounds that are over intended on an environment and whose
// outcome is not recorded, because the site did not answer any more.
func (s *Store) LeftIntents(ctx context.Context, envID int64) ([]Application, error) {
	return many[Application](ctx, s, "the intents", `SELECT a.* FROM applications a JOIN rounds r ON r.id = a.round_id
		WHERE a.environment_id = $1 AND a.state = 'intended' AND r.state IN ('done', 'stopped', 'failed') ORDER BY a.id`, envID)
}

// LookRow is one look as it is kept.
type LookRow struct {
	ID       int64           `db:"id"`
	RoundID  int64           `db:"round_id"`
	Pass     int             `db:"pass"`
	Kind     string          `db:"kind"` // page, journey, probe
	Page     string          `db:"page"`
	Journey  string          `db:"journey"`
	Persona  string          `db:"persona"`
	Device   string          `db:"device"`
	Document json.RawMessage `db:"document"`
	MadeAt   time.Time       `db:"made_at"`
}

// SaveLook keeps one look of a pass: an evidence.PageLook, JourneyLook or Probe.
func (s *Store) SaveLook(ctx context.Context, roundID int64, pass int, kind string, k evidence.Key, document any) error {
	raw, err := json.Marshal(document)
	if err != nil {
		return fmt.Errorf("write a look: %w", err)
	}
	return s.exec(ctx, "a look", `INSERT INTO looks (round_id, pass, kind, page, journey, persona, device, document) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`,
		roundID, pass, kind, k.Page, k.Journey, k.Persona, k.Device, string(raw))
}

// LookRows lists a round's looks of one kind and pass without reading more.
func (s *Store) LookRows(ctx context.Context, roundID int64, pass int) ([]LookRow, error) {
	return many[LookRow](ctx, s, "the looks", `SELECT * FROM looks WHERE round_id = $1 AND pass = $2 ORDER BY id`, roundID, pass)
}

// Look reads everything seen in one pass of a round.
func (s *Store) Look(ctx context.Context, roundID int64, pass int) (evidence.Look, error) {
	rows, err := s.LookRows(ctx, roundID, pass)
	if err != nil {
		return evidence.Look{}, err
	}
	var out evidence.Look
	for _, r := range rows {
		switch r.Kind {
		case "page":
			var p evidence.PageLook
			err = json.Unmarshal(r.Document, &p)
			out.Pages = append(out.Pages, p)
		case "journey":
			var j evidence.JourneyLook
			err = json.Unmarshal(r.Document, &j)
			out.Journeys = append(out.Journeys, j)
		case "probe":
			var p evidence.Probe
			err = json.Unmarshal(r.Document, &p)
			out.Probes = append(out.Probes, p)
		}
		if err != nil {
			return evidence.Look{}, fmt.Errorf("read look %d: %w", r.ID, err)
		}
	}
	return out, nil
}

// Finding is one finding of a round.
type Finding struct {
	ID          int64                  `db:"id"`
	RoundID     int64                  `db:"round_id"`
	Place       int                    `db:"place"`
	State       string                 `db:"state"` // open, accepted
	Document    JSON[evidence.Finding] `db:"document"`
	AcceptedBy  string                 `db:"accepted_by"`
	AcceptedWhy string                 `db:"accepted_why"`
	AcceptedAt  *time.Time             `db:"accepted_at"`
}

// SaveFindings replaces a round's findings, in their order.
func (s *Store) SaveFindings(ctx context.Context, roundID int64, findings []evidence.Finding) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return fmt.Errorf("write the findings: %w", err)
	}
	defer func() { _ = tx.Rollback() }()
	if _, err := tx.ExecContext(ctx, `DELETE FROM findings WHERE round_id = $1`, roundID); err != nil {
		return fmt.Errorf("write the findings: %w", err)
	}
	for i, f := range findings {
		if _, err := tx.ExecContext(ctx, `INSERT INTO findings (round_id, place, document) VALUES ($1, $2, $3)`, roundID, i, JSON[evidence.Finding]{f}); err != nil {
			return fmt.Errorf("write a finding: %w", err)
		}
	}
	return tx.Commit()
}

// Findings lists a round's findings in their order.
func (s *Store) Findings(ctx context.Context, roundID int64) ([]Finding, error) {
	return many[Finding](ctx, s, "the findings", `SELECT * FROM findings WHERE round_id = $1 ORDER BY place, id`, roundID)
}

// Finding reads one finding.
func (s *Store) Finding(ctx context.Context, id int64) (Finding, error) {
	return one[Finding](ctx, s, fmt.Sprintf("finding %d", id), `SELECT * FROM findings WHERE id = $1`, id)
}

// AcceptFinding records that a person takes a finding as meant, or takes that back.
func (s *Store) AcceptFinding(ctx context.Context, id int64, accepted bool, who, why string) error {
	if !accepted {
		return s.exec(ctx, "the finding", `UPDATE findings SET state = 'open', accepted_by = '', accepted_why = '', accepted_at = NULL WHERE id = $1`, id)
	}
	return s.exec(ctx, "the finding", `UPDATE findings SET state = 'accepted', accepted_by = $2, accepted_why = $3, accepted_at = now() WHERE id = $1`, id, who, why)
}

// SaveVerdict records a verdict that changed because a finding was accepted.
func (s *Store) SaveVerdict(ctx context.Context, roundID int64, v evidence.Verdict, summary string) error {
	return s.exec(ctx, "the verdict", `UPDATE rounds SET verdict = $2, summary = $3 WHERE id = $1`, roundID, v, summary)
}
