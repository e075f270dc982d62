package store

import (
	"context"
	"database/sql"
	"io/fs"

	"github.com/pressly/goose/v3"
)

// ArchivedTables are the tables that are in an archive and those that are not.
func ArchivedTables() (in, out []string) {
	for _, a := range archived {
		in = append(in, a.table)
	}
	return in, append([]string(nil), notArchived...)
}

// BackedUpTables are the tables that are in a backup and those that are not.
func BackedUpTables() (in, out []string) {
	return backedUpTables(), append([]string(nil), notBackedUp...)
}

// MigrateTo brings a database's schema to a version, forwards or back.
func MigrateTo(ctx context.Context, db *sql.DB, version int64) error {
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectPostgres, db, dir)
	if err != nil {
		return err
	}
	if _, err := p.DownTo(ctx, version); err != nil {
		return err
	}
	_, err = p.UpTo(ctx, version)
	return err
}
