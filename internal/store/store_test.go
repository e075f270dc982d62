package store_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/site"
	"tidemarker/internal/secret"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

func TestMain(m *testing.M) { testdb.Main(m) }

func document(environments ...string) site.Site {
	s := site.Site{Name: "Shop", Pages: []site.Page{{Path: "/"}}}
	for _, e := range environments {
		s.Environments = append(s.Environments, site.Environment{Name: e, URL: "http://" + e + ".example", Connector: &site.Connector{Kind: "http", URL: "http://" + e + ".example/c", Token: "hush-" + e}})
	}
	return s
}

// revealed is an environment's token as its connector gets it.
func revealed(t *testing.T, s *store.Store, e store.Environment) string {
	t.Helper()
	token, err := s.Reveal(e)
	require.NoError(t, err)
	return token
}

func TestASiteIsUpdatedByItsNameAndItsTokensAreApart(t *testing.T) {
	s, _ := testdb.New(t)
	ctx := t.Context()
	first, err := s.SaveSite(ctx, document("staging", "old", "production"), false, "ada")
	require.NoError(t, err)
	again, err := s.SaveSite(ctx, document("staging", "production"), false, "ada")
	require.NoError(t, err)
	assert.Equal(t, first.ID, again.ID)
	envs, err := s.Environments(ctx, again.ID)
	require.NoError(t, err)
	require.Len(t, envs, 2, "what was never used is gone")
	assert.Equal(t, "hush-staging", revealed(t, s, envs[0]))
	for _, e := range again.Document.V.Environments {
		assert.Empty(t, e.Connector.Token, "the document has no tokens")
	}
	_, err = s.Intend(ctx, store.Act{EnvironmentID: envs[1].ID, Kind: "first", Fingerprint: "f", Who: "ada"})
	require.NoError(t, err)
	_, err = s.SaveSite(ctx, document("staging"), false, "ada")
	require.ErrorContains(t, err, "their record is not thrown away")
	envs, err = s.Environments(ctx, again.ID)
	require.NoError(t, err)
	assert.Len(t, envs, 2, "nothing was half done")
}

func TestWhatASiteFileDoesNotTellStaysAsItIsKnown(t *testing.T) {
	s, _ := testdb.New(t)
	ctx := t.Context()
	doc := document("staging", "production")
	doc.Personas = []site.Persona{{Name: "ada", Kind: "member", Prepare: []journey.Step{{Fill: &journey.Input{In: journey.Target{Label: "Password"}, Value: "hush-ada", Secret: true}}}}}
	row, err := s.SaveSite(ctx, doc, false, "ada")
	require.NoError(t, err)
	_, err = s.SaveSite(ctx, doc.Redacted(), false, "bo")
	require.NoError(t, err)
	row, err = s.Site(ctx, row.ID)
	require.NoError(t, err)
	assert.Equal(t, "hush-ada", row.Document.V.Personas[0].Prepare[0].Fill.Value)
	envs, err := s.Environments(ctx, row.ID)
	require.NoError(t, err)
	assert.Equal(t, "hush-staging", revealed(t, s, envs[0]))

	elsewhere := document("staging", "production").WithoutTokens()
	elsewhere.Environments[0].Connector.URL = "http://elsewhere.example/c"
	_, err = s.SaveSite(ctx, elsewhere, false, "eve")
	require.NoError(t, err)
	envs, err = s.Environments(ctx, row.ID)
	require.NoError(t, err)
	assert.Empty(t, envs[0].Token, "a token is not sent to an address that it was not given for")
	assert.Equal(t, "hush-production", revealed(t, s, envs[1]))

	doc.Name = "Another shop"
	_, err = s.SaveSite(ctx, doc.Redacted(), false, "ada")
	require.ErrorContains(t, err, "the field “Password”, getting ready as ada. Fill them in")
	_, err = s.SiteNamed(ctx, "Another shop")
	assert.ErrorIs(t, err, store.ErrNotFound, "nothing was half done")
}

func TestTheTestPlanIsChangedWholeOrNotAtAll(t *testing.T) {
	s, _ := testdb.New(t)
	ctx := t.Context()
	row, err := s.SaveSite(ctx, document("staging", "production"), false, "ada")
	require.NoError(t, err)
	row, err = s.ChangeTestPlan(ctx, row.ID, "ada", func(doc site.Site) (site.Site, string, error) {
		doc.Pages = append(doc.Pages, site.Page{Path: "/kits"})
		return doc, "One page more.", nil
	})
	require.NoError(t, err)
	assert.Len(t, row.Document.V.Pages, 2)
	lines, err := s.History(ctx, row.ID, 0, 10)
	require.NoError(t, err)
	assert.Equal(t, "One page more.", lines[0].Text)
	assert.Equal(t, "ada", lines[0].Who)

	_, err = s.ChangeTestPlan(ctx, row.ID, "ada", func(doc site.Site) (site.Site, string, error) {
		doc.Pages = nil
		return doc, "No pages.", assert.AnError
	})
	require.ErrorIs(t, err, assert.AnError)
	_, err = s.ChangeTestPlan(ctx, row.ID, "ada", func(doc site.Site) (site.Site, string, error) { return doc, "", nil })
	require.NoError(t, err)
	lines, err = s.History(ctx, row.ID, 0, 10)
	require.NoError(t, err)
	assert.Len(t, lines, 2, "what changed nothing is no line")
	row, err = s.Site(ctx, row.ID)
	require.NoError(t, err)
	assert.Len(t, row.Document.V.Pages, 2)
	_, err = s.ChangeTestPlan(ctx, 99, "ada", func(doc site.Site) (site.Site, string, error) { return doc, "", nil })
	assert.ErrorIs(t, err, store.ErrNotFound)
}

func TestTheSameBytesAreKeptOnce(t *testing.T) {
	s, _ := testdb.New(t)
	a, err := s.Put(t.Context(), "image/png", []byte("picture"))
	require.NoError(t, err)
	b, err := s.Put(t.Context(), "image/png", []byte("picture"))
	require.NoError(t, err)
	assert.Equal(t, a, b)
	got, err := s.Get(t.Context(), a)
	require.NoError(t, err)
	assert.Equal(t, "picture", string(got.Bytes))
	_, err = s.Get(t.Context(), "none")
	assert.ErrorIs(t, err, store.ErrNotFound)
}

func TestARunsLockGoesWithItsHolder(t *testing.T) {
	s, url := testdb.New(t)
	ctx := t.Context()
	other, err := store.Open(ctx, url, secret.Keys{})
	require.NoError(t, err)
	ours, ok, err := s.TryLockRun(ctx, 7)
	require.NoError(t, err)
	require.True(t, ok)
	_, ok, err = other.TryLockRun(ctx, 7)
	require.NoError(t, err)
	assert.False(t, ok, "somebody works on it")
	ours.Unlock()
	ours.Unlock() // once more does nothing
	theirs, ok, err := other.TryLockRun(ctx, 7)
	require.NoError(t, err)
	assert.True(t, ok)
	theirs.Unlock()
	other.Close()
}

func TestALockIsWaitedForOnlySoLong(t *testing.T) {
	s, _ := testdb.New(t)
	ours, ok, err := s.TryLockEnvironment(t.Context(), 1)
	require.NoError(t, err)
	require.True(t, ok)
	_, ok, err = s.LockEnvironment(t.Context(), 1, 200*time.Millisecond)
	require.NoError(t, err)
	assert.False(t, ok, "who has it is not done")
	time.AfterFunc(100*time.Millisecond, ours.Unlock)
	theirs, ok, err := s.LockEnvironment(t.Context(), 1, time.Minute)
	require.NoError(t, err)
	require.True(t, ok, "who had it is done")
	theirs.Unlock()
	gone, cancel := context.WithCancel(t.Context())
	again, ok, err := s.TryLockEnvironment(t.Context(), 1)
	require.NoError(t, err)
	require.True(t, ok)
	defer again.Unlock()
	cancel()
	_, _, err = s.LockEnvironment(gone, 1, time.Minute)
	require.ErrorIs(t, err, context.Canceled)
}

func TestNoticesReachEverybodyWhoListens(t *testing.T) {
	s, _ := testdb.New(t)
	ctx, stop := context.WithCancel(t.Context())
	heard := make(chan store.Signal, 1)
	ended := make(chan error, 1)
	go func() {
		ended <- s.Listen(ctx, func(n store.Signal) {
			select {
			case heard <- n:
			default:
			}
		})
	}()
	require.Eventually(t, func() bool {
		if s.Tell(ctx, store.Signal{Site: 1, Run: 2}) != nil {
			return false
		}
		select {
		case n := <-heard:
			return n == store.Signal{Site: 1, Run: 2}
		case <-time.After(50 * time.Millisecond):
			return false
		}
	}, time.Minute, 10*time.Millisecond)
	stop()
	assert.ErrorIs(t, <-ended, context.Canceled)
}
