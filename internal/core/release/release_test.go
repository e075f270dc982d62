package release

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
)

// promotable is a change that was checked clear on staging.
func promotable() Situation {
	return Situation{State: Checked, Edits: 1, Verdict: evidence.VerdictClear, Checked: "new", Fingerprint: "new", Staging: "new",
		Production: "old", Base: "old", StagingHasMark: true, ProductionHasMark: true}
}

func TestOnlyWhatWasCheckedClearCanBePromoted(t *testing.T) {
	to, err := Apply(promotable(), Promote)
	require.NoError(t, err)
	assert.Equal(t, Promoting, to)
	for name, tc := range map[string]struct {
		spoil func(*Situation)
		want  string
	}{
		"edited after the check":      {func(s *Situation) { s.Fingerprint = "newer" }, "edited after the check"},
		"staging changed since":       {func(s *Situation) { s.Staging = "other" }, "no longer has the settings that were checked"},
		"production changed since":    {func(s *Situation) { s.Production = "theirs" }, "Production has changed"},
		"broken":                      {func(s *Situation) { s.Verdict = evidence.VerdictBroken }, "is broken"},
		"unsure":                      {func(s *Situation) { s.Verdict = evidence.VerdictUnsure }, "is unsure"},
		"could not look":              {func(s *Situation) { s.Verdict = evidence.VerdictNotChecked }, "is not checked"},
		"never checked":               {func(s *Situation) { s.Verdict, s.Checked = "", "" }, "has not been checked"},
		"no way back":                 {func(s *Situation) { s.ProductionHasMark = false }, "no mark to roll back to"},
		"production drifted":          {func(s *Situation) { s.ProductionDrift = "production was changed outside." }, "production was changed outside."},
		"staging drifted":             {func(s *Situation) { s.StagingDrift = "staging was changed outside." }, "staging was changed outside."},
		"it deletes data":             {func(s *Situation) { s.Irreversible = true }, "never rides along in a promotion"},
		"something else is under way": {func(s *Situation) { s.ProductionBusy = "Run 3 is under way." }, "Run 3 is under way."},
	} {
		t.Run(name, func(t *testing.T) {
			s := promotable()
			tc.spoil(&s)
			to, err := Apply(s, Promote)
			var no *NotAllowed
			require.True(t, errors.As(err, &no))
			assert.Contains(t, no.Why, tc.want)
			assert.Equal(t, Checked, to, "the change stays where it was")
		})
	}
}

func TestTheSensibleNextStepIsOffered(t *testing.T) {
	next := func(s Situation) Event {
		for _, c := range Next(s) {
			if c.Next {
				return c.Event
			}
		}
		return ""
	}
	s := promotable()
	assert.Equal(t, Promote, next(s))
	s.Verdict = evidence.VerdictBroken
	assert.Equal(t, RollBack, next(s))
	s.Fingerprint = "mended"
	assert.Equal(t, Try, next(s), "an edit after a broken check is to be tried")
	assert.Equal(t, Edit, next(Situation{State: Drafted}))
	assert.Equal(t, Try, next(Situation{State: Drafted, Edits: 2}))
	assert.Equal(t, RollBack, next(Situation{State: Promoted, ProductionVerdict: evidence.VerdictBroken}))
	assert.Equal(t, Accept, next(Situation{State: Promoted, ProductionVerdict: evidence.VerdictUnsure}))
}

func TestWhatIsNotAllowedSaysWhy(t *testing.T) {
	for _, c := range Next(Situation{State: Drafted}) {
		if c.Event == Try {
			assert.False(t, c.Allowed)
			assert.Contains(t, c.Why, "Change a setting first")
		}
	}
	_, err := Apply(Situation{State: Marked}, Promote)
	assert.ErrorContains(t, err, `"promote"`)
}

func TestAPersonCanAlwaysGoBackFromAnEnvironmentThatHasTheChange(t *testing.T) {
	for _, state := range []State{OnStaging, Checked, Promoted, Marked} {
		s := Situation{State: state, StagingHasMark: true, StagingHasChange: true}
		to, err := Apply(s, RollBack)
		require.NoError(t, err, string(state))
		assert.Equal(t, RollingBack, to)
		s.StagingHasChange = false
		_, err = Apply(s, RollBack)
		assert.ErrorContains(t, err, "Neither staging nor production has it", "there is nothing to roll back")
		s.ProductionChange, s.ProductionUnknown = true, "Nobody knows what production has."
		_, err = Apply(s, RollBack)
		assert.ErrorContains(t, err, "Nobody knows", "nothing acts on top of what is not known")
	}
}

func TestWhatWasPromotedOnTopIsNamedAndAPersonChooses(t *testing.T) {
	s := Situation{State: Marked, ProductionChange: true, ProductionHasMark: true, OnTop: []string{"Lazy pictures", "Defer"}}
	_, err := Apply(s, RollBack)
	require.ErrorContains(t, err, "2 other changes were promoted on top of it: “Lazy pictures”, “Defer”.")
	to, err := Apply(s, RollBackAll)
	require.NoError(t, err)
	assert.Equal(t, RollingBack, to)
	to, err = Apply(s, TakeOut)
	require.NoError(t, err)
	assert.Equal(t, Marked, to, "it stays until the change that takes it out is promoted")
	s.OnTop = nil
	for _, c := range Next(s) {
		assert.NotContains(t, []Event{RollBackAll, TakeOut}, c.Event, "with nothing on top there is nothing to choose")
	}
}

// Every state a run can leave a change in leads on, so that no change is stuck.
func TestNoStateIsADeadEndButTheEnd(t *testing.T) {
	out := map[State]int{}
	states := map[State]bool{}
	for _, m := range Table {
		out[m.From]++
		states[m.From], states[m.To] = true, true
	}
	for s := range states {
		if s != Discarded {
			assert.Positive(t, out[s], string(s))
		}
	}
}

func TestNothingActsOnTopOfWhatIsNotKnown(t *testing.T) {
	unknown := func(s Situation) Situation {
		s.StagingUnknown, s.ProductionUnknown = "What staging has is not known.", "What production has is not known."
		return s
	}
	for _, tc := range []struct {
		s Situation
		e Event
	}{
		{Situation{State: Drafted, Edits: 1, StagingHasMark: true}, Try},
		{promotable(), Promote},
		{Situation{State: Marked, ProductionChange: true, ProductionHasMark: true}, RollBack},
		{Situation{State: Marked, ProductionChange: true, ProductionHasMark: true, OnTop: []string{"x"}}, RollBackAll},
		{Situation{State: Promoted, ProductionChange: true, ProductionVerdict: evidence.VerdictUnsure}, Accept},
	} {
		_, err := Apply(tc.s, tc.e)
		require.NoError(t, err, "%s, %s", tc.s.State, tc.e)
		_, err = Apply(unknown(tc.s), tc.e)
		assert.ErrorContains(t, err, "is not known", "%s, %s", tc.s.State, tc.e)
	}
}

func TestAChangeIsBegunAgainFromWhatProductionHasNow(t *testing.T) {
	s := promotable()
	_, err := Apply(s, Rebase)
	require.Error(t, err, "production has what it started from")
	s.Production = "theirs"
	to, err := Apply(s, Rebase)
	require.NoError(t, err)
	assert.Equal(t, Checked, to)
	assert.True(t, Next(s)[1].Next, "it is the sensible next step: %v", Next(s))
	s.ProductionDrift = "settle it first"
	_, err = Apply(s, Rebase)
	assert.ErrorContains(t, err, "settle it first")
}

func TestWhatDeletesDataNeedsARecordedBackup(t *testing.T) {
	s := Situation{State: Drafted, Edits: 1, StagingHasMark: true, Irreversible: true}
	_, err := Apply(s, Try)
	require.ErrorContains(t, err, "Record a backup of staging first")
	s.BackedUp = true
	_, err = Apply(s, Try)
	assert.NoError(t, err)
}

func TestATidyIsCarriedOutOnProductionByItself(t *testing.T) {
	s := promotable()
	s.Irreversible, s.OnlyTidies = true, true
	_, err := Apply(s, Promote)
	require.ErrorContains(t, err, "never rides along")
	_, err = Apply(s, Tidy)
	require.ErrorContains(t, err, "Record a backup of production first")
	s.ProductionBacked = true
	to, err := Apply(s, Tidy)
	require.NoError(t, err)
	assert.Equal(t, Promoting, to)
	for _, c := range Next(s) {
		assert.NotEqual(t, Promote, c.Event, "it is not offered")
		assert.Equal(t, c.Event == Tidy, c.Next)
	}
	s.Verdict = evidence.VerdictUnsure
	_, err = Apply(s, Tidy)
	require.ErrorContains(t, err, "Only a clear one")
	s = promotable()
	s.Irreversible, s.ProductionBacked = true, true
	_, err = Apply(s, Tidy)
	require.ErrorContains(t, err, "take the rest out")
	for _, c := range Next(promotable()) {
		assert.NotEqual(t, Tidy, c.Event, "a change that deletes nothing is no tidy")
	}
}

func TestWhatWasChangedOutsideOnStagingIsSettledBeforeATry(t *testing.T) {
	s := Situation{State: Drafted, Edits: 1, StagingHasMark: true, StagingDrift: "staging was changed outside."}
	_, err := Apply(s, Try)
	require.ErrorContains(t, err, "staging was changed outside.")
	s.StagingDrift, s.ProductionDrift = "", "production was changed outside."
	_, err = Apply(s, Try)
	assert.NoError(t, err, "staging can be tried on while production waits for a person")
}
