package store

import (
	"context"
	"fmt"
	"time"

	"tidemarker/internal/core/audit"
	"tidemarker/internal/core/notice"
)

// Event is one line of a site's history.
type Event struct {
	ID            int64     `db:"id"`
	SiteID        int64     `db:"site_id"`
	EnvironmentID *int64    `db:"environment_id"`
	ChangeID      *int64    `db:"change_id"`
	RunID         *int64    `db:"run_id"`
	Kind          string    `db:"kind"`
	Text          string    `db:"text"`
	Who           string    `db:"who"`
	At            time.Time `db:"at"`

	// Of a line that is recorded: what people are told of it, if anything, and who, where it is for some of them only.
	Topic     notice.Topic `db:"-"`
	For       []string     `db:"-"`
	FindingID *int64       `db:"-"`
}

// Record adds a line to a site's history, and tells people of it when it has a topic.
func (s *Store) Record(ctx context.Context, e Event) error {
	if e.Topic != "" {
		if err := s.Notify(ctx, e); err != nil {
			return err
		}
	}
	return s.exec(ctx, "the history", `INSERT INTO history (site_id, environment_id, change_id, run_id, kind, text, who) VALUES ($1, $2, $3, $4, $5, $6, $7)`,
		e.SiteID, e.EnvironmentID, e.ChangeID, e.RunID, e.Kind, e.Text, e.Who)
}

// HistoryFilter says which lines of a history are meant; what is empty leaves nothing out.
type HistoryFilter struct {
	Who           string // a person, whether they acted by a token or themselves
	Kind          string
	EnvironmentID int64
	From, To      time.Time // From counts, To does not
}

// historyWhere are the lines that a filter means: of site $1, before number $2, with the filter in $3 to $7.
const historyWhere = ` FROM history WHERE site_id = $1 AND ($2 = 0 OR id < $2) AND ($3 = '' OR who = $3 OR starts_with(who, $3 || ' (token ')) AND ($4 = '' OR kind = $4)
	AND ($5 = 0 OR environment_id = $5) AND ($6::timestamptz IS NULL OR at >= $6) AND ($7::timestamptz IS NULL OR at < $7)`

func (f HistoryFilter) args(siteID, before int64) []any {
	never := func(t time.Time) *time.Time {
		if t.IsZero() {
			return nil
		}
		return &t
	}
	return []any{siteID, before, f.Who, f.Kind, f.EnvironmentID, never(f.From), never(f.To)}
}

// History lists a site's history, the latest first, a page of it before a number (0
// for the newest).
func (s *Store) History(ctx context.Context, siteID, before int64, limit int) ([]Event, error) {
	return s.HistoryOf(ctx, siteID, HistoryFilter{}, before, limit)
}

// HistoryOf is [Store.History] of the lines that a filter means.
func (s *Store) HistoryOf(ctx context.Context, siteID int64, f HistoryFilter, before int64, limit int) ([]Event, error) {
	return many[Event](ctx, s, "the history", `SELECT `+columns[Event]("")+historyWhere+` ORDER BY id DESC LIMIT $8`, append(f.args(siteID, before), limit)...)
}

// HistoryKnown is what a site's history can be filtered by.
type HistoryKnown struct {
	Who   []string
	Kinds []string
}

// HistoryKnown lists who is named in a site's history, and kinds of lines.
func (s *Store) HistoryKnown(ctx context.Context, siteID int64) (k HistoryKnown, err error) {
	if k.Who, err = many[string](ctx, s, "the history", `SELECT who FROM (SELECT DISTINCT split_part(who, ' (token ', 1) AS who FROM history WHERE site_id = $1) everybody ORDER BY lower(who)`, siteID); err != nil {
		return k, err
	}
	k.Kinds, err = many[string](ctx, s, "the history", `SELECT DISTINCT kind FROM history WHERE site_id = $1 ORDER BY 1`, siteID)
	return k, err
}

// chainSQL is a chain in its order, each place with its entry: one without the other, too. What is about no site is
// scope 0, in another table.
const chainSQL = `SELECT $1::bigint AS scope, coalesce(c.seq, 0) AS seq, coalesce(h.id, 0) AS id, h.change_id, h.run_id, coalesce(h.kind, '') AS kind, coalesce(h.text, '') AS text,
	coalesce(h.who, '') AS who, coalesce(h.at, 'epoch') AS at, coalesce(c.hash, '') AS hash
	FROM (SELECT seq, entry, hash FROM history_chain WHERE scope = $1) c
	FULL JOIN (SELECT id, change_id, run_id, kind, text, who, at FROM history WHERE site_id = $1
		UNION ALL SELECT id, NULL, NULL, 'team', text, who, at FROM team_history WHERE $1 = 0) h ON h.id = c.entry
	ORDER BY c.seq NULLS LAST, h.id`

// FollowChain reads the history of a site, or what is about none (0), in the order of its chain.
func (s *Store) FollowChain(ctx context.Context, scope int64, take func(audit.Entry) error) error {
	rows, err := s.db.QueryxContext(ctx, chainSQL, scope)
	if err != nil {
		return fmt.Errorf("read the history: %w", err)
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var e audit.Entry
		if err := rows.StructScan(&e); err != nil {
			return fmt.Errorf("read the history: %w", err)
		}
		if err := take(e); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return fmt.Errorf("read the history: %w", err)
	}
	return nil
}

// VerifyChain holds the history of a site, or what is about none (0), against its chain.
func (s *Store) VerifyChain(ctx context.Context, scope int64) (c audit.Chain, err error) {
	err = s.FollowChain(ctx, scope, func(e audit.Entry) error { c.Follow(e); return nil })
	return c, err
}

// InForceAt is the act by which an environment had its settings at a moment; [ErrNotFound] when nothing is recorded of that time. What nobody
// knew then is not among it: an act counts from when its outcome was known.
func (s *Store) InForceAt(ctx context.Context, envID int64, at time.Time) (Act, error) {
	return one[Act](ctx, s, "what the environment had then", `SELECT `+columns[Act]("")+` FROM acts WHERE environment_id = $1 AND state = 'applied' AND ended_at <= $2 ORDER BY ended_at DESC, id DESC LIMIT 1`, envID, at)
}

// UnknownAt tells whether it was not known at a moment what an environment has: an act had been begun and its outcome was not known.
func (s *Store) UnknownAt(ctx context.Context, envID int64, at time.Time) (bool, error) {
	return one[bool](ctx, s, "what was under way then", `SELECT EXISTS (SELECT 1 FROM acts WHERE environment_id = $1 AND intended_at <= $2 AND (ended_at IS NULL OR ended_at > $2))`, envID, at)
}
