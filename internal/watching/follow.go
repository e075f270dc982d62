package watching

import (
	"context"
	"errors"
	"fmt"
	"time"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/notice"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/watch"
	"tidemarker/internal/core/words"
	"tidemarker/internal/run"
	"tidemarker/internal/store"
)

// follow looks what became of a look that is under way, and of one whose findings people have judged since.
func (t *turn) follow(ctx context.Context, l *store.WatchLook) error {
	if l.RunID == nil || l.State != watch.Under && l.State != watch.Found {
		return nil
	}
	looked, err := t.s.Run(ctx, *l.RunID)
	if err != nil {
		return err
	}
	if l.State == watch.Found {
		if looked.Verdict == evidence.VerdictClear {
			l.State, l.Why = watch.Clear, "What was found was accepted as expected."
			return t.s.SaveWatchLook(ctx, *l)
		}
		return nil
	}
	if !looked.State.Over() {
		return nil
	}
	if watch.Result(looked.Verdict, nil) == watch.NotChecked {
		return t.notMade(ctx, l, looked.Summary)
	}
	if looked.Verdict == evidence.VerdictClear {
		l.State, l.Why = watch.Clear, looked.Summary
		return t.s.SaveWatchLook(ctx, *l)
	}
	if l.AskedAt == nil {
		now := t.now()
		l.AskedAt = &now
		if err := t.s.SaveWatchLook(ctx, *l); err != nil {
			return err
		}
		if looked.Verdict == evidence.VerdictBroken { // nobody is kept from it by what staging is busy with
			if err := t.sayFound(ctx, l, looked); err != nil {
				return err
			}
		}
	}
	there, asked, why, err := t.askStaging(ctx, l)
	if late := t.now().Sub(*l.AskedAt); err == nil && !asked && late >= patienceWithStaging {
		there, asked, why = nil, true, "it could not be looked at within "+words.Span(int(patienceWithStaging.Seconds()))+"."
	}
	if err != nil || !asked {
		return err
	}
	return t.hold(ctx, l, looked, there, why)
}

// patienceWithStaging is how long staging has to be looked at about what a look at production found.
const patienceWithStaging = 10 * time.Minute

// sayFound tells people what a look found, with the worst of it.
func (t *turn) sayFound(ctx context.Context, l *store.WatchLook, looked store.Run) error {
	rows, err := t.s.Findings(ctx, looked.ID)
	if err != nil {
		return err
	}
	var worst *int64
	for _, severity := range []evidence.Severity{evidence.Broken, evidence.Unsure} {
		for _, f := range rows {
			if worst == nil && f.State != "accepted" && f.Document.V.Severity == severity {
				worst = &f.ID
			}
		}
	}
	return errors.Join(t.s.Record(ctx, store.Event{SiteID: t.w.SiteID, EnvironmentID: &t.w.EnvironmentID, ChangeID: &t.w.ChangeID, RunID: l.RunID, FindingID: worst, Kind: "watch", Who: Us, Topic: notice.Broken,
		Text: fmt.Sprintf("A look of the watch of “%s” found something on %s. %s", t.change.Title, t.production.Name, looked.Summary)}), t.tell(ctx))
}

// askStaging looks at staging, which has the same settings and none of the site's news. asked is false while that goes on; why
// says why staging cannot tell.
func (t *turn) askStaging(ctx context.Context, l *store.WatchLook) (there []store.Finding, asked bool, why string, err error) {
	staging := t.envs.Staging
	if l.StagingRunID != nil {
		r, err := t.s.Run(ctx, *l.StagingRunID)
		switch {
		case err != nil || !r.State.Over():
			return nil, false, "", err
		case watch.Result(r.Verdict, nil) == watch.NotChecked:
			return nil, true, r.Summary, nil
		}
		there, err = t.s.Findings(ctx, r.ID)
		return there, true, "", err
	}
	switch {
	case t.envs.OnlyOne:
		return nil, true, "the site has none.", nil
	case staging.Fingerprint != t.w.Fingerprint:
		return nil, true, staging.Name + " has other settings by now.", nil
	}
	if _, err := t.s.LatestMark(ctx, staging.ID); errors.Is(err, store.ErrNotFound) {
		return nil, true, staging.Name + " has no mark.", nil
	} else if err != nil {
		return nil, false, "", err
	}
	id, err := t.Runner.StartIn(ctx, t.s, store.Run{SiteID: t.w.SiteID, EnvironmentID: staging.ID, ChangeID: &t.w.ChangeID, Kind: release.RecheckRun, RequestedBy: Us})
	if _, busy := run.Waits(err); busy {
		return nil, false, "", nil
	}
	if err != nil {
		return nil, false, "", err
	}
	l.StagingRunID = &id
	return nil, false, "", t.s.SaveWatchLook(ctx, *l)
}

// hold says of each finding of a look what it comes of, and whether the change goes back for it.
func (t *turn) hold(ctx context.Context, l *store.WatchLook, looked store.Run, there []store.Finding, why string) error {
	rows, err := t.s.Findings(ctx, looked.ID)
	if err != nil {
		return err
	}
	var elsewhere []evidence.Finding
	for _, f := range there {
		elsewhere = append(elsewhere, f.Document.V)
	}
	l.Held.V = nil
	for _, f := range rows {
		x := f.Document.V
		if x.Severity == evidence.Note || f.State == "accepted" {
			continue
		}
		blame, because := watch.Hold(x, elsewhere, why == "", why)
		l.Held.V = append(l.Held.V, watch.Late{Finding: f.ID, Title: x.Title, Page: x.Page, Kind: x.Kind, Weight: x.Severity, Blame: blame, Why: because})
	}
	l.State, l.Why = watch.Result(looked.Verdict, l.Held.V), looked.Summary
	if err := t.s.SaveWatchLook(ctx, *l); err != nil {
		return err
	}
	if l.State == watch.Found && looked.Verdict != evidence.VerdictBroken { // otherwise it was said at once
		if err := t.sayFound(ctx, l, looked); err != nil {
			return err
		}
	}
	return errors.Join(t.announce(ctx, l), t.tell(ctx))
}
