package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"tidemarker/internal/core/evidence"
)

// RunKind says what a run is for.
type RunKind string

// The kinds of runs.
const (
	MarkRun      RunKind = "mark"
	TryRun       RunKind = "try"
	PromoteRun   RunKind = "promote"
	RollBackRun  RunKind = "roll back"
	CheckRun     RunKind = "check"          // looks at an environment as it is
	IsolationRun RunKind = "isolation test" // asks for pages as everybody, without looking at them
)

// RunState says how far a run has come.
type RunState string

// The states of a run.
const (
	Queued  RunState = "queued"
	Waiting RunState = "waiting" // for the run before it
	Running RunState = "running"
	ByHand  RunState = "by hand" // a person is to carry something out
	Done    RunState = "done"
	Stopped RunState = "stopped" // by a person
	Failed  RunState = "failed"
)

// Over tells whether a run has ended.
func (s RunState) Over() bool { return s == Done || s == Stopped || s == Failed }

// RunProgress is how far a run has come within its phase.
type RunProgress struct {
	Warmed   int               `json:"warmed"`
	ToWarm   int               `json:"toWarm"`
	Looks    evidence.Progress `json:"looks"`
	Broken   int               `json:"broken"`
	Unsure   int               `json:"unsure"`
	Now      string            `json:"now" doc:"What is happening now."`
	Uncached []string          `json:"uncached,omitempty" doc:"Pages that were not served from the cache before they were looked at."`
	Purged   int               `json:"purged"`
	Started  time.Time         `json:"started"`
	Editing  string            `json:"editing,omitempty" doc:"An edit of the site that is published and not taken back yet."`
}

// Run is one staging run, promotion, rollback, or taking of a mark.
type Run struct {
	ID            int64             `db:"id"`
	SiteID        int64             `db:"site_id"`
	EnvironmentID int64             `db:"environment_id"`
	ChangeID      *int64            `db:"change_id"`
	Kind          RunKind           `db:"kind"`
	State         RunState          `db:"state"`
	Phase         string            `db:"phase"`
	Progress      JSON[RunProgress] `db:"progress"`
	Target        string            `db:"target"` // fingerprint to be in force; "" to leave it as it is
	Before        string            `db:"before"` // fingerprint found at the start
	PutBack       bool              `db:"put_back"`
	Restored      bool              `db:"restored"`
	MarkID        *int64            `db:"mark_id"` // compared with
	NextID        *int64            `db:"next_id"`
	Verdict       evidence.Verdict  `db:"verdict"`
	Summary       string            `db:"summary"`
	Problem       string            `db:"problem"`
	StopAsked     bool              `db:"stop_asked"`
	Attempt       int               `db:"attempt"`
	RequestedBy   string            `db:"requested_by"`
	CreatedAt     time.Time         `db:"created_at"`
	StartedAt     *time.Time        `db:"started_at"`
	FinishedAt    *time.Time        `db:"finished_at"`
}

// NewRun records that a run is wanted.
func (s *Store) NewRun(ctx context.Context, r Run) (int64, error) {
	if r.State == "" {
		r.State = Queued
	}
	return s.insert(ctx, "the run", `INSERT INTO runs (site_id, environment_id, change_id, kind, state, target, put_back, mark_id, next_id, requested_by)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) RETURNING id`,
		r.SiteID, r.EnvironmentID, r.ChangeID, r.Kind, r.State, r.Target, r.PutBack, r.MarkID, r.NextID, r.RequestedBy)
}

// Run reads one run.
func (s *Store) Run(ctx context.Context, id int64) (Run, error) {
	return one[Run](ctx, s, fmt.Sprintf("run %d", id), `SELECT * FROM runs WHERE id = $1`, id)
}

// Runs lists a site's runs, the latest first.
func (s *Store) Runs(ctx context.Context, siteID int64, limit int) ([]Run, error) {
	return many[Run](ctx, s, "the runs", `SELECT * FROM runs WHERE site_id = $1 ORDER BY id DESC LIMIT $2`, siteID, limit)
}

// ChangeRuns lists a change's runs, the latest first.
func (s *Store) ChangeRuns(ctx context.Context, changeID int64) ([]Run, error) {
	return many[Run](ctx, s, "the runs", `SELECT * FROM runs WHERE change_id = $1 ORDER BY id DESC`, changeID)
}

// OpenRuns lists the runs that have not ended, the oldest first.
func (s *Store) OpenRuns(ctx context.Context) ([]Run, error) {
	return many[Run](ctx, s, "the open runs", `SELECT * FROM runs WHERE state IN ('queued', 'running', 'waiting', 'by hand') ORDER BY id`)
}

// StartRun says that a run is being worked on, and throws away what an earlier
// attempt that was cut off had gathered.
func (s *Store) StartRun(ctx context.Context, id int64) error {
	return s.exec(ctx, "the run", `WITH gone AS (DELETE FROM looks WHERE run_id = $1), gone2 AS (DELETE FROM findings WHERE run_id = $1)
		UPDATE runs SET state = 'running', attempt = attempt + 1, started_at = coalesce(started_at, now()) WHERE id = $1`, id)
}

// SaveProgress says what a run is doing now.
func (s *Store) SaveProgress(ctx context.Context, id int64, phase string, p RunProgress) error {
	return s.exec(ctx, "the progress", `UPDATE runs SET phase = $2, progress = $3 WHERE id = $1`, id, phase, JSON[RunProgress]{p})
}

// SaveBefore records what a run found in force and with which mark it compares.
func (s *Store) SaveBefore(ctx context.Context, id int64, before string, markID *int64) error {
	return s.exec(ctx, "the run", `UPDATE runs SET before = CASE WHEN before = '' THEN $2 ELSE before END, mark_id = coalesce($3, mark_id) WHERE id = $1`, id, before, markID)
}

// EndRun records how a run ended.
func (s *Store) EndRun(ctx context.Context, r Run) error {
	return s.exec(ctx, "the run", `UPDATE runs SET state = $2, verdict = $3, summary = $4, problem = $5, restored = $6, phase = '', finished_at = now() WHERE id = $1`,
		r.ID, r.State, r.Verdict, r.Summary, r.Problem, r.Restored)
}

// AskToStop asks whoever works on a run to stop. A run that nobody works on yet is
// stopped at once.
func (s *Store) AskToStop(ctx context.Context, id int64) error {
	return s.exec(ctx, "the run", `UPDATE runs SET stop_asked = true WHERE id = $1 AND state IN ('queued', 'running', 'waiting', 'by hand')`, id)
}

// StopAsked tells whether a run has been asked to stop.
func (s *Store) StopAsked(ctx context.Context, id int64) (bool, error) {
	return one[bool](ctx, s, "the run", `SELECT stop_asked FROM runs WHERE id = $1`, id)
}

// RestForManualTask says that a run waits for a person to carry something out.
func (s *Store) RestForManualTask(ctx context.Context, id int64) error {
	return s.exec(ctx, "the run", `UPDATE runs SET state = 'by hand', phase = 'by hand' WHERE id = $1`, id)
}

// Release lets a run that waited begin.
func (s *Store) Release(ctx context.Context, id int64) error {
	return s.exec(ctx, "the run", `UPDATE runs SET state = 'queued' WHERE id = $1 AND state = 'waiting'`, id)
}

// Act is one act on an environment's settings, recorded before it is done.
type Act struct {
	ID            int64      `db:"id"`
	EnvironmentID int64      `db:"environment_id"`
	RunID         *int64     `db:"run_id"`
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
func (s *Store) Intend(ctx context.Context, a Act) (int64, error) {
	return s.insert(ctx, "the intent", `INSERT INTO acts (environment_id, run_id, change_id, kind, fingerprint, predecessor, state, note, who)
		VALUES ($1, $2, $3, $4, $5, $6, 'intended', $7, $8) RETURNING id`,
		a.EnvironmentID, a.RunID, a.ChangeID, a.Kind, a.Fingerprint, a.Predecessor, a.Note, a.Who)
}

// Outcome records what came of an intent, and the fingerprint then in force when it
// is known, both or neither.
func (s *Store) Outcome(ctx context.Context, id int64, state, note, fingerprint string) error {
	return s.inTx(ctx, func(tx *sqlx.Tx) error {
		var a Act
		if err := tx.GetContext(ctx, &a, `UPDATE acts SET state = $2, note = $3, ended_at = now() WHERE id = $1 RETURNING *`, id, state, note); err != nil {
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

// Acts lists what was done to an environment, the latest first.
func (s *Store) Acts(ctx context.Context, envID int64, limit int) ([]Act, error) {
	return many[Act](ctx, s, "what was applied", `SELECT * FROM acts WHERE environment_id = $1 ORDER BY id DESC LIMIT $2`, envID, limit)
}

// Intents lists what a run intended and whose outcome is not recorded.
func (s *Store) Intents(ctx context.Context, runID int64) ([]Act, error) {
	return many[Act](ctx, s, "the intents", `SELECT * FROM acts WHERE run_id = $1 AND state = 'intended' ORDER BY id`, runID)
}

// LeftIntents lists what runs that are over intended on an environment and whose
// outcome is not recorded, because the site did not answer any more.
func (s *Store) LeftIntents(ctx context.Context, envID int64) ([]Act, error) {
	return many[Act](ctx, s, "the intents", `SELECT a.* FROM acts a JOIN runs r ON r.id = a.run_id
		WHERE a.environment_id = $1 AND a.state = 'intended' AND r.state IN ('done', 'stopped', 'failed') ORDER BY a.id`, envID)
}

// LookRow is one look as it is kept.
type LookRow struct {
	ID       int64           `db:"id"`
	RunID    int64           `db:"run_id"`
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
func (s *Store) SaveLook(ctx context.Context, runID int64, pass int, kind string, k evidence.Key, document any) error {
	raw, err := json.Marshal(document)
	if err != nil {
		return fmt.Errorf("write a look: %w", err)
	}
	return s.exec(ctx, "a look", `INSERT INTO looks (run_id, pass, kind, page, journey, persona, device, document) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`,
		runID, pass, kind, k.Page, k.Journey, k.Persona, k.Device, string(raw))
}

// LookRows lists a run's looks of one kind and pass without reading more.
func (s *Store) LookRows(ctx context.Context, runID int64, pass int) ([]LookRow, error) {
	return many[LookRow](ctx, s, "the looks", `SELECT * FROM looks WHERE run_id = $1 AND pass = $2 ORDER BY id`, runID, pass)
}

// Look reads everything seen in one pass of a run.
func (s *Store) Look(ctx context.Context, runID int64, pass int) (evidence.Look, error) {
	rows, err := s.LookRows(ctx, runID, pass)
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

// Finding is one finding of a run.
type Finding struct {
	ID          int64                  `db:"id"`
	RunID       int64                  `db:"run_id"`
	Place       int                    `db:"place"`
	State       string                 `db:"state"` // open, accepted
	Document    JSON[evidence.Finding] `db:"document"`
	AcceptedBy  string                 `db:"accepted_by"`
	AcceptedWhy string                 `db:"accepted_why"`
	AcceptedAt  *time.Time             `db:"accepted_at"`
}

// SaveFindings replaces a run's findings, in their order.
func (s *Store) SaveFindings(ctx context.Context, runID int64, findings []evidence.Finding) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return fmt.Errorf("write the findings: %w", err)
	}
	defer func() { _ = tx.Rollback() }()
	if _, err := tx.ExecContext(ctx, `DELETE FROM findings WHERE run_id = $1`, runID); err != nil {
		return fmt.Errorf("write the findings: %w", err)
	}
	for i, f := range findings {
		if _, err := tx.ExecContext(ctx, `INSERT INTO findings (run_id, place, document) VALUES ($1, $2, $3)`, runID, i, JSON[evidence.Finding]{f}); err != nil {
			return fmt.Errorf("write a finding: %w", err)
		}
	}
	return tx.Commit()
}

// Findings lists a run's findings in their order.
func (s *Store) Findings(ctx context.Context, runID int64) ([]Finding, error) {
	return many[Finding](ctx, s, "the findings", `SELECT * FROM findings WHERE run_id = $1 ORDER BY place, id`, runID)
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
func (s *Store) SaveVerdict(ctx context.Context, runID int64, v evidence.Verdict, summary string) error {
	return s.exec(ctx, "the verdict", `UPDATE runs SET verdict = $2, summary = $3 WHERE id = $1`, runID, v, summary)
}
