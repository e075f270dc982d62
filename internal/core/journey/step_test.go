package journey

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestStepsReadAsAPersonWouldSayThem(t *testing.T) {
	for raw, want := range map[string]string{
		`{"go":"/kits"}`: "go to /kits",
		`{"click":{"role":"button","name":"Menu"}}`:                             "click button “Menu”",
		`{"click":"#buy"}`:                                                      "click #buy",
		`{"hover":{"text":"More"}}`:                                             "point at the text “More”",
		`{"scrollTo":".foot"}`:                                                  "scroll to .foot",
		`{"press":"Enter"}`:                                                     "press Enter",
		`{"fill":{"in":{"label":"Name"},"value":"Ada"}}`:                        "fill the field “Name” with “Ada”",
		`{"choose":{"in":"#kind","value":"oyster"}}`:                            "choose “oyster” in #kind",
		`{"wait":{"milliseconds":1500,"why":"the token ages"}}`:                 "wait 1.5s: the token ages",
		`{"expect":{"visible":"nav","hidden":"#x","count":{"of":"li","is":3}}}`: "expect nav to be visible, #x to be hidden, 3 × li",
		`{"expect":{"text":{"in":"main","contains":"Hi"},"noText":{"in":"main","contains":"No"},"url":"/a","status":200,"request":"/api"}}`: "expect “Hi” in main, no “No” in main, the address to be /a, status 200, a request for /api",
		`{}`: "nothing",
	} {
		var s Step
		require.NoError(t, json.Unmarshal([]byte(raw), &s))
		assert.Equal(t, want, s.String())
	}
}

func TestAJourneyKnowsWhichPageAStepWasOn(t *testing.T) {
	j := Journey{Steps: []Step{{Press: "Tab"}, {Go: "/a"}, {Press: "Tab"}, {Go: "/b"}}}
	assert.Equal(t, "/a", j.StartPage())
	assert.Equal(t, "/a", j.PageAt(0), "before the first page it is the one to come")
	assert.Equal(t, "/a", j.PageAt(2))
	assert.Equal(t, "/b", j.PageAt(3))
	assert.Equal(t, "/", Journey{}.StartPage())
	assert.True(t, Journey{}.RunsOn("production"))
	assert.False(t, Journey{Where: []string{"staging"}}.RunsOn("production"))
}

func TestTheFirstStepThatDidNotHoldIsTheFailure(t *testing.T) {
	assert.Equal(t, -1, Outcome{Steps: []StepOutcome{{Passed: true}}}.Failed())
	assert.Equal(t, 1, Outcome{Steps: []StepOutcome{{Passed: true}, {}, {}}}.Failed())
}
