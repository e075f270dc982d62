package rollouts_test

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/notice"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/rollout"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/rollouts"
	"tidemarker/internal/standin"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
	"tidemarker/internal/testsite"
)

func TestMain(m *testing.M) { testdb.Main(m) }

// bench is a site on which a change settled, and others beside it.
type bench struct {
	*testing.T
	*rollouts.Desk
	first  *testsite.Site
	change store.Change
	others map[int64]*testsite.Site
	ids    []int64 // of the others, in order
	later  time.Duration
}

var vera = changes.By{Who: "Vera", Decides: true}

func newBench(t *testing.T, edits settings.Values, others int) *bench {
	t.Parallel()
	b := &bench{T: t, first: testsite.New(t), others: map[int64]*testsite.Site{}}
	b.Desk = &rollouts.Desk{Store: b.first.Desk.Store, Runner: b.first.Desk.Runner, Changes: b.first.Desk, Clock: func() time.Time { return time.Now().Add(b.later) }}
	_, err := b.Store.AddPerson(t.Context(), "Vera", "unused", people.Approver)
	require.NoError(t, err)
	b.change, _ = b.first.Promoted("Deferred scripts", edits)
	ok, err := b.Store.MoveChange(t.Context(), b.change.ID, release.Marked, release.Settled, "All was clear.")
	require.NoError(t, err)
	require.True(t, ok)
	for i := range others {
		s := b.first.Beside(fmt.Sprintf("Shop %d", i+1), standin.Fernhollow())
		envs := s.Environments()
		s.Marked(envs.Staging, envs.Production)
		b.others[s.ID], b.ids = s, append(b.ids, s.ID)
	}
	return b
}

// begin begins a rollout to all others in waves.
func (b *bench) begin(pace rollout.Pace, waves ...int) int64 {
	b.Helper()
	t := rollouts.Terms{Title: "Deferred scripts", Pace: pace}
	for i, w := range waves {
		t.Sites = append(t.Sites, rollouts.Destination{Site: b.ids[i], Wave: w})
	}
	id, err := b.Begin(b.Context(), b.change.ID, t, "Marin")
	require.NoError(b, err)
	return id
}

// goOn lets several processes look at once, as often as it takes until nothing more follows.
func (b *bench) goOn() {
	b.Helper()
	for range 4 {
		b.later += time.Minute // what waited is looked at again
		var all sync.WaitGroup
		for range 3 {
			all.Go(func() { assert.NoError(b, b.GoOn(b.Context())) })
		}
		all.Wait()
	}
}

func (b *bench) stages(id int64) (out []rollout.Stage) {
	b.Helper()
	_, _, sites, err := b.Look(b.Context(), id)
	require.NoError(b, err)
	for _, s := range sites {
		out = append(out, s.Stage)
	}
	return out
}

// site is one of a rollout's by its number among the others.
func (b *bench) site(id int64, i int) rollouts.Site {
	b.Helper()
	_, _, sites, err := b.Look(b.Context(), id)
	require.NoError(b, err)
	at := slices.IndexFunc(sites, func(s rollouts.Site) bool { return s.SiteID == b.ids[i] })
	require.GreaterOrEqual(b, at, 0)
	return sites[at]
}

// ends lets what is under way on a site come to a verdict, as a worker would.
func (b *bench) ends(id int64, i int, verdict evidence.Verdict) {
	b.Helper()
	ctx := context.WithoutCancel(b.Context())
	s, m := b.others[b.ids[i]], b.site(id, i)
	envs := s.Environments()
	env, kind, to := envs.Staging, release.ActTry, release.Checked
	if m.Stage == rollout.Promoting {
		env, kind, to = envs.Production, release.ActPromote, release.Marked
		if verdict != evidence.VerdictClear {
			to = release.Promoted
		}
	}
	run, err := b.Store.OpenRunOn(ctx, env.ID)
	require.NoError(b, err)
	s.Apply(env, kind, m.Change, run.ID)
	s.End(ctx, run.ID, verdict)
	ok, err := b.Store.MoveChange(ctx, m.Change.ID, m.Change.State, to, "It was "+string(verdict)+".")
	require.NoError(b, err)
	require.True(b, ok)
}

func (b *bench) told() (texts []string) {
	b.Helper()
	rows, err := b.Store.Pool.Query(b.Context(), `SELECT text FROM notices WHERE topic = $1 ORDER BY id`, notice.RolledOut)
	require.NoError(b, err)
	defer rows.Close()
	for rows.Next() {
		var s string
		require.NoError(b, rows.Scan(&s))
		texts = append(texts, s)
	}
	return texts
}

const clear = evidence.VerdictClear

func TestAChangeGoesToOtherSitesInWavesAndStopsAtTheFirstThatIsNotClear(t *testing.T) {
	b := newBench(t, settings.Values{"scripts.defer": true, "scripts.deferNot": []any{"/assets/fern.js"}, "pages.lifetime": 7200}, 4)
	id := b.begin(rollout.AfterCheck, 1, 2, 2, 3)
	b.goOn()
	assert.Equal(t, []rollout.Stage{rollout.Trying, rollout.Trying, rollout.Trying, rollout.Trying}, b.stages(id), "side by side")
	m := b.site(id, 0)
	assert.Equal(t, settings.Values{"scripts.defer": true, "pages.lifetime": 7200.0}, m.Change.Edits.V, "scripts of the other site are not copied unless somebody says that they are right")
	require.Len(t, m.Without.V, 1)
	assert.Contains(t, m.Without.V[0].Why, "nobody said that its values are right there")
	assert.Contains(t, m.Change.Reason, "Copied from “Deferred scripts” of Fernhollow")
	changesOf, err := b.Store.Changes(t.Context(), b.ids[0], 10, 0)
	require.NoError(t, err)
	assert.Len(t, changesOf, 1, "it is begun once, however many processes look")

	require.ErrorAs(t, b.Go(t.Context(), id, vera), new(*changes.Conflict), "nothing was tried yet")
	for i := range b.ids {
		b.ends(id, i, clear)
	}
	b.goOn()
	assert.Equal(t, []rollout.Stage{rollout.Tried, rollout.Tried, rollout.Tried, rollout.Tried}, b.stages(id), "nothing is promoted unasked")

	require.NoError(t, b.Go(t.Context(), id, vera))
	b.goOn()
	assert.Equal(t, []rollout.Stage{rollout.Promoting, rollout.Tried, rollout.Tried, rollout.Tried}, b.stages(id))
	assert.Equal(t, "Vera", b.site(id, 0).Promoted.RequestedBy)
	b.ends(id, 0, clear)
	b.goOn()
	assert.Equal(t, []rollout.Stage{rollout.There, rollout.Promoting, rollout.Promoting, rollout.Tried}, b.stages(id))

	b.ends(id, 1, evidence.VerdictBroken)
	b.goOn()
	r, _, _, err := b.Look(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, rollout.Stopped, r.State)
	assert.Equal(t, "Shop 2: the change is promoted. It was broken.", r.Why)
	assert.Equal(t, []rollout.Stage{rollout.There, rollout.Broken, rollout.Tried, rollout.Tried}, b.stages(id), "what had not begun does not begin")
	assert.Len(t, b.told(), 1)
	require.ErrorAs(t, b.Go(t.Context(), id, vera), new(*changes.Conflict))

	require.ErrorAs(t, b.Skip(t.Context(), id, b.ids[1], " ", "Vera"), new(*changes.NotRight))
	require.NoError(t, b.Skip(t.Context(), id, b.ids[1], "Its theme does it already.", "Vera"))
	require.NoError(t, b.Go(t.Context(), id, vera))
	for i := 2; i < 4; i++ {
		b.goOn()
		assert.Equal(t, rollout.Promoting, b.site(id, i).Stage)
		b.ends(id, i, clear)
	}
	b.goOn()
	r, _, _, err = b.Look(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, rollout.Ended, r.State)
	assert.Equal(t, "3 of 4 sites have it, 1 skipped.", r.Why)
	assert.Len(t, b.told(), 2)
	require.ErrorAs(t, b.End(t.Context(), id, "Vera"), new(*changes.Conflict))
}

// It is stopped between the moment in which a process sees that a site is to be promoted, and that in which it promotes it.
func TestNothingIsPromotedOnceItIsStopped(t *testing.T) {
	b := newBench(t, settings.Values{"markup.compact": true}, 1)
	id := b.begin(rollout.AfterCheck, 1)
	b.goOn()
	b.ends(id, 0, clear)
	require.NoError(t, b.Go(t.Context(), id, vera))
	b.later += time.Minute
	now, stopped := b.Clock, false
	b.Clock = func() time.Time {
		if !stopped {
			stopped = true
			assert.NoError(t, b.Stop(t.Context(), id, "Vera"))
		}
		return now()
	}
	require.NoError(t, b.GoOn(t.Context()))
	require.True(t, stopped)
	assert.Equal(t, rollout.Tried, b.site(id, 0).Stage)
}

func TestAWaveWaitsForTheWatchesOfTheOneBefore(t *testing.T) {
	b := newBench(t, settings.Values{"markup.compact": true}, 2)
	id := b.begin(rollout.AfterWatch, 1, 2)
	b.goOn()
	b.ends(id, 0, clear)
	b.ends(id, 1, clear)
	require.NoError(t, b.Go(t.Context(), id, vera))
	b.goOn()
	b.ends(id, 0, clear)
	b.goOn()
	assert.Equal(t, []rollout.Stage{rollout.There, rollout.Tried}, b.stages(id))
	ok, err := b.Store.MoveChange(t.Context(), b.site(id, 0).Change.ID, release.Marked, release.Settled, "")
	require.NoError(t, err)
	require.True(t, ok)
	b.goOn()
	assert.Equal(t, []rollout.Stage{rollout.Settled, rollout.Promoting}, b.stages(id))
}

func TestEachStagingIsMeasuredOnceBeforeItIsPromoted(t *testing.T) {
	b := newBench(t, settings.Values{"markup.compact": true}, 1)
	id, err := b.Begin(t.Context(), b.change.ID, rollouts.Terms{Title: "Compact", Pace: rollout.AfterCheck, Measures: true, Sites: []rollouts.Destination{{Site: b.ids[0], Wave: 1}}}, "Marin")
	require.NoError(t, err)
	b.goOn()
	b.ends(id, 0, clear)
	b.goOn()
	m := b.site(id, 0)
	require.NotNil(t, m.Measured)
	assert.Equal(t, release.MeasureRun, m.Measured.Kind)
	assert.Equal(t, rollout.Tried, m.Stage)
	require.NoError(t, b.Go(t.Context(), id, vera))
	b.goOn()
	assert.Contains(t, b.site(id, 0).Said, "(measure) is under way", "it is promoted after that")
	b.others[b.ids[0]].End(t.Context(), m.Measured.ID, clear)
	b.goOn()
	assert.Equal(t, rollout.Promoting, b.site(id, 0).Stage)
	assert.Equal(t, m.Measured.ID, b.site(id, 0).Measured.ID)
}

func TestASiteThatCannotGoOnSaysWhyAndKeepsNoOtherFromIt(t *testing.T) {
	b := newBench(t, settings.Values{"markup.compact": true}, 3)
	busy := b.others[b.ids[0]].Environments().Staging
	other, err := b.Runner.Start(t.Context(), store.Run{SiteID: b.ids[0], EnvironmentID: busy.ID, Kind: release.CheckRun, RequestedBy: "Otto"})
	require.NoError(t, err)
	require.NoError(t, b.others[b.ids[1]].Production.Close())
	id := b.begin(rollout.AfterCheck, 1, 1, 1)
	b.later += time.Minute
	_ = b.GoOn(t.Context())
	b.later += time.Minute
	_ = b.GoOn(t.Context())
	assert.Equal(t, []rollout.Stage{rollout.Waiting, rollout.Waiting, rollout.Trying}, b.stages(id))
	assert.Contains(t, b.site(id, 0).Said, "is under way on staging")
	assert.Contains(t, b.site(id, 1).Said, "brought no answer")
	require.NoError(t, b.Runner.Stop(t.Context(), other.ID))
	b.later += time.Minute
	_ = b.GoOn(t.Context())
	assert.Equal(t, rollout.Trying, b.site(id, 0).Stage)
	assert.Empty(t, b.site(id, 0).Said)
}

func TestWhoLetItGoHasToBeAllowedToWhenItIsPromoted(t *testing.T) {
	b := newBench(t, settings.Values{"markup.compact": true}, 1)
	id := b.begin(rollout.AfterCheck, 1)
	b.goOn()
	b.ends(id, 0, clear)
	require.NoError(t, b.Go(t.Context(), id, vera))
	_, err := b.Store.Pool.Exec(t.Context(), `UPDATE people SET disabled = true WHERE name = 'Vera'`)
	require.NoError(t, err)
	b.goOn()
	assert.Equal(t, rollout.Tried, b.site(id, 0).Stage)
	assert.Contains(t, b.site(id, 0).Said, "Vera, who released it, may no longer promote")
	require.NoError(t, b.Stop(t.Context(), id, "Ada"))
	_, err = b.Store.AddPerson(t.Context(), "Ada", "unused", people.Administrator)
	require.NoError(t, err)
	require.NoError(t, b.Go(t.Context(), id, changes.By{Who: "Ada", Decides: true}))
	b.goOn()
	assert.Equal(t, rollout.Promoting, b.site(id, 0).Stage)
}

func TestOtherCataloguesGetWhatMeansTheSame(t *testing.T) {
	b := newBench(t, settings.Values{"scripts.defer": true, "pages.lifetime": 7200, "tidy.keep": 3}, 0)
	hill := b.first.Beside("The hill", standin.Quillet())
	offers, err := b.Offers(t.Context(), b.change.ID)
	require.NoError(t, err)
	require.Len(t, offers, 1, "the site itself is none of them")
	assert.Equal(t, hill.ID, offers[0].SiteID)
	assert.Empty(t, offers[0].Why)
	roles := map[settings.Role]bool{}
	for _, m := range offers[0].Fit.Mapped {
		roles[m.From.Role] = true
		assert.NotContains(t, m.Key, ".", "keys of the other catalogue")
	}
	assert.True(t, roles["js-defer"])
	assert.False(t, roles["tidy"], "what deletes data is never copied")
}

func TestWhatCannotBeginIsRefusedWithWhy(t *testing.T) {
	b := newBench(t, settings.Values{"markup.compact": true}, 1)
	to := func(sites ...int64) rollouts.Terms {
		w := rollouts.Terms{Title: "x", Pace: rollout.AfterCheck}
		for _, s := range sites {
			w.Sites = append(w.Sites, rollouts.Destination{Site: s, Wave: 1})
		}
		return w
	}
	_, err := b.Begin(t.Context(), b.change.ID, to(b.first.ID), "Marin")
	require.ErrorContains(t, err, "has the change itself")
	_, err = b.Begin(t.Context(), b.change.ID, to(b.ids[0], b.ids[0]), "Marin")
	require.ErrorContains(t, err, "named twice")
	_, err = b.Begin(t.Context(), b.change.ID, to(b.ids[0]), "Marin")
	require.NoError(t, err)
	_, err = b.Begin(t.Context(), b.change.ID, to(b.ids[0]), "Marin")
	require.ErrorContains(t, err, "takes it to Shop 1 already")
	young, _ := b.first.Promoted("Too young", settings.Values{"images.lazy": true})
	_, err = b.Begin(t.Context(), young.ID, to(b.ids[0]), "Marin")
	require.ErrorContains(t, err, "What has settled on one site goes on to others")
}
