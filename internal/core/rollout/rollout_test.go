package rollout_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/rollout"
)

func TestTheStageOfASiteIsReadOffItsChange(t *testing.T) {
	clear := evidence.VerdictClear
	for name, c := range map[string]struct {
		seen rollout.Seen
		want rollout.Stage
	}{
		"not begun":                             {rollout.Seen{}, rollout.Waiting},
		"begun, not tried":                      {rollout.Seen{Begun: true, State: release.Drafted}, rollout.Waiting},
		"tried, failed, and restored":           {rollout.Seen{Begun: true, State: release.Drafted, Verdict: evidence.VerdictNotChecked}, rollout.NotClear},
		"being tried":                           {rollout.Seen{Begun: true, State: release.Trying, Verdict: clear}, rollout.Trying},
		"clear on staging":                      {rollout.Seen{Begun: true, State: release.Checked, Verdict: clear}, rollout.Tried},
		"unsure on staging":                     {rollout.Seen{Begun: true, State: release.Checked, Verdict: evidence.VerdictUnsure}, rollout.NotClear},
		"on staging, unchecked":                 {rollout.Seen{Begun: true, State: release.OnStaging}, rollout.NotClear},
		"its promotion failed":                  {rollout.Seen{Begun: true, State: release.Checked, Verdict: clear, Failed: true}, rollout.Broken},
		"being promoted":                        {rollout.Seen{Begun: true, State: release.Promoting, Verdict: clear}, rollout.Promoting},
		"promoted, and not clear":               {rollout.Seen{Begun: true, State: release.Promoted, Verdict: clear}, rollout.Broken},
		"promoted":                              {rollout.Seen{Begun: true, State: release.Marked, Verdict: clear}, rollout.There},
		"promoted, and its watch saw something": {rollout.Seen{Begun: true, State: release.Marked, Verdict: clear, WatchSaw: true}, rollout.Broken},
		"settled":                               {rollout.Seen{Begun: true, State: release.Settled, Verdict: clear}, rollout.Settled},
		"rolled back":                           {rollout.Seen{Begun: true, State: release.RolledBack, Verdict: clear}, rollout.Broken},
		"discarded":                             {rollout.Seen{Begun: true, State: release.Discarded}, rollout.Discarded},
		"left out, however broken":              {rollout.Seen{Begun: true, State: release.Promoted, Skipped: true}, rollout.Skipped},
		"nothing to copy":                       {rollout.Seen{Nothing: true}, rollout.Nothing},
	} {
		assert.Equal(t, c.want, rollout.StageOf(c.seen), name)
	}
}

func plan(state rollout.State, pace rollout.Pace, stages ...[]rollout.Stage) rollout.Plan {
	p := rollout.Plan{State: state, Pace: pace}
	for wave, all := range stages {
		for _, s := range all {
			p.Members = append(p.Members, rollout.Member{Site: int64(len(p.Members) + 1), Wave: wave + 1, Stage: s})
		}
	}
	return p
}

func TestWavesGoOneAfterTheOtherAndStopAtTheFirstThatIsNotClear(t *testing.T) {
	type stages = []rollout.Stage
	for name, c := range map[string]struct {
		plan rollout.Plan
		want rollout.Step
	}{
		"all are tried at once":               {plan(rollout.Open, rollout.AfterCheck, stages{rollout.Waiting}, stages{rollout.Waiting, rollout.Trying}), rollout.Step{Try: []int64{1, 2}}},
		"nothing is promoted unasked":         {plan(rollout.Open, rollout.AfterCheck, stages{rollout.Tried}, stages{rollout.Tried}), rollout.Step{}},
		"the first wave":                      {plan(rollout.Going, rollout.AfterCheck, stages{rollout.Tried}, stages{rollout.Tried}), rollout.Step{Promote: []int64{1}}},
		"the second waits for the first":      {plan(rollout.Going, rollout.AfterCheck, stages{rollout.Promoting}, stages{rollout.Tried}), rollout.Step{}},
		"the second":                          {plan(rollout.Going, rollout.AfterCheck, stages{rollout.There}, stages{rollout.Tried, rollout.NotClear, rollout.Tried}), rollout.Step{Promote: []int64{2, 4}}},
		"the second after the watch":          {plan(rollout.Going, rollout.AfterWatch, stages{rollout.There}, stages{rollout.Tried}), rollout.Step{}},
		"and when that is over":               {plan(rollout.Going, rollout.AfterWatch, stages{rollout.Settled}, stages{rollout.Tried}), rollout.Step{Promote: []int64{2}}},
		"broken in the same wave":             {plan(rollout.Going, rollout.AfterCheck, stages{rollout.Broken, rollout.Tried}), rollout.Step{Stop: []int64{1}}},
		"broken in one before":                {plan(rollout.Going, rollout.AfterCheck, stages{rollout.Settled, rollout.Broken}, stages{rollout.Tried}), rollout.Step{Stop: []int64{2}}},
		"what is left out is not waited for":  {plan(rollout.Going, rollout.AfterCheck, stages{rollout.Skipped}, stages{rollout.Tried}), rollout.Step{Promote: []int64{2}}},
		"not clear on staging is waited for":  {plan(rollout.Going, rollout.AfterCheck, stages{rollout.NotClear}, stages{rollout.Tried}), rollout.Step{}},
		"through":                             {plan(rollout.Going, rollout.AfterCheck, stages{rollout.There}, stages{rollout.Nothing, rollout.Skipped}), rollout.Step{Done: true}},
		"stopped: stagings go on":             {plan(rollout.Stopped, rollout.AfterCheck, stages{rollout.Broken}, stages{rollout.Waiting, rollout.Tried}), rollout.Step{Try: []int64{2}}},
		"after its end nothing is begun":      {plan(rollout.Ended, rollout.AfterCheck, stages{rollout.Waiting}, stages{rollout.Tried}), rollout.Step{}},
		"a rollout to nobody does not finish": {plan(rollout.Going, rollout.AfterCheck), rollout.Step{}},
	} {
		assert.Equal(t, c.want, rollout.Next(c.plan), name)
	}
}

func TestWhyWavesCannotGo(t *testing.T) {
	type stages = []rollout.Stage
	for says, p := range map[string]rollout.Plan{
		"":                        plan(rollout.Open, rollout.AfterCheck, stages{rollout.Tried, rollout.Trying}, stages{rollout.Waiting}),
		"The rollout is over.":    plan(rollout.Ended, rollout.AfterCheck, stages{rollout.Tried}),
		"No site of wave 1 is":    plan(rollout.Open, rollout.AfterCheck, stages{rollout.Trying}, stages{rollout.Tried}),
		"It is not clear on prod": plan(rollout.Stopped, rollout.AfterCheck, stages{rollout.Broken}, stages{rollout.Tried}),
		"It is through on all":    plan(rollout.Open, rollout.AfterCheck, stages{rollout.There}),
	} {
		why := rollout.MayGo(p)
		if says == "" {
			assert.Empty(t, why)
		} else {
			assert.Contains(t, why, says)
		}
	}
}

// Whatever sites come to, in whatever order: nothing is promoted before all of the waves before it are through, and nothing while
// anything is broken; and where nothing breaks it comes to an end.
func TestNothingIsPromotedBeforeItsTurn(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		pace := rapid.SampledFrom([]rollout.Pace{rollout.AfterCheck, rollout.AfterWatch}).Draw(t, "pace")
		n := rapid.IntRange(1, 12).Draw(t, "sites")
		var ids []int64
		for i := range n {
			ids = append(ids, int64(i+1))
		}
		waves := rollout.Waves(ids)
		p := rollout.Plan{State: rollout.Going, Pace: pace}
		for _, id := range ids {
			p.Members = append(p.Members, rollout.Member{Site: id, Wave: waves[id], Stage: rollout.Waiting})
		}
		breaks := rapid.IntRange(0, 3).Draw(t, "breaks") // chances in 20
		for range 200 {
			s := rollout.Next(p)
			for _, id := range s.Promote {
				for _, m := range p.Members {
					require.NotEqual(t, rollout.Broken, m.Stage)
					if m.Wave < waves[id] {
						require.Contains(t, []rollout.Stage{rollout.There, rollout.Settled, rollout.Skipped}, m.Stage)
						require.True(t, pace == rollout.AfterCheck || m.Stage != rollout.There)
					}
				}
				require.Equal(t, rollout.Tried, p.Members[id-1].Stage)
				p.Members[id-1].Stage = rollout.Promoting
			}
			for _, id := range s.Try {
				p.Members[id-1].Stage = rollout.Trying
			}
			if s.Done {
				return
			}
			if len(s.Stop) > 0 {
				require.NotEmpty(t, rollout.MayGo(p))
				for _, id := range s.Stop { // a person mends it by leaving the site out
					p.Members[id-1].Stage = rollout.Skipped
				}
				continue
			}
			i := rapid.IntRange(0, n-1).Draw(t, "site")
			broken := rapid.IntRange(0, 19).Draw(t, "chance") < breaks
			switch p.Members[i].Stage {
			case rollout.Trying:
				p.Members[i].Stage = rollout.Tried
			case rollout.Promoting:
				p.Members[i].Stage = map[bool]rollout.Stage{true: rollout.Broken, false: rollout.There}[broken]
			case rollout.There:
				p.Members[i].Stage = map[bool]rollout.Stage{true: rollout.Broken, false: rollout.Settled}[broken]
			}
		}
		for i := range p.Members { // what is still under way comes to its end
			p.Members[i].Stage = rollout.Settled
		}
		require.True(t, rollout.Next(p).Done)
	})
}

func TestTheFirstWaveIsOneSiteAndTheSecondUpToThree(t *testing.T) {
	assert.Equal(t, map[int64]int{5: 1, 9: 2, 2: 2, 7: 2, 3: 3, 8: 3}, rollout.Waves([]int64{5, 9, 2, 7, 3, 8}))
}
