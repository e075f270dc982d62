package store_test

import (
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/people"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

func TestAnInvitationWorksOnce(t *testing.T) {
	st, _ := testdb.New(t)
	ctx := t.Context()
	secret, err := st.NewInvitation(ctx, store.Invitation{Role: people.Maintainer, InvitedBy: "ada", ExpiresAt: time.Now().Add(time.Hour)})
	require.NoError(t, err)
	_, err = st.AddPerson(ctx, "Marin", "hash", people.Observer)
	require.NoError(t, err)
	_, err = st.Join(ctx, secret, "marin", "hash")
	require.ErrorIs(t, err, store.ErrNameTaken)

	// Many at once: one gets in.
	var wg sync.WaitGroup
	var mu sync.Mutex
	in := 0
	for range 8 {
		wg.Go(func() {
			if _, err := st.Join(ctx, secret, "vera", "hash"); err == nil {
				mu.Lock()
				in++
				mu.Unlock()
			} else {
				assert.ErrorIs(t, err, store.ErrNotFound)
			}
		})
	}
	wg.Wait()
	assert.Equal(t, 1, in, "what was refused for its name could be used again, what was used could not")
	p, err := st.PersonNamed(ctx, "VERA")
	require.NoError(t, err)
	assert.Equal(t, people.Maintainer, p.Role)

	late, err := st.NewInvitation(ctx, store.Invitation{Role: people.Maintainer, InvitedBy: "ada", ExpiresAt: time.Now().Add(-time.Second)})
	require.NoError(t, err)
	_, err = st.Join(ctx, late, "late", "hash")
	assert.ErrorIs(t, err, store.ErrNotFound)

	again, err := st.NewInvitation(ctx, store.Invitation{Role: p.Role, PersonID: &p.ID, InvitedBy: "ada", ExpiresAt: time.Now().Add(time.Hour)})
	require.NoError(t, err)
	_, err = st.Join(ctx, again, p.Name, "other hash")
	require.NoError(t, err)
	after, err := st.Person(ctx, p.ID)
	require.NoError(t, err)
	assert.Equal(t, "other hash", after.Password)
	assert.Greater(t, after.Epoch, p.Epoch, "earlier sessions are over")
}

func TestSomebodyIsAlwaysLeftToAdminister(t *testing.T) {
	st, _ := testdb.New(t)
	ctx := t.Context()
	ada, err := st.AddPerson(ctx, "ada", "h", people.Administrator)
	require.NoError(t, err)
	bea, err := st.AddPerson(ctx, "bea", "h", people.Administrator)
	require.NoError(t, err)
	// Both put the other down at the same time.
	errs := make([]error, 2)
	var wg sync.WaitGroup
	wg.Go(func() { errs[0] = st.SavePerson(ctx, ada, people.Observer, false) })
	wg.Go(func() { errs[1] = st.SavePerson(ctx, bea, people.Administrator, true) })
	wg.Wait()
	failed := 0
	for _, err := range errs {
		if err != nil {
			assert.ErrorIs(t, err, store.ErrLastAdministrator)
			failed++
		}
	}
	assert.Equal(t, 1, failed)
}

func TestTokensAreKeptAsHashesAndCanBeRevoked(t *testing.T) {
	st, _ := testdb.New(t)
	ctx := t.Context()
	ada, err := st.AddPerson(ctx, "ada", "h", people.Administrator)
	require.NoError(t, err)
	secret, err := st.NewToken(ctx, store.Token{PersonID: ada, Name: "nightly", Most: people.Maintainer})
	require.NoError(t, err)
	var kept int
	require.NoError(t, st.Pool.QueryRow(ctx, `SELECT count(*) FROM tokens t WHERE t::text LIKE '%' || $1 || '%'`, secret).Scan(&kept))
	assert.Zero(t, kept, "the secret itself is not in the database")
	tok, err := st.TokenOf(ctx, secret)
	require.NoError(t, err)
	assert.NotNil(t, tok.UsedAt)
	assert.ErrorIs(t, st.RevokeToken(ctx, ada+1, tok.ID), store.ErrNotFound, "another's token")
	require.NoError(t, st.RevokeToken(ctx, ada, tok.ID))
	_, err = st.TokenOf(ctx, secret)
	assert.ErrorIs(t, err, store.ErrNotFound)
	past := time.Now().Add(-time.Minute)
	old, err := st.NewToken(ctx, store.Token{PersonID: ada, Name: "old", Most: people.Maintainer, ExpiresAt: &past})
	require.NoError(t, err)
	_, err = st.TokenOf(ctx, old)
	assert.ErrorIs(t, err, store.ErrNotFound)
}

func TestManyTriesAtOnceAreNotMoreThanAsManyInARow(t *testing.T) {
	st, _ := testdb.New(t)
	ctx := t.Context()
	var wg sync.WaitGroup
	var mu sync.Mutex
	allowed := 0
	for range 20 {
		wg.Go(func() {
			earlier, err := st.TrySignIn(ctx, "Ada")
			assert.NoError(t, err)
			if people.DefaultLockOut.Until(earlier, time.Now()).IsZero() {
				mu.Lock()
				allowed++
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	assert.Equal(t, people.DefaultLockOut.Tries, allowed)
	require.NoError(t, st.SignedIn(ctx, "ada"))
	earlier, err := st.TrySignIn(ctx, "ada")
	require.NoError(t, err)
	assert.Empty(t, earlier)
}
