package release

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
)

func TestEveryOpenRunHasAWayOut(t *testing.T) {
	for _, s := range OpenRuns {
		assert.False(t, s.Over())
		reached := map[RunState]bool{s: true}
		for range OpenRuns {
			for _, m := range RunTable {
				if reached[m.From] {
					reached[m.To] = true
				}
			}
		}
		for _, end := range []RunState{Done, Stopped, Failed} {
			if s == Waiting && end != Stopped && !reached[Queued] {
				continue
			}
			assert.True(t, reached[end], "from %s a run can end as %s", s, end)
		}
	}
	for _, m := range RunTable {
		assert.False(t, m.From.Over(), "a run that is over stays so: %s", m.From)
	}
}

func TestStoppingWorksInEveryOpenState(t *testing.T) {
	for _, s := range OpenRuns {
		if s.StopsAtOnce() {
			to, err := ApplyRun(s, RunStopped)
			require.NoError(t, err)
			assert.Equal(t, Stopped, to)
			continue
		}
		// The wish is kept; the run comes back to a worker, which ends it.
		if s != Running {
			to, err := ApplyRun(s, RunResumes)
			require.NoError(t, err, string(s))
			require.True(t, to.StopsAtOnce() || to == Queued)
		}
		to, err := ApplyRun(Running, RunStopped)
		require.NoError(t, err)
		assert.Equal(t, Stopped, to)
	}
	_, err := ApplyRun(Done, RunStopped)
	assert.ErrorContains(t, err, "a run that is done cannot be told that it stopped")
}

// What the end of a run means to its change follows from where the change is, not from
// what was meant to happen.
func TestTheEndOfARunSaysWhereTheChangeIs(t *testing.T) {
	const clear, broken = evidence.VerdictClear, evidence.VerdictBroken
	for _, tc := range []struct {
		from State
		end  RunEnd
		want State
	}{
		{Trying, RunEnd{Kind: TryRun, Finished: true, Verdict: broken, OnStaging: true}, Checked},
		{Trying, RunEnd{Kind: TryRun, OnStaging: true}, OnStaging},
		{Trying, RunEnd{Kind: TryRun}, Drafted},
		{Promoting, RunEnd{Kind: PromoteRun, Finished: true, Verdict: clear, OnStaging: true, OnProduction: true}, Marked},
		{Promoting, RunEnd{Kind: PromoteRun, Finished: true, Verdict: broken, OnStaging: true, OnProduction: true}, Promoted},
		{Promoting, RunEnd{Kind: PromoteRun, OnStaging: true, OnProduction: true}, Promoted},
		{Promoting, RunEnd{Kind: PromoteRun, OnStaging: true}, Checked},
		{RollingBack, RunEnd{Kind: RollBackRun, Finished: true, Verdict: clear}, RolledBack},
		{RollingBack, RunEnd{Kind: RollBackRun, Finished: true, Verdict: broken}, Restored},
		{RollingBack, RunEnd{Kind: RollBackRun}, Restored},
		{RollingBack, RunEnd{Kind: RollBackRun, OnStaging: true}, OnStaging},
		{RollingBack, RunEnd{Kind: RollBackRun, OnStaging: true, OnProduction: true}, Promoted},
		{RollingBack, RunEnd{Kind: RollBackRun, Finished: true, Verdict: clear, OnStaging: true}, OnStaging},
	} {
		e, ok := tc.end.Event()
		require.True(t, ok)
		to, ok := After(tc.from, e)
		require.True(t, ok, "%s, %s", tc.from, e)
		assert.Equal(t, tc.want, to, fmt.Sprintf("%+v", tc.end))
	}
	for _, k := range []RunKind{MarkRun, CheckRun, IsolationRun, RecheckRun} {
		_, ok := RunEnd{Kind: k, Finished: true, Verdict: clear}.Event()
		assert.False(t, ok, "a %s moves no change", k)
	}
	for _, v := range []evidence.Verdict{"", broken, evidence.VerdictUnsure, evidence.VerdictNotChecked} {
		e, _ := RunEnd{Kind: PromoteRun, Finished: true, Verdict: v, OnProduction: true}.Event()
		assert.Equal(t, Interrupted, e, "only a clear check of production makes a mark")
	}
	_, ok := After(Promoted, Accept)
	assert.False(t, ok, "what is guarded is a person's to say")
}
