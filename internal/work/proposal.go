package work

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// Proposal is a set of values that may be put in force on an environment.
type Proposal struct {
	Environment store.Environment // as just read
	Difference  []settings.Difference
	Revision    string // fingerprint of all values, which are kept
}

// NotPossible says why values cannot be put in force on an environment.
type NotPossible struct{ Why string }

func (e *NotPossible) Error() string { return "Nothing was changed: " + e.Why }

// Propose reads an environment and keeps the values that edits would make of what it
// has. *NotPossible when they are not valid there, or when something newly stands in
// their way: a collision, a requirement, a host that lacks what they need.
func (w *Runner) Propose(ctx context.Context, envID int64, edits settings.Values) (Proposal, error) {
	env, found, err := w.Read(ctx, envID)
	if err != nil {
		return Proposal{}, err
	}
	if env.ConnectorKind == byHandKind {
		return Proposal{}, &NotPossible{"the settings of " + env.Name + " are changed by hand. Begin a change: it becomes a checklist"}
	}
	open, err := w.Store.OpenDrifts(ctx, env.SiteID)
	if err != nil {
		return Proposal{}, err
	}
	for _, d := range open {
		if d.EnvironmentID == envID {
			return Proposal{}, &NotPossible{driftText(env)}
		}
	}
	target := found.Values.With(edits)
	p := Proposal{Environment: env, Difference: settings.Diff(found.Values, target)}
	if err := env.Catalogue.V.Validate(target); err != nil {
		return p, &NotPossible{err.Error()}
	}
	if why := obstacles(env, found.Values, target); why != "" {
		return p, &NotPossible{why}
	}
	if len(env.Catalogue.V.Deletes(found.Values, target)) > 0 {
		backed, err := w.Store.BackedUp(ctx, envID)
		if err != nil {
			return p, err
		}
		if !backed {
			return p, &NotPossible{"it deletes data on " + env.Name + ", which no rollback brings back. Record a backup there first, in the change's view"}
		}
	}
	p.Revision, err = w.Store.SaveRevision(ctx, env.SiteID, target)
	return p, err
}

// obstacles are what newly stands in the way of a set of values, in words.
func obstacles(env store.Environment, before, target settings.Values) string {
	host := env.About.V.Facts.Host()
	already := map[string]bool{}
	for _, q := range env.Catalogue.V.Consequences(before, host) {
		already[q.Text] = true
	}
	var why []string
	for _, q := range env.Catalogue.V.Consequences(target, host) {
		if q.Blocks && !already[q.Text] {
			why = append(why, q.Text)
		}
	}
	return strings.Join(why, " ")
}

// EmptyReport is the report of something that was not looked at.
func EmptyReport(siteName, envName string, now time.Time) evidence.Report {
	return evidence.Report{Site: siteName, Environment: envName, StartedAt: now, FinishedAt: now, Verdict: evidence.VerdictNotChecked,
		Change: []settings.Difference{}, Findings: []evidence.Finding{}, Restored: true}
}

// Report is what a run that is over found, as a document.
func Report(ctx context.Context, st *store.Store, id int64) (evidence.Report, error) {
	r, err := st.Run(ctx, id)
	if err != nil {
		return evidence.Report{}, err
	}
	if !r.State.Over() {
		return evidence.Report{}, fmt.Errorf("run %d is not over yet", id)
	}
	s, err := st.Site(ctx, r.SiteID)
	if err != nil {
		return evidence.Report{}, err
	}
	env, err := st.Environment(ctx, r.EnvironmentID)
	if err != nil {
		return evidence.Report{}, err
	}
	rep := EmptyReport(s.Name, env.Name, r.CreatedAt.UTC())
	rep.Revision, rep.Verdict, rep.Summary, rep.Restored, rep.Looks = r.Target, r.Verdict, r.Summary, r.Restored, r.Progress.V.Looks
	if rep.Verdict == "" {
		rep.Verdict, rep.Summary = evidence.VerdictNotChecked, "Not checked: "+r.Problem
	}
	if r.StartedAt != nil {
		rep.StartedAt = r.StartedAt.UTC()
	}
	if r.FinishedAt != nil {
		rep.FinishedAt = r.FinishedAt.UTC()
	}
	if r.Before != "" && r.Target != "" {
		before, err := st.Revision(ctx, r.SiteID, r.Before)
		if err != nil {
			return rep, err
		}
		after, err := st.Revision(ctx, r.SiteID, r.Target)
		if err != nil {
			return rep, err
		}
		rep.Change = append(rep.Change, settings.Diff(before, after)...)
	}
	rows, err := st.Findings(ctx, r.ID)
	if err != nil {
		return rep, err
	}
	for _, f := range rows {
		rep.Findings = append(rep.Findings, f.Document.V)
	}
	if r.MarkID != nil {
		m, err := st.Mark(ctx, *r.MarkID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return rep, err
		}
		rep.ComparedWith = m.Fingerprint
	}
	return rep, nil
}
