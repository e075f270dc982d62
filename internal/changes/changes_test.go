package changes_test

import (
	"flag"
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/standin"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
	"tidemarker/internal/testsite"
)

func TestMain(m *testing.M) {
	_ = flag.Set("rapid.checks", "8") // each is a way through days, in the database
	testdb.Main(m)
}

// bench is a desk on Fernhollow; nobody works its runs off.
type bench struct {
	*testing.T
	*changes.Desk
	site       int64
	production *standin.Instance
	grounds    *testsite.Site
}

func newBench(t *testing.T) *bench {
	t.Parallel()
	s := testsite.New(t)
	return &bench{T: t, Desk: s.Desk, site: s.ID, production: s.Production, grounds: s}
}

// begin begins a change and returns it as it is kept.
func (b *bench) begin(title string, edits settings.Values) store.Change {
	b.Helper()
	id, err := b.Begin(b.Context(), b.site, changes.Words{Title: title, Reason: "R.", Effect: "E."}, edits, "marin")
	require.NoError(b, err)
	return b.change(id)
}

func (b *bench) change(id int64) store.Change {
	b.Helper()
	c, err := b.Store.Change(b.Context(), id)
	require.NoError(b, err)
	return c
}

// marked says that both environments were seen to work as they are.
func (b *bench) marked() {
	b.Helper()
	envs := b.grounds.Environments()
	b.grounds.Marked(envs.Staging, envs.Production)
}

func TestAChangeBeginsFromWhatProductionHasNow(t *testing.T) {
	b := newBench(t)
	c := b.begin("Compact", settings.Values{"markup.compact": true, "images.lazy": false})
	production, err := b.ReadNow(t.Context(), b.site)
	require.NoError(t, err)
	assert.Equal(t, production.Fingerprint, c.Base)
	assert.Equal(t, settings.Values{"markup.compact": true}, c.Edits.V, "what is so already is no edit")
	_, err = b.Begin(t.Context(), b.site, changes.Words{Title: "Wrong"}, settings.Values{"pages.lifetime": "soon"}, "marin")
	require.ErrorAs(t, err, new(settings.Refusals))
	list, err := b.Store.Changes(t.Context(), b.site, 10, 0)
	require.NoError(t, err)
	assert.Len(t, list, 1, "what does not fit begins nothing")
}

func TestTwoWhoEditAtOnceLoseNothing(t *testing.T) {
	b := newBench(t)
	c := b.begin("Compact", nil)
	words := changes.Words{Title: "Compact"}
	require.NoError(t, b.Edit(t.Context(), c.ID, c.Version, words, settings.Values{"markup.compact": true}, "vera"))
	err := b.Edit(t.Context(), c.ID, c.Version, words, settings.Values{"images.lazy": true}, "marin")
	var theirs *changes.Edited
	require.ErrorAs(t, err, &theirs)
	assert.Equal(t, "vera", theirs.By)
	assert.Equal(t, c.Version+1, theirs.Version)
	assert.Equal(t, settings.Values{"markup.compact": true}, b.change(c.ID).Edits.V)
}

func TestATryIsAMoveARunAndAJobHoweverManyAskAtOnce(t *testing.T) {
	b := newBench(t)
	b.marked()
	c := b.begin("Compact", settings.Values{"markup.compact": true})
	other := b.begin("Lazy", settings.Values{"images.lazy": true})
	errs := make([]error, 8)
	var all sync.WaitGroup
	for i := range errs {
		all.Go(func() { errs[i] = b.Try(t.Context(), c.ID, fmt.Sprint("person ", i)) })
	}
	all.Wait()
	begun := 0
	for _, err := range errs {
		if err == nil {
			begun++
		}
	}
	assert.Equal(t, 1, begun, "%v", errs)
	runs, err := b.Store.ChangeRuns(t.Context(), c.ID)
	require.NoError(t, err)
	require.Len(t, runs, 1)
	jobs := func() (n int) {
		require.NoError(t, b.Store.Pool.QueryRow(t.Context(), `SELECT count(*) FROM river_job WHERE kind = 'run'`).Scan(&n))
		return n
	}
	assert.Equal(t, 1, jobs())
	assert.Equal(t, release.Trying, b.change(c.ID).State)

	require.Error(t, b.Try(t.Context(), other.ID, "vera"), "staging is taken")
	assert.Equal(t, release.Drafted, b.change(other.ID).State)
	assert.Equal(t, 1, jobs(), "nothing is half done")
	require.NoError(t, b.Runner.Stop(t.Context(), runs[0].ID))
	assert.Equal(t, release.Drafted, b.change(c.ID).State, "nobody had begun it: it is where it was")
	require.NoError(t, b.Try(t.Context(), other.ID, "vera"))
}

func TestWhatIsRiskyIsSplitIntoChangesOneAfterTheOther(t *testing.T) {
	b := newBench(t)
	c := b.begin("Faster", settings.Values{"markup.compact": true})
	require.ErrorAs(t, b.Split(t.Context(), c.ID, "marin"), new(*changes.Conflict), "there is nothing to split")
	c = b.begin("Much faster", settings.Values{"scripts.defer": true, "styles.later": true, "frames.onDemand": true, "markup.compact": true})
	require.NoError(t, b.Split(t.Context(), c.ID, "marin"))
	parts, err := b.Store.ChangesIn(t.Context(), b.site, release.Drafted)
	require.NoError(t, err)
	parts = parts[1:]
	require.Greater(t, len(parts), 2)
	together := settings.Values{}
	for i, p := range parts {
		assert.Equal(t, fmt.Sprintf("Much faster (%d of %d)", i+1, len(parts)), p.Title)
		if i > 0 {
			require.NotNil(t, p.Follows)
			assert.Equal(t, parts[i-1].ID, *p.Follows)
		}
		together = together.With(p.Edits.V)
	}
	assert.Equal(t, c.Edits.V, together, "no edit is lost, and none added")
}

func TestAnExclusionIsAnEditAndAnEntryOfTheLedger(t *testing.T) {
	b := newBench(t)
	c := b.begin("Defer", settings.Values{"scripts.defer": true})
	e := store.Exclusion{Key: "scripts.deferNot", Pattern: "/assets/fern.js", Reason: "It is called inline.", Who: "marin"}
	require.NoError(t, b.Exclude(t.Context(), c.ID, []store.Exclusion{e}))
	assert.Equal(t, []any{"/assets/fern.js"}, b.change(c.ID).Edits.V["scripts.deferNot"])
	entries, err := b.Store.SiteExclusions(t.Context(), b.site)
	require.NoError(t, err)
	require.Len(t, entries, 1)
	assert.Equal(t, "It is called inline.", entries[0].Reason)
	require.NoError(t, b.Exclude(t.Context(), c.ID, []store.Exclusion{e}), "twice is once")
	assert.Equal(t, []any{"/assets/fern.js"}, b.change(c.ID).Edits.V["scripts.deferNot"])
	shop, cart := e, e
	shop.Pattern, cart.Pattern = "/assets/shop.js", "/assets/cart.js"
	require.NoError(t, b.Exclude(t.Context(), c.ID, []store.Exclusion{shop, cart}))
	assert.Equal(t, []any{"/assets/fern.js", "/assets/shop.js", "/assets/cart.js"}, b.change(c.ID).Edits.V["scripts.deferNot"], "several at once")
	shop.Pattern, e.Key = "/assets/other.js", "scripts.defer"
	require.ErrorAs(t, b.Exclude(t.Context(), c.ID, []store.Exclusion{shop, e}), new(*changes.NotPatterns))
	assert.Len(t, b.change(c.ID).Edits.V["scripts.deferNot"], 3, "all or none")
	entries, err = b.Store.SiteExclusions(t.Context(), b.site)
	require.NoError(t, err)
	assert.Len(t, entries, 3, "what failed left nothing")
}

func TestAChangeIsRenamedWithoutUndoingItsCheck(t *testing.T) {
	b := newBench(t)
	c := b.begin("New change", settings.Values{"scripts.defer": true})
	_, err := b.Store.MoveChange(t.Context(), c.ID, release.Drafted, release.Checked, "")
	require.NoError(t, err)
	w := changes.Words{Title: "Defer all scripts", Reason: "First paint waits for them."}
	require.NoError(t, b.Describe(t.Context(), c.ID, c.Version, w, "marin"))
	got := b.change(c.ID)
	assert.Equal(t, w, changes.Words{Title: got.Title, Reason: got.Reason, Effect: got.Effect})
	assert.Equal(t, release.Checked, got.State)
	assert.Equal(t, c.Edits.V, got.Edits.V)
	var edited *changes.Edited
	require.ErrorAs(t, b.Describe(t.Context(), c.ID, c.Version, changes.Words{Title: "Mine"}, "vera"), &edited)
	assert.Equal(t, "marin", edited.By)
	assert.Equal(t, "Defer all scripts", b.change(c.ID).Title, "what somebody else wrote is not overwritten")
}

func TestAChangeIsBegunAgainWhenProductionMovedOn(t *testing.T) {
	b := newBench(t)
	c := b.begin("Both", settings.Values{"markup.compact": true, "images.lazy": true})
	now, etag := b.production.Layer.Settings()
	_, ok := b.production.Layer.Replace(now.With(settings.Values{"markup.compact": true}), etag)
	require.True(t, ok)
	production, err := b.ReadNow(t.Context(), b.site)
	require.NoError(t, err)
	require.NotEqual(t, production.Fingerprint, c.Base)
	drifts, err := b.Store.OpenDrifts(t.Context(), b.site)
	require.NoError(t, err)
	require.Len(t, drifts, 1)
	require.Error(t, b.Rebase(t.Context(), c.ID, "marin"), "not before a person accepted what was changed outside")
	ok, err = b.Store.AcceptDrift(t.Context(), drifts[0].ID, production.Fingerprint, "vera", "meant")
	require.NoError(t, err)
	require.True(t, ok)
	require.NoError(t, b.Rebase(t.Context(), c.ID, "marin"))
	assert.Equal(t, production.Fingerprint, b.change(c.ID).Base)
	assert.Equal(t, settings.Values{"images.lazy": true}, b.change(c.ID).Edits.V, "what production has already is no edit any more")
}

func TestOnlyWhatNoEnvironmentHasIsDiscarded(t *testing.T) {
	b := newBench(t)
	b.marked()
	c := b.begin("Compact", settings.Values{"markup.compact": true})
	other := b.begin("Lazy", nil)
	require.NoError(t, b.Try(t.Context(), c.ID, "marin"))
	require.Error(t, b.Discard(t.Context(), c.ID, "marin"), "a run of it is open")
	runs, err := b.Store.ChangeRuns(t.Context(), c.ID)
	require.NoError(t, err)
	require.NoError(t, b.Runner.Stop(t.Context(), runs[0].ID))
	require.NoError(t, b.Discard(t.Context(), c.ID, "marin"))
	require.NoError(t, b.Discard(t.Context(), other.ID, "marin"))
	assert.Equal(t, release.Discarded, b.change(other.ID).State)
	require.Error(t, b.Discard(t.Context(), other.ID, "marin"), "once")
	require.ErrorIs(t, b.Discard(t.Context(), 99, "marin"), store.ErrNotFound)
}
