package watching_test

import (
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/watch"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
	"tidemarker/internal/testsite"
	"tidemarker/internal/watching"
)

func TestMain(m *testing.M) { testdb.Main(m) }

var noon = time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)

// bench is a promotion that is watched for a day.
type bench struct {
	*testsite.Site
	*watching.Desk
	now    time.Time
	change store.Change
	id     int64
}

func newBench(t *testing.T) *bench {
	t.Parallel()
	b := &bench{Site: testsite.New(t), now: noon}
	b.Desk = &watching.Desk{Store: b.Site.Desk.Store, Runner: b.Site.Desk.Runner, Changes: b.Site.Desk, Clock: func() time.Time { return b.now }}
	b.change, b.id = b.promoted("Compact", settings.Values{"markup.compact": true})
	return b
}

// promoted promotes a change and begins its watch.
func (b *bench) promoted(title string, edits settings.Values) (store.Change, int64) {
	b.Helper()
	c, r := b.Promoted(title, edits)
	production := b.Environments().Production
	looks := watch.New(24*time.Hour, []exclusion.Moment{{Kind: exclusion.Expired, After: 6 * 3600, Pages: []string{"/"}, Why: "Pages live for six hours."}}, nil)
	var id int64
	require.NoError(b, b.Store.Within(b.Context(), func(s *store.Store) (err error) {
		id, err = s.NewWatch(b.Context(), store.Watch{SiteID: b.ID, EnvironmentID: production.ID, ChangeID: c.ID, RunID: r.ID, Fingerprint: production.Fingerprint, BegunAt: b.now, EndsAt: b.now.Add(24 * time.Hour)}, looks)
		return err
	}))
	return c, id
}

// goOn lets several processes look at once.
func (b *bench) goOn() {
	b.Helper()
	var all sync.WaitGroup
	for range 3 {
		all.Go(func() { assert.NoError(b, b.GoOn(b.Context())) })
	}
	all.Wait()
}

func (b *bench) watch(id int64) store.Watch {
	b.Helper()
	w, err := b.Store.Watch(b.Context(), id)
	require.NoError(b, err)
	return w
}

func (b *bench) looks(id int64) []store.WatchLook {
	b.Helper()
	l, err := b.Store.WatchLooks(b.Context(), id)
	require.NoError(b, err)
	return l
}

func (b *bench) state(c store.Change) release.State {
	b.Helper()
	now, err := b.Store.Change(b.Context(), c.ID)
	require.NoError(b, err)
	return now.State
}

// look is the run that looks now on an environment; fails when none does.
func (b *bench) look(env store.Environment) store.Run {
	b.Helper()
	r, err := b.Store.OpenRunOn(b.Context(), env.ID)
	require.NoError(b, err, "nobody looks at "+env.Name)
	require.Equal(b, release.RecheckRun, r.Kind)
	return r
}

// day lets a day pass, minute by minute in leaps; each look comes to what verdict says, by its number.
func (b *bench) day(verdict func(n int) evidence.Verdict) (n int) {
	b.Helper()
	for end := b.now.Add(25 * time.Hour); b.now.Before(end); b.now = b.now.Add(10 * time.Minute) {
		b.goOn()
		if r, err := b.Store.OpenRunOn(b.Context(), b.Environments().Production.ID); err == nil {
			b.End(b.Context(), r.ID, verdict(n))
			n++
			b.goOn()
		}
	}
	return n
}

// outside gives production other settings, as somebody does elsewhere.
func (b *bench) outside(v settings.Values) {
	b.Helper()
	_, tag := b.Production.Layer.Settings()
	_, matched := b.Production.Layer.Replace(v, tag)
	require.True(b, matched)
	require.NoError(b, b.Site.Desk.Acts.ReadAll(b.Context()))
}

func (b *bench) told(words string) {
	b.Helper()
	history, err := b.Store.History(b.Context(), b.ID, 0, 100)
	require.NoError(b, err)
	for _, e := range history {
		if strings.Contains(e.Text, words) {
			return
		}
	}
	assert.Fail(b, "the history does not say “"+words+"”")
}

func clear(int) evidence.Verdict { return evidence.VerdictClear }

func TestAChangeSettlesByItselfWhenAllWasClear(t *testing.T) {
	b := newBench(t)
	assert.Equal(t, 6, b.day(clear), "after 10 minutes, 1, 4, 6, 12 and 24 hours, each once although three processes looked")
	assert.Equal(t, watch.Settled, b.watch(b.id).State)
	assert.Equal(t, release.Settled, b.state(b.change))
	b.told("“Compact” is settled. 6 looks, all clear.")
}

func TestLooksThatWereMissedAreMadeOnce(t *testing.T) {
	b := newBench(t)
	b.now = noon.Add(7 * time.Hour) // nobody was there for four looks
	b.goOn()
	b.End(t.Context(), b.look(b.Environments().Production).ID, evidence.VerdictClear)
	b.goOn()
	var states []watch.LookState
	for _, l := range b.looks(b.id) {
		states = append(states, l.State)
	}
	assert.Equal(t, []watch.LookState{watch.Joined, watch.Joined, watch.Joined, watch.Clear, watch.Planned, watch.Planned}, states)
	assert.Len(t, b.looks(b.id)[3].Look.V.For, 4, "it is for all of them")
}

func TestALookThatCouldNotBeMadeIsMadeAgain(t *testing.T) {
	b := newBench(t)
	n := b.day(func(n int) evidence.Verdict {
		if n == 0 {
			return evidence.VerdictNotChecked
		}
		return evidence.VerdictClear
	})
	assert.Equal(t, 7, n)
	assert.Equal(t, watch.Settled, b.watch(b.id).State, "it was clear the second time")
}

func TestWhatCannotBeLookedAtIsNeverSettled(t *testing.T) {
	other := newBench(t)
	other.day(func(int) evidence.Verdict { return evidence.VerdictNotChecked })
	other.now = other.now.Add(3 * time.Hour)
	other.day(func(int) evidence.Verdict { return evidence.VerdictNotChecked })
	w := other.watch(other.id)
	assert.Equal(t, watch.Waits, w.State)
	assert.Contains(t, w.Why, "could not be made")
	assert.Equal(t, release.Marked, other.state(other.change))
}

func broken(page string) evidence.Finding {
	return evidence.Finding{Kind: evidence.JourneyKind, Severity: evidence.Broken, Page: page, Persona: site.Visitor, Device: site.Phone, Title: "Buying does not work", Cause: "c", Part: "c"}
}

// found lets the look that is under way find something, and staging show it or not.
func (b *bench) found(f evidence.Finding, verdict evidence.Verdict, onStaging bool) {
	b.Helper()
	b.goOn()
	envs := b.Environments()
	b.End(b.Context(), b.look(envs.Production).ID, verdict, f)
	b.goOn()
	if onStaging {
		b.End(b.Context(), b.look(envs.Staging).ID, verdict, f)
	} else {
		b.End(b.Context(), b.look(envs.Staging).ID, evidence.VerdictClear)
	}
	b.goOn()
}

func TestWhatStagingDoesNotShowIsNewsOfTheSite(t *testing.T) {
	b := newBench(t)
	b.now = noon.Add(11 * time.Minute)
	f := broken("/")
	f.Kind, f.Severity = evidence.PictureKind, evidence.Unsure
	b.found(f, evidence.VerdictUnsure, false)
	l := b.looks(b.id)[0]
	assert.Equal(t, watch.News, l.State)
	require.Len(t, l.Held.V, 1)
	assert.Equal(t, watch.OfSite, l.Held.V[0].Blame)
	b.day(clear)
	assert.Equal(t, watch.Settled, b.watch(b.id).State, "news does not keep a change from settling")
}

func TestWhatIsFoundWaitsForAPerson(t *testing.T) {
	b := newBench(t)
	b.now = noon.Add(11 * time.Minute)
	b.found(broken("/"), evidence.VerdictBroken, true)
	assert.Equal(t, watch.OfChange, b.looks(b.id)[0].Held.V[0].Blame)
	b.day(clear)
	assert.Equal(t, watch.Waits, b.watch(b.id).State)
	assert.Nil(t, b.watch(b.id).BackAt, "nothing is rolled back automatically unless the site says so")
	b.told("it is not settled")

	require.ErrorAs(t, b.SayNo(t.Context(), b.id, "vera", ""), new(*watching.Conflict))
	require.NoError(t, b.Settle(t.Context(), b.change.ID, "vera", "Buying works again; the payment provider was down."))
	assert.Equal(t, release.Settled, b.state(b.change))
	b.told("is settled by a person")
	require.Error(t, b.Settle(t.Context(), b.change.ID, "vera", "Again."))
}

func TestWhatIsAcceptedMeanwhileSettles(t *testing.T) {
	b := newBench(t)
	b.now = noon.Add(11 * time.Minute)
	b.found(broken("/"), evidence.VerdictBroken, true)
	b.day(clear)
	require.Equal(t, watch.Waits, b.watch(b.id).State)
	require.NoError(t, b.Store.SaveVerdict(t.Context(), *b.looks(b.id)[0].RunID, evidence.VerdictClear, "Accepted."))
	b.goOn()
	assert.Equal(t, watch.Settled, b.watch(b.id).State)
}

func TestALaterPromotionTakesTheWatchOver(t *testing.T) {
	b := newBench(t)
	b.now = noon.Add(2 * time.Hour)
	b.goOn()
	b.End(t.Context(), b.look(b.Environments().Production).ID, evidence.VerdictClear)
	b.goOn()
	later, id := b.promoted("Lazy", settings.Values{"images.lazy": true})
	assert.Equal(t, watch.TakenOver, b.watch(b.id).State)
	b.day(clear)
	assert.Equal(t, watch.Settled, b.watch(id).State)
	assert.Equal(t, release.Settled, b.state(later))
	assert.Equal(t, release.Settled, b.state(b.change), "it is on production, and was looked at with the later one")
}

func TestAWatchGoesOnWhenTheLaterPromotionIsRolledBack(t *testing.T) {
	b := newBench(t)
	before := b.Environments().Production.Fingerprint
	b.now = noon.Add(2 * time.Hour)
	later, id := b.promoted("Lazy", settings.Values{"images.lazy": true})
	v, err := b.Store.Revision(t.Context(), b.ID, before)
	require.NoError(t, err)
	b.outside(v)
	_, err = b.Store.MoveChange(t.Context(), later.ID, release.Marked, release.RolledBack, "Rolled back.")
	require.NoError(t, err)
	b.goOn()
	assert.Equal(t, watch.Ended, b.watch(id).State)
	assert.Equal(t, watch.Watching, b.watch(b.id).State)
	assert.Equal(t, 5, b.day(clear), "those that are past at once, as one, and then the others")
	assert.Equal(t, watch.Settled, b.watch(b.id).State)
	assert.Equal(t, release.Settled, b.state(b.change))
}

func TestAWatchEndsWithAPersonsRollback(t *testing.T) {
	b := newBench(t)
	_, err := b.Store.MoveChange(t.Context(), b.change.ID, release.Marked, release.RolledBack, "Rolled back.")
	require.NoError(t, err)
	b.goOn()
	assert.Equal(t, watch.Ended, b.watch(b.id).State)
	assert.Equal(t, "The change is rolled back.", b.watch(b.id).Why)
}

func TestAWatchThatSomebodyEndsIsNotSettledByIt(t *testing.T) {
	b := newBench(t)
	require.NoError(t, b.Stop(t.Context(), b.id, "marin", "We know enough."))
	b.goOn()
	assert.Equal(t, watch.Waits, b.watch(b.id).State, "looks that were not made were not clear")
	require.NoError(t, b.Settle(t.Context(), b.change.ID, "marin", "We know enough."))
	assert.Equal(t, watch.Settled, b.watch(b.id).State)
}

func TestProductionThatWasChangedOutsideIsNotLookedAt(t *testing.T) {
	b := newBench(t)
	production := b.Environments().Production
	v, err := b.Store.Revision(t.Context(), b.ID, production.Fingerprint)
	require.NoError(t, err)
	b.outside(v.With(settings.Values{"images.lazy": true}))
	b.now = noon.Add(11 * time.Minute)
	b.goOn()
	l := b.looks(b.id)[0]
	assert.Equal(t, watch.Planned, l.State)
	assert.Contains(t, l.Why, "somebody changed them outside")
	assert.Equal(t, b.now.Add(5*time.Minute), l.TryAt.UTC(), "it is tried again")
	b.now = noon.Add(40 * time.Hour)
	for range 8 {
		b.goOn()
		b.now = b.now.Add(2 * time.Hour)
	}
	assert.Equal(t, watch.Waits, b.watch(b.id).State, "it is not tried forever")
}

func TestALookThatBeganOnceIsNotTriedForEver(t *testing.T) {
	b := newBench(t)
	b.now = noon.Add(11 * time.Minute)
	b.goOn()
	b.End(t.Context(), b.look(b.Environments().Production).ID, evidence.VerdictNotChecked)
	v, err := b.Store.Revision(t.Context(), b.ID, b.Environments().Production.Fingerprint)
	require.NoError(t, err)
	b.outside(v.With(settings.Values{"images.lazy": true}))
	for range 12 {
		b.now = b.now.Add(90 * time.Minute)
		b.goOn()
	}
	assert.Equal(t, watch.NotChecked, b.looks(b.id)[0].State)
}
