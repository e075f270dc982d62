package run

import (
	"context"
	"fmt"

	"tidemarker/internal/core/release"
	"tidemarker/internal/store"
)

// takeMark looks twice and records a mark.
func (r *run) takeMark(ctx context.Context) error {
	i := r.inspection()
	m, out, err := i.TakeMark(ctx)
	if err != nil {
		return err
	}
	if err := r.stayed(ctx); err != nil {
		return err
	}
	m.Fingerprint, m.Who, r.row.Target = r.env.Fingerprint, r.row.RequestedBy, r.env.Fingerprint
	r.row.Verdict, r.row.Summary, r.mark = out.Verdict, out.Summary, &m
	return nil
}

// saveMark saves the mark that the run took.
func (r *run) saveMark(ctx context.Context, s *store.Store) error {
	if r.mark == nil {
		return nil
	}
	id, err := s.SaveMark(ctx, *r.mark)
	if r.row.Kind == release.MarkRun {
		r.row.Summary = fmt.Sprintf("Mark %d of %s: %s", id, r.env.Name, r.row.Summary)
	}
	return err
}

// stayed is an error when the environment has other settings than those that were looked at: nobody knows which look saw which.
func (r *run) stayed(ctx context.Context) error {
	if !r.able.Reads {
		return nil
	}
	env, _, err := r.Acts.ReadLocked(ctx, r.env.ID)
	if err == nil && env.Fingerprint != r.env.Fingerprint {
		err = fmt.Errorf("%s was changed outside Tide Marker while it was looked at", r.env.Name)
	}
	return err
}
