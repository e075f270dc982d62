package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/schedule"
)

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
	Spent    map[string]int64  `json:"spent,omitempty" doc:"Milliseconds spent in each phase so far."`
	Editing  string            `json:"editing,omitempty" doc:"A publishing test that is published and not taken back yet."`
}

// Run is one piece of work on one environment: a try, a promotion, a rollback, a check,
// the taking of a mark, a cache isolation test.
type Run struct {
	ID            int64                `db:"id"`
	SiteID        int64                `db:"site_id"`
	EnvironmentID int64                `db:"environment_id"`
	ChangeID      *int64               `db:"change_id"`
	Kind          release.RunKind      `db:"kind"`
	State         release.RunState     `db:"state"`
	Phase         string               `db:"phase"`
	Progress      JSON[RunProgress]    `db:"progress"`
	Target        string               `db:"target"`  // fingerprint to be in force; "" to leave it as it is
	Expects       string               `db:"expects"` // fingerprint in force when it was requested; it acts on nothing else
	Before        string               `db:"before"`  // fingerprint found at the start
	Restores      bool                 `db:"restores"`
	Restored      bool                 `db:"restored"` // what was before it was read back
	MarkID        *int64               `db:"mark_id"`  // compared with
	NextID        *int64               `db:"next_id"`
	Verdict       evidence.Verdict     `db:"verdict"`
	Summary       string               `db:"summary"`
	Problem       string               `db:"problem"`
	StopAsked     bool                 `db:"stop_asked"`
	Attempt       int                  `db:"attempt"` // how often it was begun
	Handed        int                  `db:"handed"`  // how often it was handed to the queue
	ResumeAt      *time.Time           `db:"resume_at"`
	Measures      JSON[*measure.Scope] `db:"measures"` // what a measurement measures; nil of other runs
	Tidy          JSON[*schedule.Work] `db:"tidy"`     // what a tidy deletes again; nil of other runs
	RequestedBy   string               `db:"requested_by"`
	Despite       string               `db:"despite"` // why it goes out although the calendar says no
	CreatedAt     time.Time            `db:"created_at"`
	StartedAt     *time.Time           `db:"started_at"`
	FinishedAt    *time.Time           `db:"finished_at"`
	EvidenceGone  *time.Time           `db:"evidence_gone_at"` // its looks, loads and pictures were removed then
}

// TypicalSeconds is how long the latest runs like this one took, the middle of up to five that ended on its environment; of is 0 when there
// is none to go by.
func (s *Store) TypicalSeconds(ctx context.Context, r Run) (seconds float64, of int, err error) {
	type took struct {
		Seconds float64 `db:"seconds"`
		Of      int     `db:"of"`
	}
	t, err := one[took](ctx, s, "how long runs take", `SELECT COALESCE(percentile_cont(0.5) WITHIN GROUP (ORDER BY extract(epoch FROM finished_at - started_at)), 0)::float8 AS seconds, count(*)::int AS of
		FROM (SELECT started_at, finished_at FROM runs WHERE environment_id = $1 AND kind = $2 AND state = 'done' AND started_at IS NOT NULL AND id < $3 ORDER BY id DESC LIMIT 5) latest`, r.EnvironmentID, r.Kind, r.ID)
	return t.Seconds, t.Of, err
}

// NewRun records that a run is wanted. It is queued, unless it waits for another.
func (s *Store) NewRun(ctx context.Context, r Run) (int64, error) {
	if r.State == "" {
		r.State = release.Queued
	}
	return s.insert(ctx, "the run", `INSERT INTO runs (site_id, environment_id, change_id, kind, state, target, restores, mark_id, next_id, requested_by, measures, despite, tidy, expects)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14) RETURNING id`,
		r.SiteID, r.EnvironmentID, r.ChangeID, r.Kind, r.State, r.Target, r.Restores, r.MarkID, r.NextID, r.RequestedBy, r.Measures, r.Despite, r.Tidy, r.Expects)
}

// Run reads one run.
func (s *Store) Run(ctx context.Context, id int64) (Run, error) {
	return one[Run](ctx, s, fmt.Sprintf("run %d", id), `SELECT `+columns[Run]("")+` FROM runs WHERE id = $1`, id)
}

// Runs lists a site's runs, the latest first.
func (s *Store) Runs(ctx context.Context, siteID int64, limit int) ([]Run, error) {
	return many[Run](ctx, s, "the runs", `SELECT `+columns[Run]("")+` FROM runs WHERE site_id = $1 ORDER BY id DESC LIMIT $2`, siteID, limit)
}

// Leaves is the fingerprint that an open run leaves its environment with as far as that is known; "" while it is not.
func (r Run) Leaves() string {
	if r.Restores {
		return r.Before
	}
	return r.Target
}

// VerdictSince is what the newest look at an environment came to, whatever began it, from a run on; "" when none has been made.
func (s *Store) VerdictSince(ctx context.Context, envID, run int64) (evidence.Verdict, error) {
	v, err := one[evidence.Verdict](ctx, s, "the verdict", `SELECT verdict FROM runs WHERE environment_id = $1 AND id >= $2 AND verdict <> '' AND state NOT IN `+openStates+`
		AND kind IN ('promote', 'check', 'recheck', 'roll back') ORDER BY id DESC LIMIT 1`, envID, run)
	if errors.Is(err, ErrNotFound) {
		return "", nil
	}
	return v, err
}

// ChangeRuns lists a change's runs, the latest first.
func (s *Store) ChangeRuns(ctx context.Context, changeID int64) ([]Run, error) {
	return many[Run](ctx, s, "the runs", `SELECT `+columns[Run]("")+` FROM runs WHERE change_id = $1 ORDER BY id DESC`, changeID)
}

const openStates = `('queued', 'waiting', 'running', 'by hand', 'unknown')`

// OpenRuns lists the runs that have not ended, the oldest first.
func (s *Store) OpenRuns(ctx context.Context) ([]Run, error) {
	return many[Run](ctx, s, "the open runs", `SELECT `+columns[Run]("")+` FROM runs WHERE state IN `+openStates+` ORDER BY id`)
}

// OpenRunsOf lists those of one site.
func (s *Store) OpenRunsOf(ctx context.Context, siteID int64) ([]Run, error) {
	return many[Run](ctx, s, "the open runs", `SELECT `+columns[Run]("")+` FROM runs WHERE state IN `+openStates+` AND site_id = $1 ORDER BY id`, siteID)
}

// OpenRunOn is the oldest run that has not ended on an environment; ErrNotFound when
// there is none.
func (s *Store) OpenRunOn(ctx context.Context, envID int64) (Run, error) {
	return one[Run](ctx, s, "an open run", `SELECT `+columns[Run]("")+` FROM runs WHERE state IN `+openStates+` AND environment_id = $1 ORDER BY id LIMIT 1`, envID)
}

// LockRunsOf lets nobody else begin a run on an environment, or write what it has, until the transaction ends, so that two
// people cannot both find it idle.
func (s *Store) LockRunsOf(ctx context.Context, envID int64) error {
	return s.exec(ctx, "the environment", `SELECT id FROM environments WHERE id = $1 FOR NO KEY UPDATE`, envID)
}

// LockSite is that for all of a site's environments.
func (s *Store) LockSite(ctx context.Context, siteID int64) error {
	return s.exec(ctx, "the environments", `SELECT id FROM environments WHERE site_id = $1 ORDER BY id FOR NO KEY UPDATE`, siteID)
}

// LockRun reads a run that nobody else writes until the transaction ends.
func (s *Store) LockRun(ctx context.Context, id int64) (Run, error) {
	return one[Run](ctx, s, fmt.Sprintf("run %d", id), `SELECT `+columns[Run]("")+` FROM runs WHERE id = $1 FOR UPDATE`, id)
}

// LockChain locks a run and the one before it, that one first, as its end does.
func (s *Store) LockChain(ctx context.Context, id int64) error {
	return s.exec(ctx, "the run", `SELECT id FROM runs WHERE id = $1 OR next_id = $1 ORDER BY id = $1 FOR UPDATE`, id)
}

// KeepVerdicts lets nobody decide about the findings of a change's runs that are over until the transaction ends.
func (s *Store) KeepVerdicts(ctx context.Context, changeID int64) error {
	return s.exec(ctx, "the verdicts", `SELECT id FROM runs WHERE change_id = $1 AND state NOT IN `+openStates+` ORDER BY id FOR SHARE`, changeID)
}

// MoveRun lets an event happen to a run by the table of the core; the error is the
// table's when it cannot be.
func (s *Store) MoveRun(ctx context.Context, id int64, e release.RunEvent) (Run, error) {
	var r Run
	err := s.inTx(ctx, func(tx *sqlx.Tx) error {
		if err := tx.GetContext(ctx, &r, `SELECT `+columns[Run]("")+` FROM runs WHERE id = $1 FOR UPDATE`, id); err != nil {
			if errors.Is(err, sql.ErrNoRows) {
				return fmt.Errorf("run %d: %w", id, ErrNotFound)
			}
			return fmt.Errorf("read run %d: %w", id, err)
		}
		to, err := release.ApplyRun(r.State, e)
		if err != nil {
			return err
		}
		if err := tx.GetContext(ctx, &r, `UPDATE runs SET state = $2 WHERE id = $1 RETURNING `+columns[Run](""), id, to); err != nil {
			return fmt.Errorf("write the run's state: %w", err)
		}
		return nil
	})
	return r, err
}

// BeginRun says that a run is being worked on, once more, and throws away the looks that an earlier attempt that was cut off had
// gathered, but for those from before it acted, which cannot be made again.
func (s *Store) BeginRun(ctx context.Context, id int64) (Run, error) {
	var r Run
	err := s.Within(ctx, func(s *Store) error {
		// Whoever worked on it before and writes just now is waited for, and can write nothing after; see [Store.Fenced].
		if _, err := one[int](ctx, s, "the run", `SELECT attempt FROM runs WHERE id = $1 FOR UPDATE`, id); err != nil {
			return err
		}
		begun, err := s.MoveRun(ctx, id, release.RunBegins)
		if err != nil {
			return err
		}
		kept := 0 // passes count from 1
		if begun.Kind == release.PromoteRun {
			if mine, err := s.RunActs(ctx, id); err != nil {
				return err
			} else if len(mine) > 0 {
				kept = evidence.FirstEarlierPass
			}
		}
		if err := s.exec(ctx, "the looks", `DELETE FROM looks WHERE run_id = $1 AND pass <> $2`, id, kept); err != nil {
			return err
		}
		r, err = one[Run](ctx, s, "the run", `UPDATE runs SET attempt = attempt + 1, resume_at = NULL, started_at = coalesce(started_at, now()) WHERE id = $1 RETURNING `+columns[Run](""), id)
		return err
	})
	return r, err
}

// HandIn notes that a run is handed to the queue once more, and says how often it was: jobs of earlier times do nothing.
func (s *Store) HandIn(ctx context.Context, id int64) (Run, error) {
	return one[Run](ctx, s, "the run", `UPDATE runs SET handed = handed + 1 WHERE id = $1 RETURNING `+columns[Run](""), id)
}

// LostRuns lists the runs that are to be begun, or begun again, and for which no job is
// left that could do so: none is waiting, and a worker that took one has had the given
// time. Whether somebody works on one of them all the same, its lock tells.
func (s *Store) LostRuns(ctx context.Context, patience time.Duration) ([]Run, error) {
	return many[Run](ctx, s, "the runs", `SELECT `+columns[Run]("r")+` FROM runs r WHERE r.state IN ('queued', 'running') AND (r.resume_at IS NULL OR r.resume_at <= now())
		AND r.created_at < now() - make_interval(secs => $1) AND NOT EXISTS (
		SELECT FROM river_job j WHERE j.kind = 'run' AND (j.args->>'run')::bigint = r.id AND (j.args->>'handed')::int = r.handed
		AND (j.state IN ('available', 'scheduled', 'retryable', 'pending') OR j.state = 'running' AND j.attempted_at > now() - make_interval(secs => $1))) ORDER BY r.id`, patience.Seconds())
}

// AttemptFailed keeps why an attempt at a run failed, and from when it may be begun
// again.
func (s *Store) AttemptFailed(ctx context.Context, id int64, why string, again time.Duration) error {
	return s.exec(ctx, "the run", `UPDATE runs SET problem = $2, resume_at = now() + make_interval(secs => $3) WHERE id = $1`, id, why, again.Seconds())
}

// SaveProgress says what a run is doing now.
func (s *Store) SaveProgress(ctx context.Context, id int64, phase string, p RunProgress) error {
	return s.exec(ctx, "the progress", `UPDATE runs SET phase = $2, progress = $3 WHERE id = $1`, id, phase, JSON[RunProgress]{p})
}

// SaveBefore records what a run found in force and with which mark it compares.
func (s *Store) SaveBefore(ctx context.Context, id int64, before string, markID *int64) error {
	return s.exec(ctx, "the run", `UPDATE runs SET before = CASE WHEN before = '' THEN $2 ELSE before END, mark_id = coalesce($3, mark_id) WHERE id = $1`, id, before, markID)
}

// SaveTarget records what a run is to leave in force.
func (s *Store) SaveTarget(ctx context.Context, id int64, target string) error {
	return s.exec(ctx, "the run", `UPDATE runs SET target = $2 WHERE id = $1 AND target = ''`, id, target)
}

// SaveConclusion keeps what a run came to before its environment is restored.
func (s *Store) SaveConclusion(ctx context.Context, r Run) error {
	return s.exec(ctx, "the run", `UPDATE runs SET verdict = $2, summary = $3, problem = $4, target = CASE WHEN $5 = '' THEN target ELSE $5 END WHERE id = $1`, r.ID, r.Verdict, r.Summary, r.Problem, r.Target)
}

// SettledRuns lists the runs that waited until it was known what their act came to, and
// now it is.
func (s *Store) SettledRuns(ctx context.Context) ([]Run, error) {
	return many[Run](ctx, s, "the runs", `SELECT `+columns[Run]("r")+` FROM runs r WHERE r.state = 'unknown'
		AND NOT EXISTS (SELECT FROM acts a WHERE a.environment_id = r.environment_id AND a.state IN ('intended', 'unknown')) ORDER BY r.id`)
}

// EndRun records how a run ended; e says which end it is.
func (s *Store) EndRun(ctx context.Context, r Run, e release.RunEvent) error {
	return s.Within(ctx, func(s *Store) error {
		if _, err := s.MoveRun(ctx, r.ID, e); err != nil {
			return err
		}
		return s.exec(ctx, "the run", `UPDATE runs SET verdict = $2, summary = $3, problem = $4, restored = $5, target = CASE WHEN $6 = '' THEN target ELSE $6 END, phase = '', finished_at = now() WHERE id = $1`,
			r.ID, r.Verdict, r.Summary, r.Problem, r.Restored, r.Target)
	})
}

// Unchain lets the run before this one be followed by none.
func (s *Store) Unchain(ctx context.Context, id int64) error {
	return s.exec(ctx, "the run", `UPDATE runs SET next_id = NULL WHERE next_id = $1`, id)
}

// WishStop keeps that a person wants a run to stop.
func (s *Store) WishStop(ctx context.Context, id int64) error {
	return s.exec(ctx, "the run", `UPDATE runs SET stop_asked = true WHERE id = $1 AND state IN `+openStates, id)
}

// StopAsked tells whether a run has been asked to stop.
func (s *Store) StopAsked(ctx context.Context, id int64) (bool, error) {
	return one[bool](ctx, s, "the run", `SELECT stop_asked FROM runs WHERE id = $1`, id)
}

// SaveVerdict records a verdict that changed because a finding was accepted.
func (s *Store) SaveVerdict(ctx context.Context, runID int64, v evidence.Verdict, summary string) error {
	return s.exec(ctx, "the verdict", `UPDATE runs SET verdict = $2, summary = $3 WHERE id = $1`, runID, v, summary)
}

// LeftEdit is a test edit that a run published and did not take back.
type LeftEdit struct {
	Run  int64  `db:"id"`
	Test string `db:"test"`
}

// LeftEdits are the test edits that other runs on an environment left published, the oldest first.
func (s *Store) LeftEdits(ctx context.Context, envID, but int64) ([]LeftEdit, error) {
	return many[LeftEdit](ctx, s, "the edits that were left", `SELECT id, progress->>'editing' AS test FROM runs WHERE environment_id = $1 AND id <> $2 AND progress->>'editing' <> '' ORDER BY id`, envID, but)
}

// EditTakenBack records that what a run published is taken back.
func (s *Store) EditTakenBack(ctx context.Context, run int64) error {
	return s.exec(ctx, "the run", `UPDATE runs SET progress = progress - 'editing' WHERE id = $1`, run)
}
