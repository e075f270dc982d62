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
// verdict of its run.
func (w *Runner) AcceptFinding(ctx context.Context, id int64, accepted bool, why, who string) (runID int64, err error) {
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
		if err := s.AcceptFinding(ctx, id, accepted, who, why); err != nil {
			return err
		}
		if err := rejudge(ctx, s, r); err != nil {
			return err
		}
		return errors.Join(
			s.Record(ctx, store.Event{SiteID: r.SiteID, ChangeID: r.ChangeID, RunID: &r.ID, Kind: "finding", Who: who, Text: text}),
			s.Tell(ctx, store.Notice{Site: r.SiteID, Run: r.ID}))
	})
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
