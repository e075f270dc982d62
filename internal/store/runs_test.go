package store_test

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

// kept is a store with a site that has staging and production.
func kept(t *testing.T) (s *store.Store, row store.Site, staging store.Environment) {
	s, _ = testdb.New(t)
	row, err := s.SaveSite(t.Context(), document("staging", "production"), false, "ada")
	require.NoError(t, err)
	envs, err := s.Environments(t.Context(), row.ID)
	require.NoError(t, err)
	return s, row, envs[0]
}

func TestWhatIsWrittenTogetherIsThereTogetherOrNotAtAll(t *testing.T) {
	s, row, env := kept(t)
	broken := errors.New("no")
	var run int64
	err := s.Within(t.Context(), func(in *store.Store) error {
		var err error
		run, err = in.NewRun(t.Context(), store.Run{SiteID: row.ID, EnvironmentID: env.ID, Kind: release.MarkRun, RequestedBy: "ada"})
		require.NoError(t, err)
		return in.Within(t.Context(), func(deeper *store.Store) error {
			require.NoError(t, deeper.Record(t.Context(), store.Event{SiteID: row.ID, Kind: "x", Text: "y", Who: "ada"}))
			_, err := deeper.Run(t.Context(), run)
			require.NoError(t, err, "one transaction, however deep")
			return broken
		})
	})
	require.ErrorIs(t, err, broken)
	_, err = s.Run(t.Context(), run)
	require.ErrorIs(t, err, store.ErrNotFound)
	lines, err := s.History(t.Context(), row.ID, 0, 10)
	require.NoError(t, err)
	for _, l := range lines {
		assert.NotEqual(t, "x", l.Kind)
	}
}

func TestOneOfManyWhoTellARunTheSameIsRight(t *testing.T) {
	s, row, env := kept(t)
	id, err := s.NewRun(t.Context(), store.Run{SiteID: row.ID, EnvironmentID: env.ID, Kind: release.CheckRun, RequestedBy: "ada"})
	require.NoError(t, err)
	_, err = s.MoveRun(t.Context(), id, release.RunFinished)
	require.ErrorContains(t, err, "queued", "a run that nobody began does not finish")
	r, err := s.BeginRun(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, 1, r.Attempt)
	var right atomic.Int64
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			if _, err := s.MoveRun(t.Context(), id, release.RunFinished); err == nil {
				right.Add(1)
			}
		})
	}
	all.Wait()
	assert.EqualValues(t, 1, right.Load())
	_, err = s.MoveRun(t.Context(), 99, release.RunFinished)
	require.ErrorIs(t, err, store.ErrNotFound)
}

func TestARunThatIsBegunAgainForgetsTheLooksOfTheAttemptBefore(t *testing.T) {
	s, row, env := kept(t)
	id, err := s.NewRun(t.Context(), store.Run{SiteID: row.ID, EnvironmentID: env.ID, Kind: release.CheckRun, RequestedBy: "ada"})
	require.NoError(t, err)
	_, err = s.BeginRun(t.Context(), id)
	require.NoError(t, err)
	look(t, s, id, 1, "/", "the first attempt")
	require.NoError(t, s.AttemptFailed(t.Context(), id, "it was cut off", time.Hour))
	lost, err := s.LostRuns(t.Context(), 0)
	require.NoError(t, err)
	assert.Empty(t, lost, "it is not its time")
	require.NoError(t, s.AttemptFailed(t.Context(), id, "it was cut off", 0))
	lost, err = s.LostRuns(t.Context(), 0)
	require.NoError(t, err)
	require.Len(t, lost, 1, "no job is left that would begin it again")
	r, err := s.BeginRun(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, 2, r.Attempt)
	seen, err := s.Look(t.Context(), id, 1)
	require.NoError(t, err)
	assert.Empty(t, seen.Pages)
}

func TestNothingIsIntendedWhileAnActIsOpen(t *testing.T) {
	s, row, env := kept(t)
	was, err := s.SaveRevision(t.Context(), row.ID, settings.Values{"a": false})
	require.NoError(t, err)
	want, err := s.SaveRevision(t.Context(), row.ID, settings.Values{"a": true})
	require.NoError(t, err)
	require.NoError(t, s.RecordAct(t.Context(), store.Act{EnvironmentID: env.ID, Kind: release.ActFirst, Fingerprint: was, Who: "outside"}))
	intend := func(ctx context.Context) (int64, error) {
		return s.Intend(ctx, store.Act{EnvironmentID: env.ID, Kind: release.ActTry, Fingerprint: want, Predecessor: was, Who: "ada"})
	}
	var ids []int64
	var mu sync.Mutex
	var all sync.WaitGroup
	for range 6 {
		all.Go(func() {
			if id, err := intend(t.Context()); err == nil {
				mu.Lock()
				ids = append(ids, id)
				mu.Unlock()
			}
		})
	}
	all.Wait()
	require.Len(t, ids, 1, "of six at once")
	require.NoError(t, s.EndAct(t.Context(), ids[0], release.ActUnknown, "gone", ""))
	_, err = intend(t.Context())
	require.Error(t, err, "unknown is open, too")
	due, err := s.UnknownDue(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []int64{env.ID}, due)
	require.NoError(t, s.ReadFailed(t.Context(), ids[0], "still gone", time.Hour))
	due, err = s.UnknownDue(t.Context())
	require.NoError(t, err)
	assert.Empty(t, due, "not before its time")

	require.NoError(t, s.EndAct(t.Context(), ids[0], release.ActApplied, "read back", want))
	_, err = s.OpenAct(t.Context(), env.ID)
	require.ErrorIs(t, err, store.ErrNotFound)
	env, err = s.Environment(t.Context(), env.ID)
	require.NoError(t, err)
	assert.Equal(t, want, env.Fingerprint, "the outcome and what is in force are one write")
	placed, err := s.Placed(t.Context(), env.ID)
	require.NoError(t, err)
	require.Len(t, placed, 2)
	assert.Equal(t, want, placed[1].To)
	_, err = intend(t.Context())
	require.NoError(t, err)
}

func TestFindingsKeepTheirNumbersWhileARunGoesOn(t *testing.T) {
	s, row, env := kept(t)
	id, err := s.NewRun(t.Context(), store.Run{SiteID: row.ID, EnvironmentID: env.ID, Kind: release.CheckRun, RequestedBy: "ada"})
	require.NoError(t, err)
	save := func(names ...string) map[string]int64 {
		t.Helper()
		var list []evidence.Finding
		for _, n := range names {
			list = append(list, evidence.Finding{Fingerprint: n, Title: n})
		}
		require.NoError(t, s.SaveFindings(t.Context(), id, list))
		rows, err := s.Findings(t.Context(), id)
		require.NoError(t, err)
		require.Len(t, rows, len(names))
		numbers := map[string]int64{}
		for i, r := range rows {
			assert.Equal(t, names[i], r.Document.V.Title, "in their order")
			numbers[r.Name] = r.ID
		}
		return numbers
	}
	first := save("menu", "notice")
	require.NoError(t, s.AcceptFinding(t.Context(), first["menu"], true, "ada", "meant"))
	second := save("worse", "notice", "menu", "menu")
	assert.Equal(t, first["menu"], second["menu"], "the proof that somebody has open stays")
	assert.Equal(t, first["notice"], second["notice"])
	assert.NotEqual(t, second["menu"], second["menu 2"], "two of one kind are two")
	f, err := s.Finding(t.Context(), first["menu"])
	require.NoError(t, err)
	assert.Equal(t, "accepted", f.State)
	third := save("notice")
	assert.Equal(t, first["notice"], third["notice"])
	_, err = s.Finding(t.Context(), first["menu"])
	require.ErrorIs(t, err, store.ErrNotFound, "what is no finding any more is none")
}

func TestAnEditOnTopOfSomebodyElsesIsNotMade(t *testing.T) {
	s, row, _ := kept(t)
	id, err := s.NewChange(t.Context(), store.Change{SiteID: row.ID, Title: "T", Base: "b", CreatedBy: "ada"})
	require.NoError(t, err)
	c, err := s.Change(t.Context(), id)
	require.NoError(t, err)
	was := c
	c.Title = "Ada's"
	ok, err := s.SaveChange(t.Context(), was, c)
	require.NoError(t, err)
	assert.True(t, ok)
	c.Title = "Otto's"
	ok, err = s.SaveChange(t.Context(), was, c)
	require.NoError(t, err)
	assert.False(t, ok)
	c, err = s.Change(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, "Ada's", c.Title)
	assert.Equal(t, []int{2, 2}, []int{c.Version, c.Edition})
	ok, err = s.MoveChange(t.Context(), id, release.Checked, release.Promoting, "x")
	require.NoError(t, err)
	assert.False(t, ok, "it is not where somebody thinks it is")
	ok, err = s.MoveChange(t.Context(), id, release.Drafted, release.Trying, "x")
	require.NoError(t, err)
	assert.True(t, ok)
	moved, err := s.Change(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, []int{3, 2}, []int{moved.Version, moved.Edition}, "each write raises the version, and only an edit is one")
	ok, err = s.SaveChange(t.Context(), c, c)
	require.NoError(t, err)
	assert.False(t, ok, "an edit does not put back a state that has moved on")
}

func TestEnvironmentsAreFoundByTheirRoleNotByTheirPlace(t *testing.T) {
	s, _ := testdb.New(t)
	doc := document("live", "sandbox", "old")
	doc.Environments[0].Role, doc.Environments[1].Role, doc.Environments[2].Role = site.Production, site.Staging, site.OtherRole
	row, err := s.SaveSite(t.Context(), doc, false, "ada")
	require.NoError(t, err)
	envs, err := s.EnvironmentsByRole(t.Context(), row.ID)
	require.NoError(t, err)
	assert.Equal(t, "sandbox", envs.Staging.Name)
	assert.Equal(t, "live", envs.Production.Name)
	assert.False(t, envs.OnlyOne)

	doc.Environments[0].Role, doc.Environments[1].Role = site.Staging, site.Production
	_, err = s.SaveSite(t.Context(), doc, false, "ada")
	require.ErrorAs(t, err, new(*site.RolesChanged), "nobody said that the roles may change")
	envs, err = s.EnvironmentsByRole(t.Context(), row.ID)
	require.NoError(t, err)
	assert.Equal(t, "live", envs.Production.Name, "nothing was read")
	_, err = s.SaveSite(t.Context(), doc, true, "ada")
	require.NoError(t, err)
	envs, err = s.EnvironmentsByRole(t.Context(), row.ID)
	require.NoError(t, err)
	assert.Equal(t, "sandbox", envs.Production.Name)
}
