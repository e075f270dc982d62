package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// errPooled is why a server is refused that hands out its connections by the transaction.
var errPooled = errors.New("something in between shares its connections among programs, transaction by transaction, " +
	"so that locks and notices do not hold. Name the server itself in DATABASE_URL, or let the pooler keep a connection for each session")

// refusePooler is errPooled when two programs that are connected at once are served by the same process of the server, or
// one of them by several: what PostgreSQL never does, and poolers by transaction do.
func refusePooler(ctx context.Context, cfg *pgx.ConnConfig) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	plain := cfg.Copy()
	plain.DefaultQueryExecMode = pgx.QueryExecModeSimpleProtocol // poolers forget prepared statements
	var conns [2]*pgx.Conn
	for i := range conns {
		c, err := pgx.ConnectConfig(ctx, plain)
		if err != nil {
			return fmt.Errorf("%w. Check that the server runs and DATABASE_URL is right", err)
		}
		defer func() { _ = c.Close(context.WithoutCancel(ctx)) }()
		conns[i] = c
	}
	process := func(c *pgx.Conn) (pid int, err error) {
		err = c.QueryRow(ctx, `SELECT pg_backend_pid()`).Scan(&pid)
		return pid, err
	}
	first, err := process(conns[0])
	if err != nil {
		return err
	}
	tx, err := conns[1].Begin(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	for range 3 {
		second, err := process(conns[1])
		if err != nil {
			return err
		}
		if second == first {
			return errPooled
		}
		again, err := process(conns[0])
		if err != nil {
			return err
		}
		if again != first {
			return errPooled
		}
	}
	return nil
}
