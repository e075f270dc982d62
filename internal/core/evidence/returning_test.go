package evidence

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatOnlySomebodySeesWhoWasHereBefore(t *testing.T) {
	now := PageLook{Key: Key{"/", "", "visitor", "phone"}, Requests: []Request{{URL: "https://s.example/site.css", Kind: "stylesheet", Kept: true}, {URL: "https://s.example/app.js", Kind: "script"}}}
	unstyled := now.about(PictureKind, Broken, "Looks different at nav").caused("nav")
	moved := now.about(PictureKind, Broken, "Looks different at nav").caused("nav")
	f := OnlyReturning([]Finding{unstyled, now.about(ShiftKind, Unsure, "It jumps").caused("layout shift")}, nil, now, 1000)
	require.Len(t, f, 1)
	assert.Equal(t, "Returning visitors: looks different at nav", f[0].Title)
	assert.Contains(t, f[0].Detail, "Not asked for again: “/site.css”")
	assert.Equal(t, "picture: here before: /site.css", f[0].Cause)
	assert.Equal(t, 1000, f[0].Pass)
	assert.False(t, f[0].NeedsControl(), "the browser with nothing in it is its control")
	assert.Empty(t, OnlyReturning([]Finding{unstyled}, []Finding{moved}, now, 1000), "everybody sees it")
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
