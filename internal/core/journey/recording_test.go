package journey

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestARecordingBecomesAJourneyAndTellsWhatItLacks(t *testing.T) {
	raw, err := os.ReadFile("testdata/recording.json")
	require.NoError(t, err)
	j, notes, err := ReadRecording(raw)
	require.NoError(t, err)
	assert.Equal(t, "Buying a kit", j.Name)
	assert.Equal(t, []string{"phone"}, j.Devices)
	var steps []string
	for _, s := range j.Steps {
		steps = append(steps, s.String())
	}
	assert.Equal(t, []string{
		"go to /kits?kind=oyster#list", "click button “Add to basket”", "expect the address to be /cart", "fill “Password” with “" + Untold + "”", "fill #town with “Leith”", "press Enter",
		"point at the text “Menu”", "expect 2 × .line", "expect #wait to be hidden", "expect #sum to be visible"}, steps)
	assert.True(t, j.Steps[3].Fill.Secret)
	assert.Equal(t, "harvest moon", j.Steps[3].Fill.Value)
	require.Len(t, notes, 5, notes)
	for i, want := range []string{"Step 4: the value is kept as a secret", "Step 8: Shift is not held down", "Step 14: waitForExpression is left out", "Step 15: other.test is another host", "Step 16: what is done in a frame"} {
		assert.Contains(t, notes[i], want)
	}
}

func TestWhatIsNoRecordingIsRefusedWithTheReason(t *testing.T) {
	for raw, want := range map[string]string{
		`{`:                           "this is no recording",
		`[]`:                          "this is no recording",
		`{"steps": []}`:               "it has no title",
		`{"title": "x", "steps": []}`: "has no steps",
		`{"title": "x", "steps": [{"type": "fly"}]}`:                                                  "step 1 (fly): there is no such type of step",
		`{"title": "x", "steps": [{"type": "keyDown"}]}`:                                              "it names no key",
		`{"title": "x", "steps": [{"type": "navigate", "url": "file:///etc"}]}`:                       "is no address of a page",
		`{"title": "x", "steps": [{"type": "click", "selectors": [["xpath//a"]]}]}`:                   "it names no element in a way that is known",
		`{"title": "x", "steps": [{"type": "click", "selectors": [["#a"]]}]}`:                         "goes to no page",
		`{"title": "x", "steps": [` + strings.Repeat(`{"type":"close"},`, 501) + `{"type":"close"}]}`: "has 502 steps",
	} {
		_, _, err := ReadRecording([]byte(raw))
		assert.ErrorContains(t, err, want, raw)
	}
}

// Every step of a journey comes back as it was, and npm's @puppeteer/replay 3.1.3, whose format
// it is, reads what was written.
func TestAJourneyGoesOutAsARecordingAndComesBack(t *testing.T) {
	name := Target{Role: "button", Name: "Add"}
	j := Journey{Name: "All of it", Devices: []string{"desktop"}, Steps: []Step{{Go: "/kits?x=1"}, {Click: &name}, {Hover: &Target{CSS: ".menu"}}, {ScrollTo: &Target{Text: "Footer"}}, {Press: "Enter"},
		{Fill: &Input{In: Target{Name: "Town"}, Value: "Leith"}}, {Wait: &Pause{Milliseconds: 200, Why: "it ages"}}, {Expect: &Expect{Visible: &name}}, {Expect: &Expect{Hidden: &Target{CSS: "#wait"}}},
		{Expect: &Expect{Count: &Counted{Of: Target{CSS: ".line"}, Is: 3}}}, {Expect: &Expect{Text: &Containing{In: Target{CSS: "main"}, Contains: "Thank you"}, URL: "/cart"}}, {Expect: &Expect{Status: 200}}}}
	raw, err := WriteRecording(j, "https://shop.test")
	require.NoError(t, err)
	back, notes, err := ReadRecording(raw)
	require.NoError(t, err)
	assert.Empty(t, notes)
	assert.Equal(t, j, back)

	modules, err := filepath.Abs("../../../web/node_modules")
	require.NoError(t, err)
	parse := exec.Command("node", "testdata/parse.mjs", modules)
	parse.Stdin = bytes.NewReader(raw)
	out, err := parse.CombinedOutput()
	require.NoError(t, err, string(out))
	again, _, err := ReadRecording(out)
	require.NoError(t, err, "and what it makes of it is read as the same")
	for i := range again.Steps { // it knows nothing of what a customStep holds but that it is there
		if i < len(j.Steps) && j.Steps[i].Wait == nil {
			assert.Equal(t, j.Steps[i], again.Steps[i])
		}
	}
}

func TestASecretIsNotInARecording(t *testing.T) {
	raw, err := WriteRecording(Journey{Name: "in", Steps: []Step{{Go: "/"}, {Fill: &Input{In: Target{Label: "Password"}, Value: "harvest moon", Secret: true}}}}, "https://shop.test")
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "harvest moon")
}
