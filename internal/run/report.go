package run

import (
	"context"
	"errors"
	"fmt"
	"time"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

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
