package inspect

import (
	"context"
	"fmt"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/store"
)

// TakeMark looks twice at an environment that nobody touches in between, so that what
// changes by itself is known from the start. The mark is not recorded yet.
func (r *Inspection) TakeMark(ctx context.Context) (store.Mark, Result, error) {
	plan := r.Site.Plan(r.Env.Name)
	for pass := 1; pass <= 2; pass++ {
		if err := r.clearAndWarm(ctx); err != nil {
			return store.Mark{}, Result{}, err
		}
		if err := r.lookAt(ctx, plan, pass, nil); err != nil {
			return store.Mark{}, Result{}, err
		}
		if err := r.probe(ctx, pass, nil); err != nil {
			return store.Mark{}, Result{}, err
		}
		if err := r.followLinks(ctx, pass, nil); err != nil {
			return store.Mark{}, Result{}, err
		}
	}
	if err := r.publish(ctx, nil); err != nil {
		return store.Mark{}, Result{}, err
	}
	if err := r.MeasureLittle(ctx, measure.After); err != nil {
		return store.Mark{}, Result{}, err
	}
	first, err := r.Store.Look(ctx, r.Run, 1)
	if err != nil {
		return store.Mark{}, Result{}, err
	}
	second, err := r.Store.Look(ctx, r.Run, 2)
	if err != nil {
		return store.Mark{}, Result{}, err
	}
	if err := complete(first, second); err != nil {
		return store.Mark{}, Result{}, fmt.Errorf("no mark was taken: %w", err)
	}
	r.Progress.Say(ctx, "comparing", "Comparing the two looks")
	base, err := evidence.Learn(first, second, r.picture(ctx))
	if err != nil {
		return store.Mark{}, Result{}, err
	}
	m := store.Mark{EnvironmentID: r.EnvID, RunID: r.Run, Reason: "Taken by looking twice."}
	for k, v := range base.Volatile {
		m.Volatile.V = append(m.Volatile.V, store.VolatilePage{Key: k, Volatile: v})
	}
	m.Probes.V = second.Probes
	out, err := r.doubts(ctx, first, second, plan.Size())
	return m, out, err
}

// doubts are what is wrong with the test plan itself, seen while a mark was taken.
func (r *Inspection) doubts(ctx context.Context, first, second evidence.Look, size int) (Result, error) {
	out := Result{Verdict: evidence.VerdictClear, Summary: fmt.Sprintf("%d looks, twice.", size), Findings: append(evidence.Doubts(first, second), r.leftFindings()...)}
	if n := len(out.Findings) - len(r.leftFindings()); n > 0 {
		out.Verdict = evidence.VerdictUnsure
		out.Summary += fmt.Sprintf(" %d of its journeys and publishing tests do not work as they are written; they prove nothing until they do.", n)
	}
	if len(r.left) > 0 {
		out.Verdict = evidence.VerdictUnsure
		out.Summary += " A publishing test could not be taken back."
	}
	return out, r.Store.SaveFindings(ctx, r.Run, out.Findings)
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
