package run

import (
	"context"
	"errors"
	"fmt"
	"time"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/watch"
	"tidemarker/internal/core/words"
	"tidemarker/internal/inspect"
	"tidemarker/internal/store"
)

// now is what time it is to the calendar and to watches.
func (w *Runner) now() time.Time {
	if w.Clock == nil {
		return time.Now()
	}
	return w.Clock()
}

// planWatch plans how a promotion is watched, and comes once as somebody who will come again. What production does not keep is
// not watched.
func (r *run) planWatch(ctx context.Context, i *inspect.Inspection) error {
	at, _, _ := r.site.Environment(r.env.Name)
	period := r.site.Promotes().Watched()
	if r.row.Kind != release.PromoteRun || at.Role != site.Production || r.row.ChangeID == nil || r.row.Restores || r.row.Verdict == evidence.VerdictBroken || period == 0 {
		return nil
	}
	kept, err := i.KeepBrowser(ctx)
	if err != nil {
		return err
	}
	moments, err := i.Moments(ctx)
	if err != nil {
		return err
	}
	r.looks = watch.New(period, moments, watch.LivesOf(kept))
	r.watched = &store.Watch{SiteID: r.row.SiteID, EnvironmentID: r.env.ID, ChangeID: *r.row.ChangeID, RunID: r.row.ID, Fingerprint: r.env.Fingerprint, Kept: store.JSON[[]httpcache.Stored]{V: kept}}
	return nil
}

// beginWatch begins the watch of a promotion that has come to its end, with its looks.
func (r *run) beginWatch(ctx context.Context, s *store.Store, event release.RunEvent) error {
	if r.watched == nil || event != release.RunFinished {
		return nil
	}
	w := *r.watched
	w.BegunAt = r.now().UTC().Truncate(time.Second)
	w.EndsAt = w.BegunAt.Add(r.site.Promotes().Watched())
	if _, err := s.NewWatch(ctx, w, r.looks); err != nil {
		return err
	}
	return s.Record(ctx, store.Event{SiteID: w.SiteID, EnvironmentID: &w.EnvironmentID, ChangeID: &w.ChangeID, RunID: &w.RunID, Kind: "watch", Who: ourselves,
		Text: fmt.Sprintf("%s is watched for %s, with %d looks.", r.env.Name, words.Span(int(w.EndsAt.Sub(w.BegunAt).Seconds())), len(r.looks))})
}

// watchLook is what a look of a watch has to know; nil when the run looks for no watch.
func (r *run) watchLook(ctx context.Context) (*inspect.WatchLook, error) {
	w, err := r.Store.WatchOfLook(ctx, r.row.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	looks, err := r.Store.WatchLooks(ctx, w.ID)
	if err != nil {
		return nil, err
	}
	out := &inspect.WatchLook{Kept: w.Kept.V, At: r.now()}
	for _, l := range looks {
		if l.RunID != nil && *l.RunID == r.row.ID {
			out.Aged = l.Look.V.Aged()
		}
	}
	promotion, err := r.Store.Run(ctx, w.RunID)
	if err != nil || promotion.MarkID == nil {
		return out, err
	}
	m, err := r.Store.Mark(ctx, *promotion.MarkID)
	if err != nil {
		return out, err
	}
	if out.Before, err = r.Store.Baseline(ctx, m); err != nil {
		return out, err
	}
	out.Before = out.Before.WithSteady(r.site.Steady())
	return out, nil
}
