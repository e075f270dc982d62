package store

import (
	"database/sql/driver"
	"errors"
	"net"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
)

// Outage tells whether an error is the database's being away for a moment, so that the
// same thing may work when it is tried again.
func Outage(err error) bool {
	if pg, ok := errors.AsType[*pgconn.PgError](err); ok {
		// Classes of Appendix A of PostgreSQL's manual: connection exception, insufficient
		// resources, operator intervention, and two transactions that met.
		for _, class := range []string{"08", "53", "57", "40"} {
			if strings.HasPrefix(pg.Code, class) {
				return true
			}
		}
		return false
	}
	if _, ok := errors.AsType[*pgconn.ConnectError](err); ok {
		return true
	}
	if n, ok := errors.AsType[*net.OpError](err); ok {
		return n.Op == "dial" && strings.Contains(n.Net, "unix")
	}
	return errors.Is(err, driver.ErrBadConn) || pgconn.SafeToRetry(err)
}
