package run

import (
	"context"
	"errors"
	"fmt"

	"tidemarker/internal/core/culprit"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/prediction"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/inspect"
	"tidemarker/internal/store"
)

// NoSearch says why what a run found cannot be searched for.
type NoSearch struct{ Why string }

func (e *NoSearch) Error() string { return e.Why }

// StartSearch begins to search for what in a change brought about what a run found. The error is
// a *[NoSearch] when that cannot be searched for.
func (w *Runner) StartSearch(ctx context.Context, ofRun int64, who string) (r store.Run, err error) {
	err = w.Store.Within(ctx, func(s *store.Store) error {
		r, err = w.StartSearchIn(ctx, s, ofRun, who)
		return err
	})
	return r, err
}

// StartSearchIn is StartSearch within the transaction that s is.
func (w *Runner) StartSearchIn(ctx context.Context, s *store.Store, ofRun int64, who string) (store.Run, error) {
	x, of, err := searchOf(ctx, s, ofRun)
	if err != nil {
		return store.Run{}, err
	}
	x.RunID, err = w.StartIn(ctx, s, store.Run{SiteID: of.SiteID, EnvironmentID: of.EnvironmentID, ChangeID: of.ChangeID, Kind: release.CulpritRun,
		Target: of.Target, Restores: true, MarkID: of.MarkID, RequestedBy: who})
	if err != nil {
		return store.Run{}, err
	}
	if err := s.SaveSearch(ctx, x); err != nil {
		return store.Run{}, err
	}
	return s.Run(ctx, x.RunID)
}

// searchUnasked begins a search when a change has just broken staging, and the site says that the
// culprit is searched for without being asked.
func (r *run) searchUnasked(ctx context.Context, s *store.Store) error {
	if !r.site.FindCulprit || r.row.Kind != release.TryRun || r.row.ChangeID == nil || r.row.Verdict != evidence.VerdictBroken {
		return nil
	}
	_, err := r.StartSearchIn(ctx, s, r.row.ID, r.row.RequestedBy)
	if _, none := errors.AsType[*NoSearch](err); none {
		return nil
	}
	return err
}

// none is why there is nothing to search.
func none(why string, args ...any) error { return &NoSearch{fmt.Sprintf(why, args...)} }

// searchable says what keeps what a run found on an environment from being searched for.
func searchable(of store.Run, env string, role site.Role) error {
	switch {
	case of.Kind != release.TryRun && of.Kind != release.CheckRun:
		return none("Run %d tried no change. Search what a try or a check found.", of.ID)
	case !of.State.Over():
		return none("Run %d is not over yet.", of.ID)
	case of.Verdict != evidence.VerdictBroken && of.Verdict != evidence.VerdictUnsure:
		return none("Run %d found nothing broken: there is nothing to search for.", of.ID)
	case role == site.Production:
		return none("Visitors are on %s, which does not alternate. Try the change on staging and search there.", env)
	}
	return nil
}

// searchOf is what there is to search about what a run found.
func searchOf(ctx context.Context, s *store.Store, ofRun int64) (store.Search, store.Run, error) {
	of, err := s.Run(ctx, ofRun)
	if err != nil {
		return store.Search{}, of, err
	}
	env, err := s.Environment(ctx, of.EnvironmentID)
	if err != nil {
		return store.Search{}, of, err
	}
	row, err := s.Site(ctx, of.SiteID)
	if err != nil {
		return store.Search{}, of, err
	}
	at, _, _ := row.Document.V.Environment(env.Name)
	if err := searchable(of, env.Name, at.Role); err != nil {
		return store.Search{}, of, err
	}
	found, err := findingsOf(ctx, s, ofRun)
	if err != nil {
		return store.Search{}, of, err
	}
	if _, any := inspect.Seek(found, false); !any {
		return store.Search{}, of, none("What run %d found shows only to somebody who was there before the change, or later on. That is not searched for.", ofRun)
	}
	mark := store.Mark{}
	if of.MarkID != nil {
		if mark, err = s.Mark(ctx, *of.MarkID); err != nil {
			return store.Search{}, of, err
		}
	}
	base, err := before(ctx, s, of, mark.Fingerprint)
	if err != nil {
		return store.Search{}, of, err
	}
	if base == "" {
		return store.Search{}, of, none("There are no earlier settings to return to.")
	}
	was, err := s.Revision(ctx, of.SiteID, base)
	if err != nil {
		return store.Search{}, of, err
	}
	is, err := s.Revision(ctx, of.SiteID, of.Target)
	if err != nil {
		return store.Search{}, of, err
	}
	parts := culprit.Parts(was, is)
	if env.Catalogue.V == nil {
		return store.Search{}, of, none("The settings of %s have not been read yet.", env.Name)
	}
	if len(parts) < 2 && !excludable(*env.Catalogue.V, parts) {
		return store.Search{}, of, none("The change has one edit only: it is the culprit.")
	}
	predicted, err := predictedOf(ctx, s, ofRun)
	if err != nil {
		return store.Search{}, of, err
	}
	p := store.SearchProblem{Parts: parts, Needs: culprit.NeedsOf(*env.Catalogue.V, env.About.V.Facts.Host(), was, parts), Likely: culprit.Likely(*env.Catalogue.V, parts, found, predicted), Most: mostAnswers}
	return store.Search{OfRunID: ofRun, Base: base, Problem: store.JSON[store.SearchProblem]{V: p}}, of, nil
}

// excludable tells whether something can be excluded from the only edit of a change, so that there is
// something to search for although the culprit is known.
func excludable(c settings.Catalogue, parts []culprit.Part) bool {
	if len(parts) != 1 || parts[0].Entry != "" {
		return false
	}
	d, _ := c.Find(parts[0].Key)
	return d.Active(parts[0].Value) && len(culprit.ExclusionLists(c, d.Role)) > 0
}

func findingsOf(ctx context.Context, s *store.Store, run int64) ([]evidence.Finding, error) {
	rows, err := s.Findings(ctx, run)
	out := make([]evidence.Finding, 0, len(rows))
	for _, f := range rows {
		out = append(out, f.Document.V)
	}
	return out, err
}

// predictedOf is what was predicted of a run and what became of it, nothing when nothing was.
func predictedOf(ctx context.Context, s *store.Store, run int64) ([]prediction.Held, error) {
	f, err := s.Predicted(ctx, run)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	return f.Record.V.Held, err
}
