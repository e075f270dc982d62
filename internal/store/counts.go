package store

import "context"

// Count is how many there are of something, by its labels.
type Count struct {
	A string `db:"a"`
	B string `db:"b"`
	N int    `db:"n"`
}

// OpenRunCounts are the runs that are not over, by kind and state.
func (s *Store) OpenRunCounts(ctx context.Context) ([]Count, error) {
	return many[Count](ctx, s, "the runs", `SELECT kind AS a, state AS b, count(*) AS n FROM runs WHERE state IN `+openStates+` GROUP BY kind, state`)
}

// JobCounts are the jobs of the queue that are not over, by queue and state.
func (s *Store) JobCounts(ctx context.Context) ([]Count, error) {
	return many[Count](ctx, s, "the queue", `SELECT queue AS a, state::text AS b, count(*) AS n FROM river_job
		WHERE state NOT IN ('completed', 'cancelled', 'discarded') GROUP BY queue, state`)
}

// JobAges are the seconds for which the oldest job of each queue has waited that could be begun.
func (s *Store) JobAges(ctx context.Context) ([]Count, error) {
	return many[Count](ctx, s, "the queue", `SELECT queue AS a, '' AS b, greatest(0, extract(epoch FROM now() - min(scheduled_at)))::int AS n FROM river_job
		WHERE state = 'available' GROUP BY queue`)
}

// UnknownActs is how many environments there are of which it is not known what they have.
func (s *Store) UnknownActs(ctx context.Context) (int, error) {
	return one[int](ctx, s, "the acts", `SELECT count(*) FROM acts WHERE state IN ('intended', 'unknown')`)
}

// Answers is an error while the database does not answer.
func (s *Store) Answers(ctx context.Context) error { return s.Pool.Ping(ctx) }
