package release

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestAnOutcomeIsTakenApartInThree(t *testing.T) {
	said := func(o Outcome) string {
		return Take(o, func() string { return "applied" }, func(why error) string { return "not: " + why.Error() }, func(why error) string { return "unknown: " + why.Error() })
	}
	assert.Equal(t, "applied", said(Applied()))
	assert.Equal(t, "not: refused", said(NotApplied(errors.New("refused"))))
	assert.Equal(t, "unknown: cut off", said(Unknown(errors.New("cut off"))))
	assert.Equal(t, "unknown: nobody said how the act ended", said(Outcome{}), "what was forgotten is not taken for done or undone")
	assert.Equal(t, []ActState{ActApplied, ActNotApplied, ActUnknown, ActUnknown}, []ActState{Applied().State(), NotApplied(nil).State(), Unknown(nil).State(), Outcome{}.State()})
}

func TestWhatIsReadBackLaterSettlesAnAct(t *testing.T) {
	for found, want := range map[string]ActState{"new": ActApplied, "old": ActNotApplied, "theirs": ActNotApplied} {
		state, note := Settle("new", "old", found)
		assert.Equal(t, want, state)
		assert.NotEmpty(t, note)
	}
	_, note := Settle("new", "old", "theirs")
	assert.Contains(t, note, "neither")
}

func TestPausesGrowAndNeverEnd(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 1_000_000).Draw(t, "failed attempts")
		p, next := Pause(n), Pause(n+1)
		assert.GreaterOrEqual(t, next, p)
		assert.LessOrEqual(t, next, 5*time.Minute)
		assert.GreaterOrEqual(t, p, 2*time.Second)
	})
}
