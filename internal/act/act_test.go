package act_test

import (
	"context"
	"errors"
	"log/slog"
	"maps"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/act"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/speedlayer"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

func TestMain(m *testing.M) { testdb.Main(m) }

// memory is a kind of speed layer that nobody but this test knows: it is in memory, and
// it fails as it is told.
type memory struct {
	mu      sync.Mutex
	values  settings.Values
	version int
	can     speedlayer.Abilities
	gone    bool                                       // it cannot be read
	apply   func(write func()) (release.Outcome, bool) // how it takes a write; false does the usual
	purged  []speedlayer.Scope
}

var errGone = errors.New("it is gone")

func (m *memory) kinds() speedlayer.Kinds {
	return speedlayer.Kinds{{Name: "memory", Title: "in memory", Able: func(settings.About) speedlayer.Abilities { return m.can },
		Open: func(speedlayer.Place) (speedlayer.Layer, error) { return m, nil }}}
}

func (m *memory) About(context.Context) (settings.About, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.gone {
		return settings.About{}, errGone
	}
	return settings.About{Protocol: "1", Software: "memory", Features: []string{}}, nil
}

func (m *memory) Catalogue(context.Context) (settings.Catalogue, error) {
	return settings.Catalogue{Settings: []settings.Definition{{Key: "a", Title: "A", Summary: "A.", Group: "G", Type: "switch", Default: false, Role: "other"},
		{Key: "b", Title: "B", Summary: "B.", Group: "G", Type: "switch", Default: false, Role: "other"}}}, nil
}

func (m *memory) Settings(context.Context) (speedlayer.Settings, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.gone {
		return speedlayer.Settings{}, errGone
	}
	return speedlayer.Settings{Values: maps.Clone(m.values), ETag: strconv.Itoa(m.version)}, nil
}

func (m *memory) Apply(_ context.Context, v settings.Values, ifMatch string) release.Outcome {
	m.mu.Lock()
	defer m.mu.Unlock()
	write := func() { m.values, m.version = maps.Clone(v), m.version+1 }
	if m.apply != nil {
		if o, done := m.apply(write); done {
			return o
		}
	}
	if ifMatch != strconv.Itoa(m.version) {
		return release.NotApplied(&speedlayer.ChangedElsewhere{Base: "memory"})
	}
	write()
	return release.Applied()
}

func (m *memory) Purge(_ context.Context, s speedlayer.Scope) (int, error) {
	m.purged = append(m.purged, s)
	return 3, nil
}

func (m *memory) Warm(_ context.Context, urls []string) (speedlayer.Warming, error) {
	return speedlayer.Warming{ID: "1", Total: len(urls)}, nil
}

func (m *memory) Warming(context.Context, string) (speedlayer.Warming, error) {
	return speedlayer.Warming{State: "done"}, nil
}

func (m *memory) Status(context.Context) (speedlayer.Status, error) { return speedlayer.Status{}, nil }

// bench is one environment with a speed layer in memory, as it was just read.
type bench struct {
	*testing.T
	*memory
	acts *act.Acts
	env  store.Environment
}

func newBench(t *testing.T) *bench {
	st, _ := testdb.New(t)
	m := &memory{values: settings.Values{"a": false, "b": false}, can: speedlayer.Abilities{Reads: true, Applies: true, PurgesAll: true, PurgesPages: true, Warms: true}}
	_, err := st.SaveSite(t.Context(), site.Site{Name: "Shop", Pages: []site.Page{{Path: "/", Class: "home", Personas: []string{site.Visitor}}, {Path: "/cart", Class: "cart"}},
		Environments: []site.Environment{{Name: "staging", URL: "http://staging.example", Connector: &site.Connector{Kind: "memory"}}}}, false, "ada")
	require.NoError(t, err)
	b := &bench{T: t, memory: m, acts: &act.Acts{Store: st, Kinds: m.kinds(), Log: slog.New(slog.DiscardHandler)}}
	b.read()
	return b
}

func (b *bench) read() {
	b.Helper()
	var err error
	b.env, _, err = b.acts.Read(b.Context(), 1)
	require.NoError(b, err)
}

// put applies values and says what it came to: applied, not applied, or unknown, and why.
func (b *bench) put(v settings.Values) (state release.ActState, why error) {
	b.Helper()
	fp, err := b.acts.Store.SaveRevision(b.Context(), b.env.SiteID, v)
	require.NoError(b, err)
	o := b.acts.Apply(b.Context(), act.Intent{Environment: b.env, Layer: b.memory, Values: v, Fingerprint: fp, Kind: release.ActTry, Who: "ada"})
	return o.State(), release.Take(o, func() error { return nil }, func(e error) error { return e }, func(e error) error { return e })
}

func (b *bench) last() store.Act {
	b.Helper()
	a, err := b.acts.Store.LastAct(b.Context(), b.env.ID)
	require.NoError(b, err)
	return a
}

var aOn = settings.Values{"a": true, "b": false}

func TestWhatIsReadBackDecidesWhateverTheSiteSaid(t *testing.T) {
	lie := func(o release.Outcome, lands bool) func(func()) (release.Outcome, bool) {
		return func(write func()) (release.Outcome, bool) {
			if lands {
				write()
			}
			return o, true
		}
	}
	hungUp := release.Unknown(errors.New("the connection was closed"))
	for name, tc := range map[string]struct {
		apply func(func()) (release.Outcome, bool)
		want  release.ActState
		says  string
	}{
		"it is applied":                                         {nil, release.ActApplied, ""},
		"it hung up and had applied it":                         {lie(hungUp, true), release.ActApplied, ""},
		"it hung up and had not":                                {lie(hungUp, false), release.ActNotApplied, "the connection was closed"},
		"it says so, and it is not in force":                    {lie(release.Applied(), false), release.ActNotApplied, "reads back others (a)"},
		"it was asked twice on the way, and refused the second": {lie(release.Unknown(&speedlayer.ChangedElsewhere{Base: "memory"}), true), release.ActApplied, ""},
		"it refuses":                                            {lie(release.NotApplied(&speedlayer.Refused{Base: "memory", Detail: "no"}), false), release.ActNotApplied, "refused the values"},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t)
			b.apply = tc.apply
			state, why := b.put(aOn)
			assert.Equal(t, tc.want, state)
			if tc.says == "" {
				require.NoError(t, why)
			} else {
				require.ErrorContains(t, why, tc.says)
			}
			assert.Equal(t, tc.want, b.last().State, "the record says the same")
			assert.NotNil(t, b.last().EndedAt)
		})
	}
}

func TestWhatIsNeitherTheOldNorTheNewIsDriftThatPeopleAreToldOf(t *testing.T) {
	for name, said := range map[string]release.Outcome{"taken": release.Applied(), "refused": release.Unknown(&speedlayer.ChangedElsewhere{Base: "memory"})} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t)
			was := b.env.Fingerprint
			b.apply = func(func()) (release.Outcome, bool) {
				b.values, b.version = settings.Values{"a": true, "b": true}, b.version+1
				return said, true
			}
			state, why := b.put(aOn)
			assert.Equal(t, release.ActNotApplied, state)
			require.ErrorContains(t, why, "reads back others")
			drifts, err := b.acts.Store.OpenDrifts(t.Context(), b.env.SiteID)
			require.NoError(t, err)
			require.Len(t, drifts, 1)
			env, err := b.acts.Store.Environment(t.Context(), b.env.ID)
			require.NoError(t, err)
			assert.Equal(t, []string{was, env.Fingerprint}, []string{drifts[0].Was, drifts[0].Found})
			var drifted *act.Drifted
			require.ErrorAs(t, b.acts.RefuseDrift(t.Context(), env), &drifted, "nothing is done on top of it")
		})
	}
}

func TestWhatCannotBeReadBackIsUnknownAndBlocks(t *testing.T) {
	b := newBench(t)
	b.apply = func(write func()) (release.Outcome, bool) {
		write()
		b.gone = true
		return release.Unknown(errors.New("the connection was closed")), true
	}
	state, why := b.put(aOn)
	assert.Equal(t, release.ActUnknown, state)
	require.ErrorContains(t, why, "it is not known whether the settings of staging were applied")
	assert.Nil(t, b.last().EndedAt, "it is open")

	b.apply = nil
	state, why = b.put(settings.Values{"a": true, "b": true})
	assert.Equal(t, release.ActNotApplied, state)
	require.ErrorAs(t, why, new(*act.StillUnknown), "nothing acts on top of it")
	for n := 1; n <= 3; n++ {
		_, _, err := b.acts.Read(t.Context(), b.env.ID)
		require.ErrorIs(t, err, errGone)
		assert.Equal(t, n, b.last().Reads, "each reading in vain is counted")
	}
	b.gone = false
	b.read()
	assert.Equal(t, release.ActApplied, b.last().State, "the site answers, and has it")
	assert.Equal(t, b.last().Fingerprint, b.env.Fingerprint)
	state, why = b.put(settings.Values{"a": true, "b": true})
	require.NoError(t, why)
	assert.Equal(t, release.ActApplied, state)
}

func TestAnIntentWhoseProcessDiedIsSettledByWhoeverReadsNext(t *testing.T) {
	b := newBench(t)
	fp, err := b.acts.Store.SaveRevision(t.Context(), b.env.SiteID, aOn)
	require.NoError(t, err)
	_, err = b.acts.Store.Intend(t.Context(), store.Act{EnvironmentID: b.env.ID, Kind: release.ActTry, Fingerprint: fp, Predecessor: b.env.Fingerprint, Who: "ada"})
	require.NoError(t, err)
	b.gone = true
	_, _, err = b.acts.Read(t.Context(), b.env.ID)
	require.Error(t, err)
	assert.Equal(t, release.ActUnknown, b.last().State, "nobody is left who could say")
	b.gone = false
	b.read()
	assert.Equal(t, release.ActNotApplied, b.last().State, "the site has what it had before")
	assert.Contains(t, b.last().Note, "the earlier settings are in force")
}

func TestWhatSomebodyElseChangedIsNeverOverwritten(t *testing.T) {
	b := newBench(t)
	b.values, b.version = settings.Values{"a": false, "b": true}, 7
	state, why := b.put(aOn)
	assert.Equal(t, release.ActNotApplied, state)
	var drifted *act.Drifted
	require.ErrorAs(t, why, &drifted)
	assert.Equal(t, []settings.Difference{{Key: "b", From: false, To: true, HasFrom: true, HasTo: true}}, drifted.Differences)
	assert.Equal(t, true, b.values["b"])
	b.read()
	require.Error(t, b.acts.RefuseDrift(t.Context(), b.env), "until a person accepts or reverts it")
}

func TestAWriteThatLandsLateIsOurs(t *testing.T) {
	b := newBench(t)
	var land func()
	b.apply = func(write func()) (release.Outcome, bool) {
		land = write
		return release.Unknown(errors.New("timed out")), true
	}
	state, _ := b.put(aOn)
	assert.Equal(t, release.ActNotApplied, state)
	land()
	b.read()
	assert.Equal(t, release.ActApplied, b.last().State)
	assert.Contains(t, b.last().Note, "reached the site late")
	require.NoError(t, b.acts.RefuseDrift(t.Context(), b.env), "nobody else changed anything")
}

func TestAnActIsCarriedToItsEndAlthoughWhoAskedIsGone(t *testing.T) {
	b := newBench(t)
	ctx, cancel := context.WithCancel(t.Context())
	b.apply = func(func()) (release.Outcome, bool) { cancel(); return release.Outcome{}, false }
	fp, err := b.acts.Store.SaveRevision(t.Context(), b.env.SiteID, aOn)
	require.NoError(t, err)
	o := b.acts.Apply(ctx, act.Intent{Environment: b.env, Layer: b.memory, Values: aOn, Fingerprint: fp, Kind: release.ActTry, Who: "ada"})
	assert.Equal(t, release.ActApplied, o.State())
	assert.Equal(t, release.ActApplied, b.last().State)
}

func TestPurgingAsksOnlyForWhatALayerCanDo(t *testing.T) {
	b := newBench(t)
	done, err := b.acts.Purge(t.Context(), 1, act.PurgeOrder{Paths: []string{"/cart"}, What: "/cart", Warm: true}, "ada")
	require.NoError(t, err)
	assert.Equal(t, act.PurgeDone{Purged: 3, ToWarm: 1}, done)
	assert.Equal(t, []speedlayer.Scope{{URLs: []string{"http://staging.example/cart"}}}, b.purged)
	done, err = b.acts.Purge(t.Context(), 1, act.PurgeOrder{What: "all", Stale: true, Warm: true}, "ada")
	require.NoError(t, err)
	assert.Equal(t, 1, done.ToWarm, "a cart is never warmed")
	assert.Equal(t, speedlayer.Scope{Stale: true}, b.purged[1])

	b.can.PurgesPages = false
	_, err = b.acts.Purge(t.Context(), 1, act.PurgeOrder{Paths: []string{"/cart"}, What: "/cart"}, "ada")
	require.ErrorAs(t, err, new(*act.NotPossible))
	b.can.PurgesAll = false
	_, err = b.acts.Purge(t.Context(), 1, act.PurgeOrder{What: "all"}, "ada")
	require.ErrorContains(t, err, "by hand")
	assert.Len(t, b.purged, 2)

	held, ok, err := b.acts.Store.TryLockEnvironment(t.Context(), 1)
	require.NoError(t, err)
	require.True(t, ok)
	defer held.Unlock()
	b.can.PurgesAll = true
	_, err = b.acts.Purge(t.Context(), 1, act.PurgeOrder{What: "all"}, "ada")
	require.ErrorAs(t, err, new(*act.Busy), "what is cached is part of a run's evidence")
}

// TestAReadingThatIsUnderWayIsWaitedFor: who reads right after a run ended, or while the settings are read anyway, is not sent away.
func TestAReadingThatIsUnderWayIsWaitedFor(t *testing.T) {
	b := newBench(t)
	held, ok, err := b.acts.Store.TryLockEnvironment(t.Context(), 1)
	require.NoError(t, err)
	require.True(t, ok)
	read := make(chan error)
	go func() {
		_, _, err := b.acts.Read(t.Context(), 1)
		read <- err
	}()
	time.AfterFunc(300*time.Millisecond, held.Unlock)
	require.NoError(t, <-read)

	_, err = b.acts.Store.NewRun(t.Context(), store.Run{SiteID: b.env.SiteID, EnvironmentID: 1, Kind: release.CheckRun, RequestedBy: "ada"})
	require.NoError(t, err)
	held, ok, err = b.acts.Store.TryLockEnvironment(t.Context(), 1)
	require.NoError(t, err)
	require.True(t, ok)
	defer held.Unlock()
	_, _, err = b.acts.Read(t.Context(), 1)
	require.ErrorAs(t, err, new(*act.Busy), "a run takes longer than anybody waits")
}

func TestWhatIsProposedIsReadAndCheckedFirst(t *testing.T) {
	b := newBench(t)
	p, err := b.acts.Propose(t.Context(), 1, settings.Values{"a": true})
	require.NoError(t, err)
	require.Len(t, p.Difference, 1)
	v, err := b.acts.Store.Revision(t.Context(), b.env.SiteID, p.Revision)
	require.NoError(t, err)
	assert.Equal(t, aOn, settings.Values(v))
	_, err = b.acts.Propose(t.Context(), 1, settings.Values{"a": "perhaps"})
	require.ErrorContains(t, err, "Nothing was changed")
	b.can.Applies = false
	_, err = b.acts.Propose(t.Context(), 1, settings.Values{"a": true})
	require.ErrorContains(t, err, "changed by hand")
}
