package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"tidemarker/internal/core/release"
)

// Approval is what was asked and decided about a change going to production.
type Approval struct {
	ID          int64                 `db:"id"`
	SiteID      int64                 `db:"site_id"`
	ChangeID    int64                 `db:"change_id"`
	State       release.ApprovalState `db:"state"`
	Fingerprint string                `db:"fingerprint"`
	Production  string                `db:"production"`
	Words       string                `db:"words"`
	AskedBy     string                `db:"asked_by"`
	AskedAt     time.Time             `db:"asked_at"`
	DecidedBy   string                `db:"decided_by"`
	DecidedAt   *time.Time            `db:"decided_at"`
	Reason      string                `db:"reason"`
	Goes        bool                  `db:"goes"`
	Waits       string                `db:"waits"`
}

// ErrAsked says that an approval of a change is open.
var ErrAsked = errors.New("an approval of this change has been asked for. Wait for it, or withdraw it")

// NewApproval records that an approval is asked for; [ErrAsked] while another is open.
func (s *Store) NewApproval(ctx context.Context, a Approval) (int64, error) {
	id, err := s.insert(ctx, "the approval", `INSERT INTO approvals (site_id, change_id, state, fingerprint, production, words, asked_by) VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING id`,
		a.SiteID, a.ChangeID, release.Asked, a.Fingerprint, a.Production, a.Words, a.AskedBy)
	if pg, is := errors.AsType[*pgconn.PgError](err); is && pg.ConstraintName == "approvals_open" {
		return 0, ErrAsked
	}
	return id, err
}

// ApprovalOf is the newest approval of a change; [ErrNotFound] when none was asked for.
func (s *Store) ApprovalOf(ctx context.Context, changeID int64) (Approval, error) {
	return one[Approval](ctx, s, "an approval of the change", `SELECT `+columns[Approval]("")+` FROM approvals WHERE change_id = $1 ORDER BY id DESC LIMIT 1`, changeID)
}

// OpenApprovals are those of which something can still become, of a site or of all (0), the oldest first.
func (s *Store) OpenApprovals(ctx context.Context, siteID int64) ([]Approval, error) {
	return many[Approval](ctx, s, "the approvals", `SELECT `+columns[Approval]("")+` FROM approvals WHERE state IN ('asked', 'questioned', 'approved') AND ($1 = 0 OR site_id = $1) ORDER BY id`, siteID)
}

// TakeApproval reads an open approval and keeps it from others until the transaction ends; [ErrNotFound]
// when somebody else has it now, or it is not open any more.
func (s *Store) TakeApproval(ctx context.Context, id int64) (Approval, error) {
	return one[Approval](ctx, s, fmt.Sprintf("approval %d", id), `SELECT `+columns[Approval]("")+` FROM approvals WHERE id = $1 AND state IN ('asked', 'questioned', 'approved') FOR UPDATE SKIP LOCKED`, id)
}

// MoveApproval records what became of an approval, on condition that it still is in the state it
// was in; ok is false when it is not.
func (s *Store) MoveApproval(ctx context.Context, a Approval, from release.ApprovalState) (ok bool, err error) {
	return s.changed(ctx, "the approval", `UPDATE approvals SET state = $3, decided_by = $4, decided_at = CASE WHEN $4 = decided_by THEN decided_at ELSE now() END, reason = $5, goes = $6, waits = '' WHERE id = $1 AND state = $2`,
		a.ID, from, a.State, a.DecidedBy, a.Reason, a.Goes)
}

// ApprovalWaits records what an approval waits for that is to go out by itself.
func (s *Store) ApprovalWaits(ctx context.Context, id int64, why string) error {
	_, err := s.changed(ctx, "the approval", `UPDATE approvals SET waits = $2 WHERE id = $1 AND state = 'approved' AND waits <> $2`, id, why)
	return err
}

// Comment is what somebody said about a change, a run or a finding.
type Comment struct {
	ID        int64          `db:"id"`
	SiteID    int64          `db:"site_id"`
	ChangeID  *int64         `db:"change_id"`
	RunID     *int64         `db:"run_id"`
	FindingID *int64         `db:"finding_id"`
	Text      string         `db:"text"`
	Mentions  JSON[[]string] `db:"mentions"`
	Who       string         `db:"who"`
	At        time.Time      `db:"at"`
}

// AddComment records what somebody said.
func (s *Store) AddComment(ctx context.Context, c Comment) (int64, error) {
	return s.insert(ctx, "the comment", `INSERT INTO comments (site_id, change_id, run_id, finding_id, text, mentions, who) VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING id`,
		c.SiteID, c.ChangeID, c.RunID, c.FindingID, c.Text, c.Mentions, c.Who)
}

// mostComments is how many comments are read at once, the latest.
const mostComments = 500

// CommentsOn are the comments on a change with those on its runs and their findings, or on one run, in
// order; the latest 500.
func (s *Store) CommentsOn(ctx context.Context, changeID, runID int64) ([]Comment, error) {
	where, of := `c.run_id = $1`, runID
	if runID == 0 {
		where, of = `c.change_id = $1 OR c.run_id IN (SELECT id FROM runs WHERE change_id = $1)`, changeID
	}
	return many[Comment](ctx, s, "the comments", `SELECT * FROM (SELECT `+columns[Comment]("c")+` FROM comments c WHERE `+where+` ORDER BY c.id DESC LIMIT $2) latest ORDER BY id`, of, mostComments)
}

// GoingOut is a change whose promotion was begun, or that is approved to go out by itself.
type GoingOut struct {
	SiteID   int64     `db:"site_id"`
	SiteName string    `db:"site_name"`
	ChangeID int64     `db:"change_id"`
	Title    string    `db:"title"`
	Who      string    `db:"who"`
	At       time.Time `db:"at"`
	Done     bool      `db:"done"`
}

// GoingOut are the changes that were promoted since a moment and those that are approved to go out by themselves,
// on all sites, the latest first; a hundred at most.
func (s *Store) GoingOut(ctx context.Context, since time.Time) ([]GoingOut, error) {
	return many[GoingOut](ctx, s, "what goes out", `SELECT * FROM (
		SELECT r.site_id, s.name AS site_name, c.id AS change_id, c.title, r.requested_by AS who, max(r.created_at) AS at, true AS done
			FROM runs r JOIN changes c ON c.id = r.change_id JOIN sites s ON s.id = r.site_id WHERE r.kind = 'promote' AND r.created_at >= $1 GROUP BY 1, 2, 3, 4, 5
		UNION ALL SELECT a.site_id, s.name, c.id, c.title, a.decided_by, a.decided_at, false
			FROM approvals a JOIN changes c ON c.id = a.change_id JOIN sites s ON s.id = a.site_id WHERE a.state = 'approved' AND a.goes) all_of_them ORDER BY at DESC LIMIT 100`, since)
}
