package evidence_test

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
)

// seen is a control after some looks: y for one that showed it, n for one that did not.
func seen(with, without string) evidence.Control {
	var c evidence.Control
	for _, x := range with {
		c = c.Seen(true, x == 'y')
	}
	for _, x := range without {
		c = c.Seen(false, x == 'y')
	}
	return c
}

func TestAControlDecidesAsSoonAsItCan(t *testing.T) {
	for name, tc := range map[string]struct {
		with, without string
		want          evidence.ControlOutcome // "" for not yet
		says          string
	}{
		"it comes with the change and goes with it": {"yy", "nnn", evidence.Gone, "Gone with the earlier settings, 3 of 3."},
		"two looks without are not enough":          {"yy", "nn", "", ""},
		"it is there with both":                     {"yy", "yyy", evidence.Remains, "There with the earlier settings, too, 3 of 3: it is not the change's."},
		"it was seen once, and not without":         {"y", "nnn", "", ""},
		"and once more without":                     {"y", "nnnn", evidence.Gone, "Gone with the earlier settings, 4 of 4."},
		"a coin":                                    {"yyn", "ynny", evidence.Random, "Comes and goes at random: in 2 of 3 looks with the change, in 2 of 4 with the earlier settings."},
		"one exception asks for more looks":         {"yy", "ynn", "", ""},
		"and is made up for by many":                {"yyyyyy", "ynnnn", evidence.Gone, "Gone with the earlier settings, 4 of 5."},
	} {
		t.Run(name, func(t *testing.T) {
			c, decided := seen(tc.with, tc.without).Decide()
			assert.Equal(t, tc.want != "", decided)
			assert.Equal(t, tc.want, c.Outcome)
			if decided {
				assert.Equal(t, tc.says, c.String())
			}
		})
	}
}

func TestAControlThatIsGivenUpClaimsOnlyWhatWasSeen(t *testing.T) {
	for name, tc := range map[string]struct {
		with, without, why string
		want               evidence.ControlOutcome
		says               string
	}{
		"the earlier settings were refused":     {"yy", "", "the site refused", evidence.NotMade, "Not looked at with the earlier settings: the site refused."},
		"it went once, and then no more looks":  {"yy", "n", "", evidence.NotMade, "Not looked at with the earlier settings: what shows it could not be looked at often enough."},
		"it was seen to come and go, and limit": {"yny", "yn", "", evidence.Random, "Comes and goes at random: in 2 of 3 looks with the change, in 1 of 2 with the earlier settings."},
	} {
		t.Run(name, func(t *testing.T) {
			c := seen(tc.with, tc.without).GivenUp(tc.why)
			assert.Equal(t, tc.want, c.Outcome)
			assert.Equal(t, tc.says, c.String())
		})
	}
}

func TestAPageThatIsNotCachedEitherWayIsNotGone(t *testing.T) {
	k := evidence.Key{Page: "/", Persona: "visitor", Device: "desktop"}
	mark := evidence.PageLook{Key: k, Class: "home", Served: "cached"}
	now := mark
	now.Served = "origin"
	found, err := evidence.ComparePage(evidence.NewBaseline(evidence.Look{Pages: []evidence.PageLook{mark}}, nil), now, nil)
	require.NoError(t, err)
	require.Len(t, found, 1)
	doubted := found[0]
	doubted.Severity = evidence.Unsure // since the settings say that it should be cached
	assert.True(t, doubted.Shows(found))
	assert.False(t, doubted.Shows(nil))
}

// A difference that has nothing to do with the settings is called the change's in at most
// one of twenty cases, however often it shows; one that does is nearly never missed.
func TestAControlsErrorRatesAreThoseItStates(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 9))
	outcomes := func(with, without float64) map[evidence.ControlOutcome]int {
		out := map[evidence.ControlOutcome]int{}
		for range 4000 {
			c := evidence.Control{}
			for range 2 { // only what two looks show is controlled
				c = c.Seen(true, rnd.Float64() < with)
			}
			if c.With < 2 {
				out["not doubted"]++
				continue
			}
			decided := false
			for n := 0; !decided; n++ {
				if n%5 < 3 {
					c = c.Seen(false, rnd.Float64() < without)
				} else {
					c = c.Seen(true, rnd.Float64() < with)
				}
				if c, decided = c.Decide(); n > 60 {
					c, decided = c.GivenUp(""), true
				}
			}
			out[c.Outcome]++
		}
		return out
	}
	for _, rate := range []float64{0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8} {
		assert.LessOrEqual(t, outcomes(rate, rate)[evidence.Gone], 4000/20, "a difference in %.0f %% of all looks", rate*100)
	}
	assert.Greater(t, outcomes(0.99, 0.01)[evidence.Gone], 3800)
	assert.Greater(t, outcomes(0.99, 0.99)[evidence.Remains], 3800)
}

func TestWhatAControlMakesOfAFinding(t *testing.T) {
	picture := evidence.Finding{Kind: evidence.PictureKind, Severity: evidence.Broken, Page: "/"}
	step := evidence.Finding{Kind: evidence.JourneyKind, Severity: evidence.Broken, Page: "/"}
	for name, tc := range map[string]struct {
		f    evidence.Finding
		out  evidence.ControlOutcome
		want evidence.Severity
	}{
		"proven":                          {picture, evidence.Gone, evidence.Broken},
		"the site looks otherwise":        {picture, evidence.Remains, evidence.Note},
		"the site itself does not work":   {step, evidence.Remains, evidence.Unsure},
		"it comes and goes":               {picture, evidence.Random, evidence.Unsure},
		"where one cannot go back, as is": {picture, evidence.NotMade, evidence.Broken},
	} {
		t.Run(name, func(t *testing.T) {
			got := tc.f.Controlled(evidence.Control{Outcome: tc.out, With: 2, WithOf: 2, WithoutOf: 3})
			assert.Equal(t, tc.want, got.Severity)
			assert.Equal(t, tc.out == evidence.Remains && tc.f.Kind == evidence.PictureKind, got.SiteMovedOn())
		})
	}
	assert.Equal(t, evidence.Unsure, picture.Unprovoked().Severity, "no setting can be to blame")
	assert.Equal(t, evidence.Broken, step.Unprovoked().Severity, "what does not work is broken whoever broke it")
	note := picture.Controlled(evidence.Control{Outcome: evidence.Remains, Without: 3, WithoutOf: 3})
	assert.Equal(t, "Clear: 4 looks, nothing a visitor would miss. The site itself has moved on, on /.",
		evidence.Summarise(evidence.VerdictClear, []evidence.Finding{note}, evidence.Progress{Planned: 4, Done: 4}))
}
