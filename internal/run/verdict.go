package run

import (
	"context"
	"errors"
	"fmt"
	"time"

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

// Reach says which findings one is accepted with.
type Reach string

// The reaches.
const (
	Place Reach = "place" // this finding alone
	Part  Reach = "part"  // the same difference on every page, for everybody, on every device
	Cause Reach = "cause" // all of the run that come of the same cause
)

// Acceptance is what somebody decides on a finding. It holds for this run, for all runs of
// the run's change, or for all of the site's until a day.
type Acceptance struct {
	Reach  Reach
	Change bool       // for all runs of the change
	Until  *time.Time // for all runs of the site, until this day
	Why    string
	Who    string
}

// longestDecision is for how long a difference can be accepted. Common practice: what was
// decided a year ago nobody remembers.
const longestDecision = 366 * 24 * time.Hour

// check tells why a finding cannot be accepted so.
func (a Acceptance) check(f evidence.Finding, r store.Run, now time.Time) error {
	lasting := a.Change || a.Until != nil
	switch {
	case f.Kind == evidence.NotCheckedKind:
		return &NotAccepted{Why: "What could not be looked at cannot be accepted. Look again instead."}
	case a.Why == "":
		return &NotAccepted{"Say why the difference is expected; the record needs it.", true}
	case r.State != release.Done:
		return &NotAccepted{Why: "The run has not come to a verdict; findings can be accepted when it has."}
	case lasting && !f.Kind.Lasts():
		return &NotAccepted{Why: "Private content shown to others can be accepted for one run only."}
	case a.Change && r.ChangeID == nil:
		return &NotAccepted{"This run is not one of a change. Say until which day the difference is accepted.", true}
	case a.Until != nil && a.Until.Before(now.Truncate(24*time.Hour)):
		return &NotAccepted{"That day is over. Give one from today on.", true}
	case a.Until != nil && a.Until.After(now.Add(longestDecision)):
		return &NotAccepted{"A difference can be accepted for a year at most.", true}
	}
	return nil
}

// lasting says for how long, in words.
func (a Acceptance) lasting() string {
	switch {
	case a.Until != nil:
		return " It holds until " + a.Until.Format("2 January 2006") + "."
	case a.Change:
		return " It holds for all runs of the change."
	}
	return ""
}

// AcceptFinding accepts a finding as expected and comes to a new verdict of its run. What is
// accepted for longer than the run is accepted in later ones by itself, as long as it is the
// very same difference.
func (w *Runner) AcceptFinding(ctx context.Context, id int64, a Acceptance) (runID int64, err error) {
	return deciding(ctx, w.Store, id, func(s *store.Store, f store.Finding, r store.Run) error {
		if err := a.check(f.Document.V, r, time.Now()); err != nil {
			return err
		}
		all, err := reached(ctx, s, f, a.Reach)
		if err != nil {
			return err
		}
		for _, x := range all {
			if err := s.AcceptFinding(ctx, x.ID, true, a.Who, a.Why); err != nil {
				return err
			}
			if !a.Change && a.Until == nil || !x.Document.V.Kind.Lasts() || a.Reach == Part && x.ID != f.ID {
				continue
			}
			d := store.Decision{SiteID: r.SiteID, FindingID: &x.ID, Difference: store.JSON[evidence.Accepted]{V: x.Document.V.AsAccepted(a.Reach == Part)}, Until: a.Until, Who: a.Who, Why: a.Why}
			if a.Change {
				d.ChangeID = r.ChangeID
			}
			if err := s.SaveDecision(ctx, d); err != nil {
				return err
			}
		}
		text := "Accepted as expected: " + f.Document.V.Title + ". " + a.Why + a.lasting()
		if n := len(all); n > 1 {
			text += fmt.Sprintf(" (and %d more %s)", n-1, map[Reach]string{Cause: "of the same cause", Part: "of the same part"}[a.Reach])
		}
		return decided(ctx, s, r, a.Who, text)
	})
}

// TakeBack takes back that a finding was accepted, and ends what was decided on it for
// longer than the run. With a reach it takes back what was accepted in the same act, too.
func (w *Runner) TakeBack(ctx context.Context, id int64, reach Reach, who string) (runID int64, err error) {
	return deciding(ctx, w.Store, id, func(s *store.Store, f store.Finding, r store.Run) error {
		all, err := reached(ctx, s, f, reach)
		if err != nil {
			return err
		}
		n := 0
		for _, x := range all {
			if x.ID != f.ID && (x.AcceptedBy != f.AcceptedBy || x.AcceptedWhy != f.AcceptedWhy) {
				continue // accepted by itself, or not at all
			}
			if err := errors.Join(s.AcceptFinding(ctx, x.ID, false, "", ""), s.EndDecisionsOn(ctx, x.ID, who)); err != nil {
				return err
			}
			n++
		}
		text := "Took back the acceptance of: " + f.Document.V.Title
		if n > 1 {
			text += fmt.Sprintf(" (and %d more)", n-1)
		}
		return decided(ctx, s, r, who, text)
	})
}

// deciding does something about a finding while nobody else decides about one of its run, so that the verdict follows from all
// decisions.
func deciding(ctx context.Context, s *store.Store, id int64, do func(*store.Store, store.Finding, store.Run) error) (runID int64, err error) {
	err = s.Within(ctx, func(s *store.Store) error {
		f, err := s.Finding(ctx, id)
		if err != nil {
			return err
		}
		runID = f.RunID
		r, err := s.LockRun(ctx, f.RunID)
		if err != nil {
			return err
		}
		if f, err = s.Finding(ctx, id); err != nil {
			return err
		}
		return do(s, f, r)
	})
	return runID, err
}

// decided comes to a new verdict after a decision, and records it.
func decided(ctx context.Context, s *store.Store, r store.Run, who, text string) error {
	v, summary, err := judgeAgain(ctx, s, r)
	if err != nil {
		return err
	}
	return errors.Join(s.SaveVerdict(ctx, r.ID, v, summary),
		s.Record(ctx, store.Event{SiteID: r.SiteID, ChangeID: r.ChangeID, RunID: &r.ID, Kind: "finding", Who: who, Text: text}),
		s.Tell(ctx, store.Signal{Site: r.SiteID, Run: r.ID}))
}

// acceptDecided accepts in a run what people decided before, and gives what the run comes
// to then.
func acceptDecided(ctx context.Context, s *store.Store, r store.Run) (evidence.Verdict, string, error) {
	decisions, err := s.DecisionsFor(ctx, r.SiteID, r.ChangeID)
	if err != nil || len(decisions) == 0 {
		return r.Verdict, r.Summary, err
	}
	rows, err := s.Findings(ctx, r.ID)
	if err != nil {
		return r.Verdict, r.Summary, err
	}
	n := 0
	for _, f := range rows {
		if d := f.Document.V; d.Severity == evidence.Note || !d.Kind.Lasts() || f.State == "accepted" {
			continue
		}
		for _, d := range decisions {
			if !d.Difference.V.Covers(f.Document.V) {
				continue
			}
			if err := s.AcceptFinding(ctx, f.ID, true, d.Who, d.Why); err != nil {
				return r.Verdict, r.Summary, err
			}
			n++
			break
		}
	}
	if n == 0 {
		return r.Verdict, r.Summary, nil
	}
	return judgeAgain(ctx, s, r)
}

// reached are the findings of a run that one is accepted with.
func reached(ctx context.Context, s *store.Store, f store.Finding, reach Reach) ([]store.Finding, error) {
	if reach != Cause && reach != Part {
		return []store.Finding{f}, nil
	}
	rows, err := s.Findings(ctx, f.RunID)
	everywhere := f.Document.V.AsAccepted(true)
	var out []store.Finding
	for _, x := range rows {
		d := x.Document.V
		of := reach == Cause && d.Cause == f.Document.V.Cause || reach == Part && everywhere.Covers(d)
		if of && d.Kind != evidence.NotCheckedKind && d.Severity != evidence.Note || x.ID == f.ID {
			out = append(out, x)
		}
	}
	return out, err
}

// judgeAgain comes to a verdict on the findings that are not accepted.
func judgeAgain(ctx context.Context, s *store.Store, r store.Run) (evidence.Verdict, string, error) {
	rows, err := s.Findings(ctx, r.ID)
	if err != nil {
		return "", "", err
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
	return v, summary, nil
}
