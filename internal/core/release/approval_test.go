package release_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tidemarker/internal/core/release"
)

// Every combination of who wants it, the site's rule, what became of the approval, and what has moved since.
func TestWhoMayPromoteFollowsFromTheApprovalAlone(t *testing.T) {
	states := []release.ApprovalState{"", release.Asked, release.Questioned, release.Approved, release.Refused, release.Withdrawn, release.Spent}
	for _, state := range states {
		for _, decides := range []bool{true, false} {
			for _, byAnother := range []bool{true, false} {
				for _, who := range []string{"marin", "vera"} { // marin made the change
					for _, decider := range []string{"marin", "vera"} {
						for _, fingerprint := range []string{"a", "b"} {
							for _, production := range []string{"p", "q", "a"} {
								w := release.Wish{Who: who, Decides: decides, Makers: []string{"odon", "marin"}, ByAnother: byAnother}
								if state != "" {
									w.Approval = &release.Approval{State: state, Fingerprint: "a", Production: "p", DecidedBy: decider}
								}
								holds := state == release.Approved && fingerprint == "a" && production != "q" && (!byAnother || decider != "marin")
								may := holds || decides && (!byAnother || who != "marin")
								why := w.MayPromote(release.Situation{Fingerprint: fingerprint, Production: production})
								assert.Equal(t, may, why == "", "%+v, approval %+v, change %s, production %s: %s", w, w.Approval, fingerprint, production, why)
							}
						}
					}
				}
			}
		}
	}
}

func TestAnApprovalThatIsOverStaysOver(t *testing.T) {
	events := []release.ApprovalEvent{release.AskQuestion, release.Answer, release.Approve, release.Refuse, release.Withdraw, release.Spend}
	rapid.Check(t, func(t *rapid.T) {
		state, approved := release.Asked, false
		for i, e := range rapid.SliceOfN(rapid.SampledFrom(events), 1, 12).Draw(t, "events") {
			next, err := release.ApplyApproval(state, e)
			if err != nil {
				require.Equal(t, state, next, "what is not allowed changes nothing")
				require.ErrorContains(t, err, string(state))
				continue
			}
			require.True(t, state.Open(), "%d: %s, although it was %s", i, e, state)
			approved = approved || e == release.Approve
			require.False(t, next == release.Spent && !approved, "spent without having been approved")
			state = next
		}
	})
}

func TestTheCalendarStandsInTheWayOfPromotingAlone(t *testing.T) {
	s := release.Situation{State: release.Checked, Edits: 1, Verdict: "clear", Checked: "a", Fingerprint: "a", Staging: "a", Base: "p", Production: "p", StagingHasMark: true, ProductionHasMark: true, StagingHasChange: true,
		Calendar: "Frozen until Monday."}
	var waits []string
	for _, c := range release.Next(s) {
		if c.Why == s.Calendar {
			waits = append(waits, string(c.Event))
		}
	}
	assert.Equal(t, []string{"promote"}, waits, "rolling back, editing and trying go on")
	s.Production = "a"
	_, err := release.Apply(s, release.Promote)
	require.NoError(t, err, "production has it already: it is only looked at again")
	for _, e := range []release.Event{release.Try, release.RollBack} {
		_, err := release.Apply(s, e)
		require.NoError(t, err, fmt.Sprint(e))
	}
}
