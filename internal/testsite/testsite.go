// Package testsite is a site for tests of what people do with one: Fernhollow on two environments, a database of its own, and
// nobody who looks or works runs off.
package testsite

import (
	"context"
	"errors"
	"log/slog"
	"testing"

	"github.com/stretchr/testify/require"

	"tidemarker/internal/act"
	"tidemarker/internal/browser"
	"tidemarker/internal/changes"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/inspect"
	"tidemarker/internal/run"
	"tidemarker/internal/speedlayer/kinds"
	"tidemarker/internal/standin"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

// Site is one for a test.
type Site struct {
	*testing.T
	Desk                *changes.Desk
	ID                  int64
	Staging, Production *standin.Instance
}

// New is a site whose environments were read. It ends with the test.
func New(t *testing.T) *Site {
	st, _ := testdb.New(t)
	return On(t, st)
}

// On is that in a database.
func On(t *testing.T, st *store.Store) *Site {
	quiet := slog.New(slog.DiscardHandler)
	acts := &act.Acts{Store: st, Kinds: kinds.All, Log: quiet}
	runner, err := run.New(acts, &inspect.Tools{Blobs: st, Browser: func() (*browser.Browser, error) { return nil, errors.New("nobody looks here") }}, quiet)
	require.NoError(t, err)
	first := &Site{T: t, Desk: &changes.Desk{Store: st, Acts: acts, Runner: runner}}
	return first.Beside("Fernhollow", standin.Fernhollow())
}

// Beside is another site of the same database.
func (s *Site) Beside(name string, of standin.Site) *Site {
	s.Helper()
	out := &Site{T: s.T, Desk: s.Desk}
	doc := site.Site{Name: name, Pages: []site.Page{{Path: "/", Class: "home", Personas: []string{site.Visitor}, Devices: []string{site.Phone}}}}
	for _, env := range []string{"staging", "production"} {
		inst, err := standin.Start(of, standin.Options{Environment: env, Addr: "127.0.0.1:0", Token: "secret"})
		require.NoError(s, err)
		s.Cleanup(func() { _ = inst.Close() }) // a test may have closed it
		doc.Environments = append(doc.Environments, site.Environment{Name: env, URL: inst.URL, Connector: &site.Connector{Kind: "http", URL: inst.ConnectorURL(), Token: "secret"}})
		out.Staging, out.Production = out.Production, inst
	}
	row, err := s.Desk.Store.SaveSite(s.Context(), doc, false, "tester")
	require.NoError(s, err)
	out.ID = row.ID
	require.NoError(s, s.Desk.Acts.ReadAll(s.Context()))
	return out
}

// Environments are the site's, by role, as they are known now.
func (s *Site) Environments() store.ByRole {
	s.Helper()
	envs, err := s.Desk.Store.EnvironmentsByRole(s.Context(), s.ID)
	require.NoError(s, err)
	return envs
}

// Ended is a run that was begun and has come to an end, without anybody having looked.
func (s *Site) Ended(ctx context.Context, r store.Run, verdict evidence.Verdict, found ...evidence.Finding) int64 {
	s.Helper()
	r.SiteID, r.RequestedBy = s.ID, "marin"
	id, err := s.Desk.Store.NewRun(ctx, r)
	require.NoError(s, err)
	s.End(ctx, id, verdict, found...)
	return id
}

// End lets a run come to its end with a verdict and findings.
func (s *Site) End(ctx context.Context, id int64, verdict evidence.Verdict, found ...evidence.Finding) {
	s.Helper()
	_, err := s.Desk.Store.BeginRun(ctx, id)
	require.NoError(s, err)
	require.NoError(s, s.Desk.Store.SaveFindings(ctx, id, found))
	require.NoError(s, s.Desk.Store.EndRun(ctx, store.Run{ID: id, Verdict: verdict, Summary: "It was " + string(verdict) + "."}, release.RunFinished))
}

// Marked says that environments were seen to work as they are.
func (s *Site) Marked(envs ...store.Environment) {
	s.Helper()
	for _, e := range envs {
		id := s.Ended(s.Context(), store.Run{EnvironmentID: e.ID, Kind: release.MarkRun}, evidence.VerdictClear)
		_, err := s.Desk.Store.SaveMark(s.Context(), store.Mark{EnvironmentID: e.ID, RunID: id, Fingerprint: e.Fingerprint, Who: "marin"})
		require.NoError(s, err)
	}
}

// Apply puts values on an environment as a run of a change does.
func (s *Site) Apply(e store.Environment, kind release.ActKind, c store.Change, runID int64) {
	s.Helper()
	ctx := s.Context()
	base, err := s.Desk.Store.Revision(ctx, s.ID, c.Base)
	require.NoError(s, err)
	values := base.With(c.Edits.V)
	target, err := s.Desk.Store.SaveRevision(ctx, s.ID, values)
	require.NoError(s, err)
	layer, err := s.Desk.Acts.Layer(e)
	require.NoError(s, err)
	o := s.Desk.Acts.Apply(ctx, act.Intent{Environment: e, Layer: layer, Values: values, Fingerprint: target, Kind: kind, Run: &runID, Change: &c.ID, Base: c.Base, Who: "marin"})
	require.True(s, release.Take(o, func() bool { return true }, func(error) bool { return false }, func(error) bool { return false }))
}

// Promoted is a change that both environments have and whose promotion was clear, with the run that promoted it.
func (s *Site) Promoted(title string, edits settings.Values) (store.Change, store.Run) {
	s.Helper()
	ctx, st := s.Context(), s.Desk.Store
	id, err := s.Desk.Begin(ctx, s.ID, changes.Words{Title: title}, edits, "marin")
	require.NoError(s, err)
	c, err := st.Change(ctx, id)
	require.NoError(s, err)
	envs := s.Environments()
	if _, err := st.LatestMark(ctx, envs.Production.ID); errors.Is(err, store.ErrNotFound) {
		s.Marked(envs.Staging, envs.Production)
	}
	before, err := st.LatestMark(ctx, envs.Production.ID)
	require.NoError(s, err)
	var promotion int64
	for _, e := range []store.Environment{envs.Staging, envs.Production} {
		kind, actKind := release.TryRun, release.ActTry
		if e.ID == envs.Production.ID {
			kind, actKind = release.PromoteRun, release.ActPromote
		}
		promotion = s.Ended(ctx, store.Run{EnvironmentID: e.ID, ChangeID: &id, Kind: kind, MarkID: &before.ID}, evidence.VerdictClear)
		s.Apply(e, actKind, c, promotion)
	}
	_, err = st.MoveChange(ctx, id, c.State, release.Marked, "Promoted.")
	require.NoError(s, err)
	s.Marked(s.Environments().Production)
	c, err = st.Change(ctx, id)
	require.NoError(s, err)
	r, err := st.Run(ctx, promotion)
	require.NoError(s, err)
	return c, r
}
