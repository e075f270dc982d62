package store

import (
	"context"
	"encoding/json"

	"github.com/jackc/pgx/v5"
)

// Signal is told to everybody who listens when something changed.
type Signal struct {
	Site   int64 `json:"site,omitempty"`
	Run    int64 `json:"run,omitempty"`
	Change int64 `json:"change,omitempty"`
	// Notices says that somebody has new ones.
	Notices bool `json:"notices,omitempty"`
}

const channel = "tidemarker"

// Tell sends a signal to every process that listens on this database.
func (s *Store) Tell(ctx context.Context, n Signal) error {
	raw, err := json.Marshal(n)
	if err != nil {
		return err
	}
	return s.exec(ctx, "a signal", `SELECT pg_notify($1, $2)`, channel, string(raw))
}

// Listen calls hear for every signal until the context ends or the connection is
// lost; it returns why.
func (s *Store) Listen(ctx context.Context, hear func(Signal)) error {
	conn, err := s.pinned.Acquire(ctx)
	if err != nil {
		return err
	}
	defer func() {
		// A connection that listened is not given back to the pool.
		_ = conn.Hijack().Close(context.WithoutCancel(ctx))
	}()
	if _, err := conn.Exec(ctx, "LISTEN "+pgx.Identifier{channel}.Sanitize()); err != nil {
		return err
	}
	for {
		got, err := conn.Conn().WaitForNotification(ctx)
		if err != nil {
			return err
		}
		var n Signal
		if json.Unmarshal([]byte(got.Payload), &n) == nil {
			hear(n)
		}
	}
}
