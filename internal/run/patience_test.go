package run_test

import (
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// beBusy answers so many requests besides writes with 503.
func (tr *troubled) beBusy(times int) {
	tr.mu.Lock()
	defer tr.mu.Unlock()
	tr.busy = times
}

func (tr *troubled) stillBusy() bool {
	tr.mu.Lock()
	defer tr.mu.Unlock()
	tr.busy--
	return tr.busy >= 0
}

// hang keeps every request without an answer.
func (tr *troubled) hang() {
	tr.mu.Lock()
	defer tr.mu.Unlock()
	tr.hangs = true
}

func (tr *troubled) hung() bool {
	tr.mu.Lock()
	defer tr.mu.Unlock()
	return tr.hangs
}

// TestASiteThatIsBusyForAMomentEndsNoRun answers the first reads, and then the purge, with 503.
func TestASiteThatIsBusyForAMomentEndsNoRun(t *testing.T) {
	b := newBench(t, tiny())
	tr := b.trouble(0)
	b.runner.Patience = patience
	tr.beBusy(1 << 30)
	id, err := b.store.NewRun(t.Context(), store.Run{SiteID: b.site.ID, EnvironmentID: b.envs[0].ID, Kind: release.MarkRun, RequestedBy: "tester"})
	require.NoError(t, err)
	done := make(chan error, 1)
	go func() { done <- b.runner.Run(t.Context(), id) }()
	require.Eventually(t, func() bool {
		return strings.HasPrefix(b.run(id).Progress.V.Now, "staging is not answering. Trying again in ")
	}, patience, 5*time.Millisecond, "whoever watches the run is told what it waits for")
	tr.beBusy(1)
	require.NoError(t, <-done)
	require.Equal(t, release.Done, b.run(id).State, b.run(id).Problem)
	tr.answer(func(w http.ResponseWriter, applied func() *http.Response) {
		res := applied()
		defer res.Body.Close()
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("ETag", res.Header.Get("ETag"))
		_, _ = io.Copy(w, res.Body)
		tr.beBusy(3) // when it is read back, purged, and so on
	})
	r, _ := b.try(settings.Values{"markup.compact": true})
	assert.Equal(t, release.Done, r.State, r.Problem)
	assert.Equal(t, evidence.VerdictClear, r.Verdict, r.Summary)
	assert.True(t, r.Restored)
}

// TestASiteThatHangsDelaysNoOthersRecovery: of both environments it is not known what they have; one keeps every question
// without an answer, the other is known again at once.
func TestASiteThatHangsDelaysNoOthersRecovery(t *testing.T) {
	b := newBench(t, tiny())
	tr := b.trouble(0)
	for i := range b.envs {
		env, now, err := b.runner.Acts.Read(t.Context(), b.envs[i].ID)
		require.NoError(t, err)
		fp, err := b.store.SaveRevision(t.Context(), b.site.ID, now.Values.With(settings.Values{"markup.compact": true}))
		require.NoError(t, err)
		id, err := b.store.Intend(t.Context(), store.Act{EnvironmentID: env.ID, Kind: release.ActTry, Fingerprint: fp, Predecessor: env.Fingerprint, Who: "tester"})
		require.NoError(t, err)
		require.NoError(t, b.store.EndAct(t.Context(), id, release.ActUnknown, "nobody answered", ""))
	}
	tr.hang()
	b.work(1)
	require.Eventually(t, func() bool { return b.lastAct(1).State == release.ActNotApplied }, 15*time.Second, 50*time.Millisecond, "a client waits 20 s for an answer")
	assert.Equal(t, release.ActUnknown, b.lastAct(0).State)
}
