package evidence

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatOnlySomebodySeesWhoWasHereBefore(t *testing.T) {
	now := PageLook{Key: Key{"/", "", "visitor", "phone"}, Requests: []Request{{URL: "https://s.example/site.css", Kind: "stylesheet", Kept: true}, {URL: "https://s.example/app.js", Kind: "script"}}}
	unstyled := now.about(PictureKind, Broken, "Looks different at nav").caused("nav")
	f := OnlyReturning([]Finding{unstyled, now.about(ShiftKind, Unsure, "It jumps").caused("layout shift")}, now, 1000)
	require.Len(t, f, 1)
	assert.Equal(t, "Returning visitors: looks different at nav", f[0].Title)
	assert.Contains(t, f[0].Detail, "Not asked for again: “/site.css”")
	assert.Equal(t, "picture: here before: /site.css", f[0].Cause)
	assert.Equal(t, 1000, f[0].Pass)
	assert.False(t, f[0].NeedsControl(), "the browser with nothing in it is its control")
	assert.Equal(t, Note, f[0].AlsoEarlier().Severity)

	moved := now.about(PictureKind, Broken, "Looks different at nav").caused("nav")
	assert.Empty(t, Candidates([]Finding{unstyled}, []Finding{moved}), "everybody sees it")
	assert.Len(t, Candidates([]Finding{unstyled}, nil), 1)
	assert.Empty(t, OfKinds(f, []Finding{now.about(ContentKind, Broken, "Text is gone")}), "nothing of the kind differs from the mark")
}

// Looks in turn: what one side has follows what tells the sides apart; what changed in between does not, however often it changed.
func TestWhatFollowsOneSideOfLooksInTurn(t *testing.T) {
	k := Key{"/evenings", "", "visitor", "phone"}
	look := func(lines ...string) PageLook {
		p := PageLook{Key: k, Outline: []Box{{Path: "body", Parent: -1, Width: 390, Height: 800}}}
		for i, l := range lines {
			p.Outline = append(p.Outline, Box{Path: "p:nth-of-type(" + string(rune('1'+i)) + ")", Width: 390, Height: 20, Y: 20 * i})
			p.Lines = append(p.Lines, Line{l, i + 1})
		}
		return p
	}
	base := NewBaseline(Look{Pages: []PageLook{look("Evenings", "9 seats left", "Bring a coat")}}, nil)
	for name, tc := range map[string]struct {
		these, others []PageLook
		want          int
	}{
		"nothing differs":                      {[]PageLook{look("Evenings", "9 seats left"), look("Evenings", "9 seats left")}, []PageLook{look("Evenings", "9 seats left"), look("Evenings", "9 seats left")}, 0},
		"a seat is sold after the first":       {[]PageLook{look("Evenings", "9 seats left"), look("Evenings", "8 seats left")}, []PageLook{look("Evenings", "8 seats left"), look("Evenings", "8 seats left")}, 0},
		"a seat is sold each time":             {[]PageLook{look("Evenings", "9 seats left"), look("Evenings", "7 seats left")}, []PageLook{look("Evenings", "8 seats left"), look("Evenings", "6 seats left")}, 0},
		"the first lacks a text":               {[]PageLook{look("Evenings", "9 seats left"), look("Evenings", "9 seats left")}, []PageLook{look("Evenings", "9 seats left", "Bring a coat"), look("Evenings", "9 seats left", "Bring a coat")}, 1},
		"and a seat is sold each time":         {[]PageLook{look("Evenings", "9 seats left"), look("Evenings", "7 seats left")}, []PageLook{look("Evenings", "8 seats left", "Bring a coat"), look("Evenings", "6 seats left", "Bring a coat")}, 1},
		"it lacks it once":                     {[]PageLook{look("Evenings", "9 seats left"), look("Evenings", "9 seats left", "Bring a coat")}, []PageLook{look("Evenings", "9 seats left", "Bring a coat"), look("Evenings", "9 seats left", "Bring a coat")}, 0},
		"one returns between two new visitors": {[]PageLook{look("Evenings", "9 seats left")}, []PageLook{look("Evenings", "9 seats left", "Bring a coat"), look("Evenings", "8 seats left", "Bring a coat")}, 1},
		"a seat is sold before they return":    {[]PageLook{look("Evenings", "8 seats left")}, []PageLook{look("Evenings", "9 seats left"), look("Evenings", "8 seats left")}, 0},
		"one of them could not be looked at":   {[]PageLook{look("Evenings")}, []PageLook{{Key: k, Missing: "away"}}, 0},
	} {
		found, err := base.Against(tc.these, tc.others, nil)
		require.NoError(t, err, name)
		assert.Len(t, found, tc.want, "%s: %v", name, found)
	}
}

func TestWhoSignsInMustBeShownWhatIsTheirs(t *testing.T) {
	k := Key{"/kits", "", "wren", "phone"}
	with := func(lines ...string) PageLook {
		p := PageLook{Key: k}
		for _, l := range lines {
			p.Lines = append(p.Lines, Line{Text: l, Box: -1})
		}
		return p
	}
	base := NewBaseline(Look{Pages: []PageLook{with("Hello Wren Oakham", "Kits")}}, nil)
	f := NotTheirsYet(base, with("Hello Wren Oakham", "Kits"), with("Sign in", "Kits"), []string{"Wren Oakham"}, 1000)
	require.Len(t, f, 1)
	assert.Equal(t, StaleKind, f[0].Kind)
	assert.Equal(t, Broken, f[0].Severity)
	assert.Empty(t, NotTheirsYet(base, with("Sign in"), with("Sign in"), []string{"Wren Oakham"}, 1000), "it is not theirs for a new browser, either: told elsewhere")
	assert.Empty(t, NotTheirsYet(base, with("Hello Wren Oakham"), with("Hello Wren Oakham"), []string{"Wren Oakham"}, 1000))
}

func TestAPageThatABrowserKeptLacksWhatWasPublished(t *testing.T) {
	served := Probe{Edit: "a new lead", Second: Answer{PrivateTexts: []string{"a new lead"}}}
	now := PageLook{Key: Key{Page: "/", Persona: "visitor", Device: "phone"}, Lines: []Line{{"The old lead", -1}}, Requests: []Request{{URL: "http://s.example/", Kind: "document", Kept: true}}}
	f := NotPublishedYet(served, now, "tideabc", 1000)
	assert.Len(t, f, 1)
	assert.Equal(t, Broken, f[0].Severity)
	assert.Contains(t, f[0].Detail, "Their browser did not ask")

	asked := now
	asked.Requests = []Request{{URL: "http://s.example/", Kind: "document"}}
	assert.Empty(t, NotPublishedYet(served, asked, "tideabc", 1000), "it asked: what it was given is told of elsewhere")
	shown := now
	shown.Lines = []Line{{"tideabc", -1}}
	assert.Empty(t, NotPublishedYet(served, shown, "tideabc", 1000))
	assert.Empty(t, NotPublishedYet(Probe{Edit: "a new lead"}, now, "tideabc", 1000), "the site itself does not serve it yet")
}
