package store_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/site"
	"tidemarker/internal/secret"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

const connectorToken, personaPassword = "t0ken-of-the-connector", "passw0rd-of-the-persona"

// guarded is a site with a connector's token and a persona's password.
func guarded() site.Site {
	return site.Site{Name: "Guarded", Environments: []site.Environment{{Name: "production", URL: "https://shop.example", Connector: &site.Connector{Kind: "http", URL: "https://shop.example/c", Token: connectorToken}}},
		Personas: []site.Persona{{Name: "ida", Kind: "member", Prepare: []journey.Step{{Go: "/account"}, {Fill: &journey.Input{In: journey.Target{Label: "Password"}, Value: personaPassword, Secret: true}}}}}}
}

// everything is all that the tables with secrets hold, as text.
func everything(t *testing.T, s *store.Store) string {
	t.Helper()
	var all string
	require.NoError(t, s.Pool.QueryRow(t.Context(), `SELECT concat((SELECT string_agg(s::text, ' ') FROM sites s), (SELECT string_agg(e::text, ' ') FROM environments e), (SELECT string_agg(o::text, ' ') FROM onboardings o), (SELECT string_agg(h::text, ' ') FROM history h))`).Scan(&all))
	return all
}

// passwordOf is the persona's password as the store gives it to those who sign in.
func passwordOf(t *testing.T, s *store.Store) string {
	t.Helper()
	row, err := s.SiteNamed(t.Context(), "Guarded")
	require.NoError(t, err)
	return row.Document.V.Personas[0].Prepare[1].Fill.Value
}

func tokenOf(t *testing.T, s *store.Store) string {
	t.Helper()
	row, err := s.SiteNamed(t.Context(), "Guarded")
	require.NoError(t, err)
	envs, err := s.Environments(t.Context(), row.ID)
	require.NoError(t, err)
	token, err := s.Reveal(envs[0])
	require.NoError(t, err)
	return token
}

func TestSecretsLieSealedInTheDatabase(t *testing.T) {
	s, url := testdb.New(t)
	ctx := t.Context()
	row, err := s.SaveSite(ctx, guarded(), false, "ada")
	require.NoError(t, err)
	assert.Equal(t, personaPassword, row.Document.V.Personas[0].Prepare[1].Fill.Value)
	_, err = s.ChangeTestPlan(ctx, row.ID, "ada", func(now site.Site) (site.Site, string, error) {
		now.Pages = []site.Page{{Path: "/", Class: "home", Personas: []string{"ida"}, Devices: []string{site.Desktop}}}
		return now, "one page", nil
	})
	require.NoError(t, err)
	doc := store.OnboardingDocument{}
	doc.SetLooks(guarded())
	id, err := s.NewOnboarding(ctx, "Being added", doc, map[string]string{"production": connectorToken}, "ada")
	require.NoError(t, err)
	_, err = s.ChangeOnboarding(ctx, id, func(o *store.Onboarding) error { o.Name = "Still being added"; return nil })
	require.NoError(t, err)

	all := everything(t, s)
	assert.NotContains(t, all, personaPassword)
	assert.Contains(t, all, "sealed:")
	assert.Equal(t, personaPassword, passwordOf(t, s))
	assert.Equal(t, connectorToken, tokenOf(t, s))
	o, err := s.Onboarding(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, connectorToken, o.Tokens.V["production"])
	assert.Equal(t, personaPassword, o.Document.V.Personas[0].Prepare[1].Fill.Value)

	t.Run("a key is replaced", func(t *testing.T) {
		newer := secret.NewKey()
		both, err := secret.Parse(newer + "\n" + testdb.Key)
		require.NoError(t, err)
		with, err := store.Open(ctx, url, both)
		require.NoError(t, err)
		defer with.Close()
		n, err := with.Reseal(ctx)
		require.NoError(t, err)
		assert.Equal(t, 3, n, "a site, an environment, and a site being added")
		_, err = s.SiteNamed(ctx, "Guarded")
		require.ErrorAs(t, err, new(*secret.OtherKey), "the old key opens nothing any more")
		one, err := secret.Parse(newer)
		require.NoError(t, err)
		only, err := store.Open(ctx, url, one)
		require.NoError(t, err)
		defer only.Close()
		assert.Equal(t, personaPassword, passwordOf(t, only))
		assert.Equal(t, connectorToken, tokenOf(t, only))
	})
}

// TestWhatWasKeptBeforeThereWereKeysIsSealed is an upgrade: what lay readable is read on, and sealed once there is a key.
func TestWhatWasKeptBeforeThereWereKeysIsSealed(t *testing.T) {
	s, url := testdb.New(t)
	ctx := t.Context()
	_, err := s.SaveSite(ctx, guarded(), false, "ada")
	require.NoError(t, err)
	n, err := s.Unseal(ctx)
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	assert.Contains(t, everything(t, s), personaPassword)
	assert.Equal(t, personaPassword, passwordOf(t, s))

	without, err := store.Open(ctx, url, secret.Keys{})
	require.NoError(t, err)
	defer without.Close()
	assert.Equal(t, personaPassword, passwordOf(t, without))
	_, err = without.SealUnsealed(ctx)
	require.ErrorIs(t, err, secret.ErrNoKey)
	other := guarded()
	other.Name = "Another"
	_, err = without.SaveSite(ctx, other, false, "ada")
	require.ErrorIs(t, err, secret.ErrNoKey, "nothing is added that would lie readable")

	n, err = s.SealUnsealed(ctx)
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	assert.NotContains(t, everything(t, s), personaPassword)
	assert.NotContains(t, everything(t, s), connectorToken)
	n, err = s.SealUnsealed(ctx)
	require.NoError(t, err)
	assert.Zero(t, n, "once")
	assert.Equal(t, connectorToken, tokenOf(t, s))
}
