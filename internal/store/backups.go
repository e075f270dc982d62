package store

import (
	"context"
	"time"
)

// BackupLife is how long a recorded backup counts before something deletes data.
const BackupLife = 24 * time.Hour

// RecordBackup writes down that there is a backup of an environment, and where.
func (s *Store) RecordBackup(ctx context.Context, envID int64, place, who string) error {
	return s.exec(ctx, "the backup", `INSERT INTO backups (environment_id, place, who) VALUES ($1, $2, $3)`, envID, place, who)
}

// BackedUp tells whether a backup of an environment was recorded lately enough.
func (s *Store) BackedUp(ctx context.Context, envID int64) (bool, error) {
	return one[bool](ctx, s, "the backups", `SELECT EXISTS (SELECT FROM backups WHERE environment_id = $1 AND at > now() - make_interval(secs => $2))`, envID, BackupLife.Seconds())
}
