package work

import (
	"context"
	"fmt"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/store"
)

// takeMark looks twice at an environment that nobody touches in between, so that what
// changes by itself is known from the start, and records a mark.
func (r *run) takeMark(ctx context.Context) error {
	plan := r.site.Plan(r.env.Name)
	for pass := 1; pass <= 2; pass++ {
		if err := r.clearAndWarm(ctx); err != nil {
			return err
		}
		if err := r.lookAt(ctx, plan, pass, nil); err != nil {
			return err
		}
		if err := r.probe(ctx, pass, nil); err != nil {
			return err
		}
	}
	if err := r.publish(ctx, nil); err != nil {
		return err
	}
	first, err := r.Store.Look(ctx, r.row.ID, 1)
	if err != nil {
		return err
	}
	second, err := r.Store.Look(ctx, r.row.ID, 2)
	if err != nil {
		return err
	}
	if err := complete(first, second); err != nil {
		return fmt.Errorf("no mark was taken: %w", err)
	}
	r.progress.say(ctx, "comparing", "Comparing the two looks")
	base, err := evidence.Learn(first, second, r.picture(ctx))
	if err != nil {
		return err
	}
	m := store.Mark{EnvironmentID: r.env.ID, RunID: r.row.ID, Fingerprint: r.env.Fingerprint, Who: r.row.RequestedBy, Reason: "Taken by looking twice."}
	for k, rest := range base.Restless {
		m.Restless.V = append(m.Restless.V, store.RestlessPage{Key: k, Restless: rest})
	}
	m.Probes.V = second.Probes
	id, err := r.Store.SaveMark(ctx, m)
	if err != nil {
		return err
	}
	r.row.Target = r.env.Fingerprint
	findings := evidence.Doubts(first, second)
	if err := r.Store.SaveFindings(ctx, r.row.ID, findings); err != nil {
		return err
	}
	r.row.Verdict = evidence.VerdictClear
	r.row.Summary = fmt.Sprintf("Mark %d of %s: %d looks, twice.", id, r.env.Name, plan.Size())
	if len(findings) > 0 {
		r.row.Verdict = evidence.VerdictUnsure
		r.row.Summary += fmt.Sprintf(" %d of its journeys and edits do not work as they are written; they prove nothing until they do.", len(findings))
	}
	return nil
}

// complete says which look is missing from two passes.
func complete(passes ...evidence.Look) error {
	for _, l := range passes {
		for _, p := range l.Pages {
			if p.Missing != "" {
				return fmt.Errorf("%s as %s on %s could not be looked at: %s", p.Page, p.Persona, p.Device, p.Missing)
			}
		}
		for _, j := range l.Journeys {
			if j.Missing != "" {
				return fmt.Errorf("the journey %q on %s could not be taken: %s", j.Journey, j.Device, j.Missing)
			}
		}
		for _, p := range l.Probes {
			if p.Missing != "" && p.Kind != evidence.Published { // an edit that cannot be published is a doubt
				return fmt.Errorf("%s could not be probed as %s: %s", p.Page, p.Persona, p.Missing)
			}
		}
	}
	return nil
}

// markFromCheck records a mark of an environment whose check was clear, with the
// check's own looks as evidence and what is known to change by itself.
func (r *run) markFromCheck(ctx context.Context, reason string) error {
	m := store.Mark{EnvironmentID: r.env.ID, RunID: r.row.ID, Fingerprint: r.env.Fingerprint, Who: r.row.RequestedBy, Reason: reason,
		Restless: r.baseMark.Restless, Probes: r.baseMark.Probes}
	_, err := r.Store.SaveMark(ctx, m)
	return err
}
