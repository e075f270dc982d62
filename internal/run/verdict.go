package run

import (
	"context"
	"errors"
	"fmt"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/store"
)

// NotAccepted says why a finding cannot be accepted.
type NotAccepted struct {
	Why     string
	Lacking bool // what was said is not enough; otherwise it cannot be done now
}

func (e *NotAccepted) Error() string { return e.Why }

// AcceptFinding accepts a finding as expected, or takes that back, and comes to a new
// verdict of its run. With cause it does so for all findings of the same cause, but for
// what could not be looked at.
func (w *Runner) AcceptFinding(ctx context.Context, id int64, accepted, cause bool, why, who string) (runID int64, err error) {
	f, err := w.Store.Finding(ctx, id)
	if err != nil {
		return 0, err
	}
	r, err := w.Store.Run(ctx, f.RunID)
	if err != nil {
		return 0, err
	}
	switch {
	case f.Document.V.Kind == evidence.NotCheckedKind && accepted:
		return 0, &NotAccepted{Why: "What could not be looked at cannot be accepted. Look again instead."}
	case accepted && why == "":
		return 0, &NotAccepted{"Say why the difference is expected; the record needs it.", true}
	case r.State != release.Done:
		return 0, &NotAccepted{Why: "The run has not come to a verdict; findings can be accepted when it has."}
	}
	text := "Took back the acceptance of: " + f.Document.V.Title
	if accepted {
		text = "Accepted as expected: " + f.Document.V.Title + ". " + why
	}
	return r.ID, w.Store.Within(ctx, func(s *store.Store) error {
		all := []int64{id}
		if cause {
			if all, err = ofOneCause(ctx, s, f); err != nil {
				return err
			}
		}
		for _, id := range all {
			if err := s.AcceptFinding(ctx, id, accepted, who, why); err != nil {
				return err
			}
		}
		if n := len(all); n > 1 {
			text += fmt.Sprintf(" (and %d more of the same cause)", n-1)
		}
		if err := rejudge(ctx, s, r); err != nil {
			return err
		}
		return errors.Join(
			s.Record(ctx, store.Event{SiteID: r.SiteID, ChangeID: r.ChangeID, RunID: &r.ID, Kind: "finding", Who: who, Text: text}),
			s.Tell(ctx, store.Notice{Site: r.SiteID, Run: r.ID}))
	})
}

// ofOneCause are the findings of a run that have the cause of one of them and weigh something.
func ofOneCause(ctx context.Context, s *store.Store, f store.Finding) ([]int64, error) {
	rows, err := s.Findings(ctx, f.RunID)
	var out []int64
	for _, x := range rows {
		if d := x.Document.V; d.Cause == f.Document.V.Cause && d.Kind != evidence.NotCheckedKind && d.Severity != evidence.Note {
			out = append(out, x.ID)
		}
	}
	return out, err
}

// rejudge comes to a verdict on the findings that are not accepted.
func rejudge(ctx context.Context, s *store.Store, r store.Run) error {
	rows, err := s.Findings(ctx, r.ID)
	if err != nil {
		return err
	}
	var open []evidence.Finding
	for _, f := range rows {
		if f.State != "accepted" {
			open = append(open, f.Document.V)
		}
	}
	v := evidence.Judge(open, r.Progress.V.Looks)
	summary := evidence.Summarise(v, open, r.Progress.V.Looks)
	if n := len(rows) - len(open); n > 0 {
		summary += fmt.Sprintf(" %d accepted as expected.", n)
	}
	return s.SaveVerdict(ctx, r.ID, v, summary)
}
