package changes_test

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/run"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
	"tidemarker/internal/testsite"
)

// crowd is several people at one change that was checked on staging and found clear.
type crowd struct {
	*testing.T
	*changes.Desk
	of      *testsite.Site
	orders  *testdb.Orders
	n       int
	envs    store.ByRole
	c       store.Change
	try     int64
	finding []store.Finding // of its check, each of which was accepted
}

var crowdEdits = settings.Values{"markup.compact": true}

func newCrowd(t *testing.T) *crowd {
	t.Parallel()
	orders := testdb.NewOrders(t)
	of := testsite.On(t, orders.Store)
	now, etag := of.Staging.Layer.Settings()
	_, ok := of.Staging.Layer.Replace(now.With(crowdEdits), etag)
	require.True(t, ok)
	return &crowd{T: t, Desk: of.Desk, of: of, orders: orders}
}

// again is another site with such a change, with the environments of the one before.
func (b *crowd) again() {
	b.Helper()
	ctx, s := b.Context(), b.Store
	b.n++
	doc := site.Site{Name: fmt.Sprintf("Fernhollow %d", b.n), Pages: []site.Page{{Path: "/", Class: "home", Personas: []string{site.Visitor}, Devices: []string{site.Phone}}}}
	for _, e := range []struct {
		name string
		url  string
		at   string
	}{{"staging", b.of.Staging.URL, b.of.Staging.ConnectorURL()}, {"production", b.of.Production.URL, b.of.Production.ConnectorURL()}} {
		doc.Environments = append(doc.Environments, site.Environment{Name: e.name, URL: e.url, Connector: &site.Connector{Kind: "http", URL: e.at, Token: "secret"}})
	}
	row, err := s.SaveSite(ctx, doc, false, "tester")
	require.NoError(b, err)
	_, err = b.ReadNow(ctx, row.ID)
	require.NoError(b, err)
	b.envs, err = s.EnvironmentsByRole(ctx, row.ID)
	require.NoError(b, err)
	id, err := b.Begin(ctx, row.ID, changes.Words{Title: "Compact"}, crowdEdits, "marin")
	require.NoError(b, err)
	ended := func(r store.Run, found ...evidence.Finding) int64 {
		r.SiteID, r.RequestedBy = row.ID, "marin"
		run, err := s.NewRun(ctx, r)
		require.NoError(b, err)
		b.of.End(ctx, run, evidence.VerdictClear, found...)
		return run
	}
	for _, e := range []store.Environment{b.envs.Staging, b.envs.Production} {
		_, err := s.SaveMark(ctx, store.Mark{EnvironmentID: e.ID, RunID: ended(store.Run{EnvironmentID: e.ID, Kind: release.MarkRun}), Fingerprint: e.Fingerprint, Who: "marin"})
		require.NoError(b, err)
	}
	broken := func(of string) evidence.Finding {
		return evidence.Finding{Kind: evidence.PictureKind, Fingerprint: of, Cause: of, Page: "/", Title: of, Severity: evidence.Broken}
	}
	b.try = ended(store.Run{EnvironmentID: b.envs.Staging.ID, ChangeID: &id, Kind: release.TryRun, Target: b.envs.Staging.Fingerprint}, broken("menu"), broken("notice"))
	require.NoError(b, s.SaveProgress(ctx, b.try, "", store.RunProgress{Looks: evidence.Progress{Planned: 1, Done: 1}}))
	b.finding, err = s.Findings(ctx, b.try)
	require.NoError(b, err)
	for _, f := range b.finding {
		_, err := b.Runner.AcceptFinding(ctx, f.ID, run.Acceptance{Who: "vera", Why: "meant"})
		require.NoError(b, err)
	}
	require.NoError(b, s.RecordAct(ctx, store.Act{EnvironmentID: b.envs.Staging.ID, RunID: &b.try, ChangeID: &id, Kind: release.ActTry, Fingerprint: b.envs.Staging.Fingerprint,
		Predecessor: b.envs.Production.Fingerprint, Base: b.envs.Production.Fingerprint, Who: "marin"}))
	moved, err := s.MoveChange(ctx, id, release.Drafted, release.Checked, "Checked.")
	require.NoError(b, err)
	require.True(b, moved)
	b.c, err = s.Change(ctx, id)
	require.NoError(b, err)
}

// runOf is the kind of run that a change in a state waits for.
var runOf = map[release.State]release.RunKind{release.Trying: release.TryRun, release.Promoting: release.PromoteRun, release.RollingBack: release.RollBackRun}

// consistent says that the record does not contradict itself.
func (b *crowd) consistent(who string) {
	b.Helper()
	ctx, s := b.Context(), b.Store
	c, err := s.Change(ctx, b.c.ID)
	require.NoError(b, err)
	base, err := s.Revision(ctx, c.SiteID, c.Base)
	require.NoError(b, err)
	target, err := base.With(c.Edits.V).Fingerprint()
	require.NoError(b, err)
	runs, err := s.ChangeRuns(ctx, c.ID)
	require.NoError(b, err)
	open := map[release.RunKind]int{}
	for _, r := range runs {
		if r.State.Over() {
			continue
		}
		open[r.Kind]++
		if r.Kind == release.TryRun || r.Kind == release.PromoteRun {
			require.Equal(b, target, r.Target, "%s: the %s is of other settings than the change has", who, r.Kind)
		}
		if r.Kind == release.PromoteRun {
			production, err := s.Environment(ctx, r.EnvironmentID)
			require.NoError(b, err)
			require.Equal(b, c.Base, production.Fingerprint, "%s: promoted onto what it was not checked against", who)
		}
	}
	want := map[release.RunKind]int{}
	if kind, moving := runOf[c.State]; moving {
		want[kind] = 1
	}
	require.Equal(b, want, open, "%s: the change is %s", who, c.State)
	try, err := s.Run(ctx, b.try)
	require.NoError(b, err)
	rows, err := s.Findings(ctx, b.try)
	require.NoError(b, err)
	left := 0
	for _, f := range rows {
		if f.State != "accepted" {
			left++
		}
	}
	require.Equal(b, map[bool]evidence.Verdict{true: evidence.VerdictClear, false: evidence.VerdictBroken}[left == 0], try.Verdict, "%s: %d findings are open", who, left)
}

// doing is one thing that somebody does to the change as it is kept when they begin.
type doing struct {
	name string
	do   func(ctx context.Context, b *crowd) error
}

func (b *crowd) words() changes.Words { return changes.Words{Title: "Compact"} }

var (
	edits = doing{"edits", func(ctx context.Context, b *crowd) error {
		return b.Edit(ctx, b.c.ID, b.c.Version, b.words(), settings.Values{"images.lazy": true}, "vera")
	}}
	tries    = doing{"tries", func(ctx context.Context, b *crowd) error { return b.Try(ctx, b.c.ID, "marin") }}
	promotes = doing{"promotes", func(ctx context.Context, b *crowd) error { return b.Promote(ctx, b.c.ID, vera, "") }}
	rolls    = doing{"rolls back", func(ctx context.Context, b *crowd) error { return b.RollBack(ctx, b.c.ID, false, "odon") }}
	expects  = doing{"expects", func(ctx context.Context, b *crowd) error { return b.Expect(ctx, b.c.ID, nil, "iris") }}
	moves    = doing{"changes production outside, which is accepted", func(ctx context.Context, b *crowd) error {
		return b.Store.Within(ctx, func(s *store.Store) error {
			if err := s.LockSite(ctx, b.c.SiteID); err != nil {
				return err
			}
			open, err := s.OpenRunsOf(ctx, b.c.SiteID)
			if err != nil || len(open) > 0 {
				return err
			}
			return s.SaveFingerprint(ctx, b.envs.Production.ID, b.envs.Staging.Fingerprint[1:]+"0")
		})
	}}
	stops = doing{"stops what is queued", func(ctx context.Context, b *crowd) error {
		runs, err := b.Store.OpenRunsOf(ctx, b.c.SiteID)
		if err != nil || len(runs) == 0 {
			return err
		}
		return b.Runner.Stop(ctx, runs[0].ID)
	}}
	takesBack = doing{"takes an acceptance back", func(ctx context.Context, b *crowd) error {
		_, err := b.Runner.TakeBack(ctx, b.finding[0].ID, "", "iris")
		return err
	}}
	takesOther = doing{"takes another back", func(ctx context.Context, b *crowd) error {
		_, err := b.Runner.TakeBack(ctx, b.finding[1].ID, "", "odon")
		return err
	}}
	acceptsIt = doing{"takes it back and accepts it again", func(ctx context.Context, b *crowd) error {
		if _, err := b.Runner.TakeBack(ctx, b.finding[1].ID, "", "odon"); err != nil {
			return err
		}
		_, err := b.Runner.AcceptFinding(ctx, b.finding[1].ID, run.Acceptance{Who: "odon", Why: "meant"})
		return err
	}}
)

// TestWhoeverComesFirstTheRecordDoesNotContradictItself lets people do things at once, in all short orders of their statements and in
// random ones; TIDEMARKER_ORDERS is how many of those there are of each.
func TestWhoeverComesFirstTheRecordDoesNotContradictItself(t *testing.T) {
	random, switches := 3, 1
	if n, err := strconv.Atoi(os.Getenv("TIDEMARKER_ORDERS")); err == nil {
		random, switches = n, 2
	}
	for i, together := range [][]doing{
		{edits, promotes}, {edits, tries}, {promotes, rolls}, {promotes, moves}, {promotes, stops}, {takesBack, acceptsIt}, {takesBack, promotes},
		{edits, promotes, stops}, {rolls, tries, edits}, {takesBack, takesOther, promotes}, {promotes, moves, expects},
	} {
		name := ""
		for _, d := range together {
			name += " and one " + d.name
		}
		t.Run(name[5:], func(t *testing.T) {
			b := newCrowd(t)
			switches := switches
			if len(together) > 2 {
				switches--
			}
			tried := testdb.Each(switches, random, uint64(i), func(next func(int, []int, int) int) []testdb.Turn {
				b.again()
				all := make([]func(context.Context) error, len(together))
				for i, d := range together {
					all[i] = func(ctx context.Context) error { return d.do(ctx, b) }
				}
				errs, turns := b.orders.Do(t.Context(), next, all...)
				b.consistent(fmt.Sprintf("%v: %v", turns, errs))
				return turns
			})
			t.Logf("%d orders", tried)
			assert.Greater(t, tried, 1)
		})
	}
}
