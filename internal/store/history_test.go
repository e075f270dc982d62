package store_test

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/release"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

// Many write at once, each holding other rows in another order: no entry is left out, none waits for another that waits for it.
func TestAHistoryIsAChainHoweverManyWriteAtOnce(t *testing.T) {
	s, _ := testdb.New(t)
	ctx := t.Context()
	var sites [2]store.Site
	for i := range sites {
		doc := document("staging", "production")
		doc.Name = fmt.Sprint("Site ", i)
		var err error
		sites[i], err = s.SaveSite(ctx, doc, false, "tester")
		require.NoError(t, err)
	}
	change, err := s.NewChange(ctx, store.Change{SiteID: sites[0].ID, Title: "T", CreatedBy: "tester"})
	require.NoError(t, err)
	const each = 20
	var all sync.WaitGroup
	errs := make(chan error, 8*each)
	for w := range 8 {
		all.Go(func() {
			for i := range each {
				errs <- s.Within(ctx, func(s *store.Store) error {
					record := func() error {
						return s.Record(ctx, store.Event{SiteID: sites[i%2].ID, Kind: "change", Who: fmt.Sprint("person ", w), Text: "Did ÄÖÜ, “something”."})
					}
					if w%2 == 0 {
						if err := record(); err != nil {
							return err
						}
					}
					if _, err := s.MoveChange(ctx, change, release.Drafted, release.Drafted, "moved"); err != nil {
						return err
					}
					if w%2 == 1 {
						return record()
					}
					return s.RecordTeam(ctx, "somebody", "Did something for all.")
				})
			}
		})
	}
	all.Wait()
	close(errs)
	for err := range errs {
		require.NoError(t, err)
	}
	for _, site := range sites {
		c, err := s.VerifyChain(ctx, site.ID)
		require.NoError(t, err)
		assert.Empty(t, c.Broken)
		assert.EqualValues(t, 8*each/2+1, c.Entries, "and that it was registered")
	}
	team, err := s.VerifyChain(ctx, 0)
	require.NoError(t, err)
	assert.Empty(t, team.Broken)
	assert.EqualValues(t, 4*each, team.Entries)
}

func TestTheHistoryIsNotChangedAndWhoeverDoesItIsSeen(t *testing.T) {
	s, _ := testdb.New(t)
	ctx := t.Context()
	row, err := s.SaveSite(ctx, document("staging", "production"), false, "tester")
	require.NoError(t, err)
	for i := range 5 {
		require.NoError(t, s.Record(ctx, store.Event{SiteID: row.ID, Kind: "change", Who: "Vera", Text: fmt.Sprint("Entry ", i)}))
	}
	require.NoError(t, s.RecordTeam(ctx, "Ada", "Invited somebody."))
	for _, forbidden := range []string{
		`UPDATE history SET who = 'nobody'`, `DELETE FROM history`, `TRUNCATE history CASCADE`, `UPDATE team_history SET text = ''`, `DELETE FROM team_history`, `UPDATE history_chain SET hash = ''`, `DELETE FROM history_chain`, `TRUNCATE history_chain`,
	} {
		_, err := s.Pool.Exec(ctx, forbidden)
		require.ErrorContains(t, err, "the history is a record", forbidden)
	}
	whole, err := s.VerifyChain(ctx, row.ID)
	require.NoError(t, err)
	require.Empty(t, whole.Broken)
	assert.EqualValues(t, 6, whole.Entries)

	// Whoever owns the tables can switch that off; the chain tells.
	_, err = s.Pool.Exec(ctx, `ALTER TABLE history DISABLE TRIGGER history_kept; UPDATE history SET text = 'Entry 9' WHERE text = 'Entry 2'; ALTER TABLE history ENABLE TRIGGER history_kept`)
	require.NoError(t, err)
	c, err := s.VerifyChain(ctx, row.ID)
	require.NoError(t, err)
	assert.Contains(t, c.Broken, "at place 4")
	_, err = s.Pool.Exec(ctx, `ALTER TABLE history DISABLE TRIGGER history_kept; UPDATE history SET text = 'Entry 2' WHERE text = 'Entry 9'; DELETE FROM history WHERE text = 'Entry 4'; ALTER TABLE history ENABLE TRIGGER history_kept`)
	require.NoError(t, err)
	c, err = s.VerifyChain(ctx, row.ID)
	require.NoError(t, err)
	assert.Equal(t, "The entry at place 6 is gone.", c.Broken)

	removable, open, err := s.Removable(ctx, row.ID)
	require.NoError(t, err)
	require.Empty(t, open)
	why, err := s.RemoveSite(ctx, row.ID, removable, "Ada")
	require.NoError(t, err)
	require.Empty(t, why)
	n := 0
	require.NoError(t, s.Pool.QueryRow(ctx, `SELECT count(*) FROM history_chain WHERE scope = $1`, row.ID).Scan(&n))
	assert.Zero(t, n, "a site that is removed takes its history along")
	team, err := s.VerifyChain(ctx, 0)
	require.NoError(t, err)
	assert.Empty(t, team.Broken)
	lines, err := s.TeamHistory(ctx, 1)
	require.NoError(t, err)
	assert.Contains(t, lines[0].Text, "a history of 6 entries, the last with the hash")
}

func TestAHistoryIsFilteredByWhoWhatWhereAndWhen(t *testing.T) {
	s, _ := testdb.New(t)
	ctx := t.Context()
	row, err := s.SaveSite(ctx, document("staging", "production"), false, "tester")
	require.NoError(t, err)
	envs, err := s.Environments(ctx, row.ID)
	require.NoError(t, err)
	for _, e := range []store.Event{
		{Who: "Vera", Kind: "approval", Text: "a"}, {Who: "Vera (token nightly)", Kind: "change", Text: "b"}, {Who: "Vera Lind", Kind: "change", Text: "c"}, {Who: "Marin", Kind: "change", Text: "d", EnvironmentID: &envs[1].ID},
	} {
		e.SiteID = row.ID
		require.NoError(t, s.Record(ctx, e))
	}
	middle := time.Time{}
	require.NoError(t, s.Pool.QueryRow(ctx, `SELECT at FROM history WHERE text = 'c'`).Scan(&middle))
	for want, f := range map[string]store.HistoryFilter{
		"ba":  {Who: "Vera"},
		"dcb": {Kind: "change"},
		"cb":  {Kind: "change", To: middle.Add(time.Microsecond)},
		"dc":  {From: middle},
		"d":   {EnvironmentID: envs[1].ID},
		"":    {Who: "Vera", EnvironmentID: envs[1].ID},
	} {
		lines, err := s.HistoryOf(ctx, row.ID, f, 0, 10)
		require.NoError(t, err)
		got := ""
		for _, l := range lines {
			if len(l.Text) == 1 {
				got += l.Text
			}
		}
		assert.Equal(t, want, got, "%+v", f)
	}
	known, err := s.HistoryKnown(ctx, row.ID)
	require.NoError(t, err)
	assert.Equal(t, "Marin tester Vera Vera Lind", strings.Join(known.Who, " "))
}

func TestWhatAnEnvironmentHadAtAMomentIsWhatWasReadBackBefore(t *testing.T) {
	s, _ := testdb.New(t)
	ctx := t.Context()
	row, err := s.SaveSite(ctx, document("staging", "production"), false, "tester")
	require.NoError(t, err)
	envs, err := s.Environments(ctx, row.ID)
	require.NoError(t, err)
	env := envs[1].ID
	_, err = s.InForceAt(ctx, env, time.Now())
	require.ErrorIs(t, err, store.ErrNotFound)
	require.NoError(t, s.RecordAct(ctx, store.Act{EnvironmentID: env, Kind: release.ActFirst, Fingerprint: "a", Who: "tester"}))
	id, err := s.Intend(ctx, store.Act{EnvironmentID: env, Kind: release.ActPromote, Fingerprint: "b", Predecessor: "a", Who: "Vera"})
	require.NoError(t, err)
	begun := time.Now()
	unknown, err := s.UnknownAt(ctx, env, begun)
	require.NoError(t, err)
	assert.True(t, unknown, "it was being applied")
	require.NoError(t, s.EndAct(ctx, id, release.ActApplied, "", "b"))
	then, err := s.InForceAt(ctx, env, begun)
	require.NoError(t, err)
	assert.Equal(t, "a", then.Fingerprint)
	now, err := s.InForceAt(ctx, env, time.Now().Add(time.Second))
	require.NoError(t, err)
	assert.Equal(t, []string{"b", "Vera"}, []string{now.Fingerprint, now.Who})
	unknown, err = s.UnknownAt(ctx, env, time.Now().Add(time.Second))
	require.NoError(t, err)
	assert.False(t, unknown)
}
