package store_test

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/survey"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

func entry(site int64, pattern string) store.Exclusion {
	return store.Exclusion{SiteID: site, Role: "path-exclude", Key: "never", Pattern: pattern, Reason: "personal", Who: "ada"}
}

func TestAnEntryOfTheLedgerIsThereOnceUntilItIsRetired(t *testing.T) {
	s, _ := testdb.New(t)
	ctx := t.Context()
	shop, err := s.SaveSite(ctx, document("staging"), false, "ada")
	require.NoError(t, err)
	id, err := s.AddExclusion(ctx, entry(shop.ID, "/cart"))
	require.NoError(t, err)
	_, err = s.AddExclusion(ctx, entry(shop.ID, "/cart"))
	require.ErrorIs(t, err, store.ErrRecorded)

	// Many at once are all there or none.
	err = s.AddExclusions(ctx, []store.Exclusion{entry(shop.ID, "/new"), entry(shop.ID, "/cart")})
	require.ErrorIs(t, err, store.ErrRecorded)
	all, err := s.SiteExclusions(ctx, shop.ID)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, []string{}, all[0].Classes.V, "a list that nobody gave is empty, not missing")

	now := time.Now().UTC()
	require.NoError(t, s.ChangeExclusions(ctx, shop.ID, []int64{id}, "vera", func(e *store.Exclusion) (string, error) {
		e.RetiredAt, e.RetiredBy, e.RetiredWhy = &now, "vera", "gone"
		return "Retired: gone", nil
	}))
	again, err := s.AddExclusion(ctx, entry(shop.ID, "/cart"))
	require.NoError(t, err, "the pattern can come back")
	assert.NotEqual(t, id, again)
	err = s.ChangeExclusions(ctx, shop.ID, []int64{id}, "vera", func(e *store.Exclusion) (string, error) {
		e.RetiredAt = nil
		return "", nil
	})
	require.ErrorIs(t, err, store.ErrRecorded, "but not twice")
	events, err := s.ExclusionEvents(ctx, shop.ID, id)
	require.NoError(t, err)
	require.Len(t, events, 2)
	assert.Equal(t, "Retired: gone", events[1].Text)
	assert.Equal(t, "vera", events[1].Who)
}

func TestAnEditOfSeveralEntriesIsDoneForAllOrNone(t *testing.T) {
	s, _ := testdb.New(t)
	ctx := t.Context()
	shop, err := s.SaveSite(ctx, document("staging"), false, "ada")
	require.NoError(t, err)
	doc := document("staging")
	doc.Name = "Other"
	other, err := s.SaveSite(ctx, doc, false, "ada")
	require.NoError(t, err)
	var ids []int64
	for _, p := range []string{"/a", "/b"} {
		id, err := s.AddExclusion(ctx, entry(shop.ID, p))
		require.NoError(t, err)
		ids = append(ids, id)
	}
	reason := func(to string) func(*store.Exclusion) (string, error) {
		return func(e *store.Exclusion) (string, error) {
			if e.Pattern == "/b" && to == "refused" {
				return "", errors.New("not this one")
			}
			e.Reason = to
			return "Reason: " + to, nil
		}
	}
	require.ErrorContains(t, s.ChangeExclusions(ctx, shop.ID, ids, "ada", reason("refused")), "not this one")
	require.ErrorIs(t, s.ChangeExclusions(ctx, other.ID, ids, "ada", reason("theirs")), store.ErrNotFound, "entries of another site are not there")
	all, err := s.SiteExclusions(ctx, shop.ID)
	require.NoError(t, err)
	for _, e := range all {
		assert.Equal(t, "personal", e.Reason)
		events, err := s.ExclusionEvents(ctx, other.ID, e.ID)
		require.NoError(t, err)
		assert.Empty(t, events, "nor is their history")
	}
}

func TestAPolicyReplacesTheOneBeforeAndTheDefaultComesBack(t *testing.T) {
	s, _ := testdb.New(t)
	ctx := t.Context()
	shop, err := s.SaveSite(ctx, document("staging"), false, "ada")
	require.NoError(t, err)
	p := store.DecidedPolicy{SiteID: shop.ID, Class: "home", Persona: "visitor", Policy: "never", Reason: "a", Who: "ada"}
	require.NoError(t, s.DecidePolicy(ctx, p))
	p.Policy, p.Reason = "own", "b"
	require.NoError(t, s.DecidePolicy(ctx, p))
	all, err := s.Policies(ctx, shop.ID)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, "own", all[0].Policy)
	assert.Equal(t, "b", all[0].Reason)
	p.Policy = ""
	require.NoError(t, s.DecidePolicy(ctx, p))
	all, err = s.Policies(ctx, shop.ID)
	require.NoError(t, err)
	assert.Empty(t, all)
}

func TestAddressesAndParityAreReplaced(t *testing.T) {
	s, _ := testdb.New(t)
	ctx := t.Context()
	shop, err := s.SaveSite(ctx, document("staging"), false, "ada")
	require.NoError(t, err)
	require.NoError(t, s.SaveAddresses(ctx, shop.ID, []store.Address{{Path: "/b", Class: "item"}, {Path: "/a", Class: "other"}, {Path: "/a", Class: "twice"}}))
	require.NoError(t, s.SaveAddresses(ctx, shop.ID, []store.Address{{Path: "/c?x=\"1\"", Class: "item"}}))
	all, err := s.Addresses(ctx, shop.ID)
	require.NoError(t, err)
	assert.Equal(t, []store.Address{{Path: "/c?x=\"1\"", Class: "item"}}, all)

	_, err = s.ParityOf(ctx, shop.ID)
	require.ErrorIs(t, err, store.ErrNotFound)
	for _, summary := range []string{"first", "second"} {
		require.NoError(t, s.SaveParity(ctx, shop.ID, store.ParityDocument{Summary: summary, Unlike: []survey.Unlike{{What: "host", Of: "hosting"}}}, "ada"))
	}
	p, err := s.ParityOf(ctx, shop.ID)
	require.NoError(t, err)
	assert.Equal(t, "second", p.Document.V.Summary)
	assert.Equal(t, "hosting", p.Document.V.Unlike[0].Of)
}
