package run_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/browser"
	"tidemarker/internal/changes"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/run"
	"tidemarker/internal/store"
)

// troubled is a connector in front of an environment's own that answers badly.
type troubled struct {
	mu    sync.Mutex
	write func(w http.ResponseWriter, applied func() *http.Response) // how writes are answered; nil for properly
	gone  bool                                                       // nothing is answered
	busy  int                                                        // how many requests besides writes are still answered with 503
	hangs bool                                                       // nothing is answered, and the line is kept
}

func (tr *troubled) answer(write func(w http.ResponseWriter, applied func() *http.Response)) {
	tr.mu.Lock()
	defer tr.mu.Unlock()
	tr.write = write
}

func (tr *troubled) leave(gone bool) {
	tr.mu.Lock()
	defer tr.mu.Unlock()
	tr.gone = gone
}

func (tr *troubled) now() (write func(http.ResponseWriter, func() *http.Response), gone bool) {
	tr.mu.Lock()
	defer tr.mu.Unlock()
	return tr.write, tr.gone
}

func hangUp() { panic(http.ErrAbortHandler) }

// What a connector can make of a write.
func appliesAndHangsUp(_ http.ResponseWriter, applied func() *http.Response) { applied(); hangUp() }
func hangsUp(http.ResponseWriter, func() *http.Response)                     { hangUp() }
func answersHalf(w http.ResponseWriter, applied func() *http.Response) {
	res := applied()
	raw, _ := io.ReadAll(res.Body)
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("ETag", res.Header.Get("ETag"))
	w.Header().Set("Content-Length", "100000")
	_, _ = w.Write(raw[:len(raw)/2])
}
func fails500(w http.ResponseWriter, applied func() *http.Response) {
	applied()
	http.Error(w, "out of memory", http.StatusInternalServerError)
}

// trouble puts such a connector in front of an environment's own.
func (b *bench) trouble(env int) *troubled {
	b.Helper()
	doc := b.site.Document.V
	inst := b.staging
	if env == 1 {
		inst = b.production
	}
	behind, err := url.Parse(inst.URL)
	require.NoError(b, err)
	tr := &troubled{}
	proxy := httputil.NewSingleHostReverseProxy(behind)
	proxy.ErrorLog = nil
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		write, gone := tr.now()
		switch {
		case gone:
			hangUp()
		case tr.hung():
			<-r.Context().Done()
		case r.Method != http.MethodPut && tr.stillBusy():
			w.Header().Set("Retry-After", "1")
			w.WriteHeader(http.StatusServiceUnavailable)
		case r.Method == http.MethodPut && write != nil:
			write(w, func() *http.Response {
				out := r.Clone(r.Context())
				out.RequestURI, out.URL.Scheme, out.URL.Host, out.Host = "", behind.Scheme, behind.Host, behind.Host
				res, err := http.DefaultTransport.RoundTrip(out)
				if err != nil {
					hangUp()
				}
				return res
			})
		default:
			r.Host = behind.Host
			proxy.ServeHTTP(w, r)
		}
	}))
	b.Cleanup(server.Close)
	own, err := url.Parse(inst.ConnectorURL())
	require.NoError(b, err)
	doc.Environments[env].Connector = &site.Connector{Kind: "http", URL: server.URL + own.Path, Token: "secret"}
	for i := range doc.Environments {
		if i != env {
			doc.Environments[i].Connector.Token = "secret"
		}
	}
	b.site, err = b.store.SaveSite(b.Context(), doc, false, "tester")
	require.NoError(b, err)
	b.envs, err = b.store.Environments(b.Context(), b.site.ID)
	require.NoError(b, err)
	return tr
}

func (b *bench) env(i int) store.Environment {
	b.Helper()
	e, err := b.store.Environment(b.Context(), b.envs[i].ID)
	require.NoError(b, err)
	return e
}

// lastAct is the latest act on an environment.
func (b *bench) lastAct(env int) store.Act {
	b.Helper()
	a, err := b.store.LastAct(b.Context(), b.envs[env].ID)
	require.NoError(b, err)
	return a
}

// promotable is a change that was tried on staging and is clear there.
func (b *bench) promotable(edits settings.Values) store.Change {
	b.Helper()
	c, _ := b.begin(edits)
	require.NoError(b, b.changes.Try(b.Context(), c.ID, "marin"))
	b.workOff()
	require.Equal(b, release.Checked, b.change(c.ID).State, b.change(c.ID).Explanation)
	return b.change(c.ID)
}

// workOff carries out in this process whatever is queued, one run after the other.
func (b *bench) workOff() {
	b.Helper()
	for {
		open, err := b.store.OpenRunsOf(b.Context(), b.site.ID)
		require.NoError(b, err)
		began := false
		for _, r := range open {
			if r.State == release.Queued {
				require.NoError(b, b.runner.Run(b.Context(), r.ID))
				began = true
				break
			}
		}
		if !began {
			return
		}
	}
}

func TestAWriteWithoutAProperAnswerIsReadBackAndDecided(t *testing.T) {
	b := newBench(t, tiny())
	tr := b.trouble(0)
	b.mark(0)
	before, _ := b.staging.Layer.Settings()
	for name, write := range map[string]func(http.ResponseWriter, func() *http.Response){
		"it applies and hangs up": appliesAndHangsUp, "it answers half": answersHalf, "it answers 500 after applying": fails500,
	} {
		t.Run(name, func(t *testing.T) {
			tr.answer(write)
			r, _ := b.try(settings.Values{"markup.compact": true})
			assert.Equal(t, evidence.VerdictClear, r.Verdict, "%s %s", r.Summary, r.Problem)
			assert.True(t, r.Restored)
			now, _ := b.staging.Layer.Settings()
			assert.Empty(t, settings.Diff(before, now))
			assert.Equal(t, release.ActApplied, b.lastAct(0).State)
		})
	}
	t.Run("it hangs up before it applies", func(t *testing.T) {
		tr.answer(hangsUp)
		r, _ := b.try(settings.Values{"markup.compact": true})
		assert.Equal(t, release.Failed, r.State)
		assert.Equal(t, evidence.VerdictNotChecked, r.Verdict)
		assert.True(t, r.Restored, "the earlier fingerprint was read back")
		assert.Equal(t, release.ActNotApplied, b.lastAct(0).State)
	})
}

// goneWith promotes with a connector that makes this of the write and is gone then.
func goneWith(t *testing.T, write func(http.ResponseWriter, func() *http.Response)) (b *bench, tr *troubled, c store.Change, r store.Run) {
	b = newBench(t, tiny())
	tr = b.trouble(1)
	b.mark(0)
	b.mark(1)
	c = b.promotable(settings.Values{"markup.compact": true})
	require.NoError(t, b.changes.Promote(t.Context(), c.ID, changes.By{Who: "vera", Decides: true}, ""))
	tr.answer(func(w http.ResponseWriter, applied func() *http.Response) {
		tr.leave(true)
		write(w, applied)
	})
	b.workOff()
	runs, err := b.store.ChangeRuns(t.Context(), c.ID)
	require.NoError(t, err)
	return b, tr, b.change(c.ID), runs[0]
}

// back lets the site answer again and waits until what was unknown is known.
func (b *bench) back(tr *troubled) {
	b.Helper()
	tr.answer(nil)
	tr.leave(false)
	require.Eventually(b, func() bool {
		if b.runner.Recover(b.Context()) != nil {
			return false
		}
		open, err := b.store.OpenActs(b.Context(), b.site.ID)
		return err == nil && len(open) == 0
	}, patience, 50*time.Millisecond)
	b.workOff()
}

func TestAPromotionOfWhichNobodyKnowsIsNeverUndone(t *testing.T) {
	b, tr, c, r := goneWith(t, appliesAndHangsUp)
	assert.Equal(t, release.Unsettled, r.State)
	assert.Equal(t, release.Promoting, c.State, "it is neither promoted nor not")
	a := b.lastAct(1)
	assert.Equal(t, release.ActUnknown, a.State)
	require.NotNil(t, a.NextReadAt)

	// Nothing acts on top of it, and everybody is told why.
	_, err := b.runner.Start(t.Context(), store.Run{SiteID: b.site.ID, EnvironmentID: b.envs[1].ID, Kind: release.CheckRun, RequestedBy: "marin"})
	var open *run.NotIdle
	require.ErrorAs(t, err, &open)
	other, _ := b.begin2(settings.Values{"images.lazy": true})
	s, _, err := b.changes.Situation(t.Context(), other.ID)
	require.NoError(t, err)
	assert.Contains(t, s.ProductionUnknown, "It is not known which settings production has")
	o, err := b.store.OverviewOf(t.Context(), b.site.ID)
	require.NoError(t, err)
	assert.Equal(t, store.WaitsUnknown, o.Waits)

	// It is read again and again, with longer and longer pauses.
	require.NoError(t, b.runner.Recover(t.Context()))
	again := b.lastAct(1)
	assert.Equal(t, 1, again.Reads)
	assert.Greater(t, time.Until(*again.NextReadAt), time.Second)
	require.NoError(t, b.runner.Recover(t.Context()))
	assert.Equal(t, 1, b.lastAct(1).Reads, "not before its time")

	b.back(tr)
	assert.Equal(t, release.ActApplied, b.lastAct(1).State)
	assert.Equal(t, release.Marked, b.change(c.ID).State, b.change(c.ID).Explanation)
	r = b.run(r.ID)
	assert.Equal(t, evidence.VerdictClear, r.Verdict, r.Problem)
	assert.Empty(t, b.drifts(), "it was us")
}

// begin2 records a change without reading the environments.
func (b *bench) begin2(edits settings.Values) (store.Change, int64) {
	b.Helper()
	id, err := b.store.NewChange(b.Context(), store.Change{SiteID: b.site.ID, Title: "Other", Base: b.env(1).Fingerprint, Edits: store.JSON[settings.Values]{V: edits}, CreatedBy: "tester"})
	require.NoError(b, err)
	return b.change(id), id
}

func TestAPromotionThatDidNotLandIsNotPromotedWhenTheSiteAnswers(t *testing.T) {
	b, tr, c, r := goneWith(t, hangsUp)
	assert.Equal(t, release.Promoting, c.State)
	b.back(tr)
	assert.Equal(t, release.ActNotApplied, b.lastAct(1).State)
	assert.Equal(t, release.Checked, b.change(c.ID).State)
	r = b.run(r.ID)
	assert.Equal(t, release.Failed, r.State)
	assert.Equal(t, evidence.VerdictNotChecked, r.Verdict)
	assert.Contains(t, r.Problem, "did not take the settings")
	s, _, err := b.changes.Situation(t.Context(), c.ID)
	require.NoError(t, err)
	_, err = release.Apply(s, release.Promote)
	assert.NoError(t, err, "it can be promoted again")
}

func TestSomebodyElsesSettingsAfterAnUnknownActAreDrift(t *testing.T) {
	b, tr, c, _ := goneWith(t, appliesAndHangsUp)
	b.meddle(b.production, settings.Values{"pages.lifetime": 77})
	b.back(tr)
	require.Len(t, b.drifts(), 1)
	assert.Equal(t, release.Checked, b.change(c.ID).State)
	now, _ := b.production.Layer.Settings()
	assert.EqualValues(t, 77, now["pages.lifetime"], "nothing was overwritten")
}

func TestARunThatWaitsForTheSiteIsStoppedAsSoonAsItIsKnown(t *testing.T) {
	b, tr, c, r := goneWith(t, appliesAndHangsUp)
	require.NoError(t, b.runner.Stop(t.Context(), r.ID))
	assert.Equal(t, release.Unsettled, b.run(r.ID).State, "nobody can say yet where production stands")
	b.back(tr)
	assert.Equal(t, release.Stopped, b.run(r.ID).State)
	assert.Equal(t, release.Promoted, b.change(c.ID).State, "production has it, unchecked")
}

func TestPuttingBackGoesOnUntilItIsReadBack(t *testing.T) {
	for name, write := range map[string]func(http.ResponseWriter, func() *http.Response){"the site took it": appliesAndHangsUp, "the site did not": hangsUp} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, tiny())
			tr := b.trouble(0)
			b.mark(0)
			before, _ := b.staging.Layer.Settings()
			writes := 0
			tr.answer(func(w http.ResponseWriter, applied func() *http.Response) {
				if writes++; writes == 1 { // the try itself works
					res := applied()
					raw, _ := io.ReadAll(res.Body)
					w.Header().Set("Content-Type", "application/json")
					w.Header().Set("ETag", res.Header.Get("ETag"))
					_, _ = w.Write(raw)
					return
				}
				tr.leave(true)
				write(w, applied)
			})
			r, _ := b.try(settings.Values{"markup.compact": true})
			assert.Equal(t, release.Unsettled, r.State)
			assert.False(t, r.Restored, "nothing says so yet")
			assert.Equal(t, evidence.VerdictClear, r.Verdict, "what the check came to is kept")
			b.back(tr)
			r = b.run(r.ID)
			assert.Equal(t, release.Done, r.State, r.Problem)
			assert.True(t, r.Restored)
			assert.Equal(t, evidence.VerdictClear, r.Verdict)
			now, _ := b.staging.Layer.Settings()
			assert.Empty(t, settings.Diff(before, now))
		})
	}
}

func TestASiteThatIsAwayWhenItIsToBeRestoredIsWaitedFor(t *testing.T) {
	b := newBench(t, tiny())
	tr := b.trouble(0)
	b.mark(0)
	looked := b.runner.Tools.Browser
	asked := 0
	b.runner.Tools.Browser = func() (*browser.Browser, error) {
		// First somebody comes who is to be here before; then the settings are applied and it
		// comes to looking.
		if asked++; asked > 1 {
			tr.leave(true)
		}
		return looked()
	}
	before, _ := b.staging.Layer.Settings()
	r, _ := b.try(settings.Values{"markup.compact": true})
	assert.Equal(t, release.Running, r.State, "it is not over before staging is restored")
	assert.False(t, r.Restored)
	b.runner.Tools.Browser = looked
	tr.leave(false)
	require.NoError(t, b.runner.Run(t.Context(), r.ID))
	r = b.run(r.ID)
	assert.True(t, r.State.Over(), r.Problem)
	assert.True(t, r.Restored)
	now, _ := b.staging.Layer.Settings()
	assert.Empty(t, settings.Diff(before, now))
}

func TestAnActThatLandsLateIsOursAllTheSame(t *testing.T) {
	b := newBench(t, tiny())
	tr := b.trouble(0)
	b.mark(0)
	tr.answer(hangsUp)
	r, _ := b.try(settings.Values{"markup.compact": true})
	require.Equal(t, release.ActNotApplied, b.lastAct(0).State)
	b.meddle(b.staging, settings.Values{"markup.compact": true}) // the request was still on its way
	_, _, err := b.runner.Acts.Read(t.Context(), b.envs[0].ID)
	require.NoError(t, err)
	assert.Empty(t, b.drifts())
	assert.Equal(t, release.ActApplied, b.lastAct(0).State)
	assert.Equal(t, r.Target, b.env(0).Fingerprint)
}
