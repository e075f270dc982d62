package evidence_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/journey"
)

// found compares one look with a mark and ties what it finds.
func found(t *testing.T, mark, now evidence.Look) []evidence.Finding {
	t.Helper()
	base := evidence.NewBaseline(mark, nil)
	f, err := evidence.Compare(base, now, nil)
	require.NoError(t, err)
	f = evidence.Tie(base, now, f)
	evidence.Sort(f)
	return f
}

func causesOf(findings []evidence.Finding) []string {
	var out []string
	for _, f := range findings {
		if !slices.Contains(out, f.Cause) && f.Severity != evidence.Note {
			out = append(out, f.Cause)
		}
	}
	return out
}

func pageAt(path, device string, lines []string, requests []evidence.Request, errors ...evidence.ScriptError) evidence.PageLook {
	p := evidence.PageLook{Key: evidence.Key{Page: path, Persona: "visitor", Device: device}, Status: 200, Address: "http://shop.test" + path, Requests: requests, Errors: errors}
	for _, l := range lines {
		p.Lines = append(p.Lines, evidence.Line{Text: l, Box: -1})
	}
	return p
}

func taken(name, persona, page string, passed bool, requests []evidence.Request, errors ...evidence.ScriptError) evidence.JourneyLook {
	o := journey.StepOutcome{Step: "click the button “Add to basket”", Passed: passed}
	if !passed {
		o.Why = "It is not there."
	}
	return evidence.JourneyLook{Key: evidence.Key{Page: page, Journey: name, Persona: persona, Device: "phone"}, Requests: requests, Errors: errors,
		Outcome: journey.Outcome{Steps: []journey.StepOutcome{o}}}
}

// One script that is missing breaks four pages, two journeys and a persona, in script
// errors, lost text and what depends on it: it is one cause.
func TestAMissingScriptIsOneCause(t *testing.T) {
	ok := []evidence.Request{{URL: "http://shop.test/app.js", Kind: "script", Status: 200}}
	lost := []evidence.Request{{URL: "http://shop.test/app.js", Kind: "script", Status: 404}}
	broken := evidence.ScriptError{Message: "ReferenceError: app is not defined"}
	var mark, now evidence.Look
	for _, path := range []string{"/", "/kits", "/cart", "/contact"} {
		mark.Pages = append(mark.Pages, pageAt(path, "phone", []string{"Menu", "Basket: 0"}, ok))
		now.Pages = append(now.Pages, pageAt(path, "phone", []string{"Menu"}, lost, broken))
	}
	for _, name := range []string{"menu", "basket"} {
		mark.Journeys = append(mark.Journeys, taken(name, "visitor", "/", true, ok))
		now.Journeys = append(now.Journeys, taken(name, "visitor", "/", false, lost, broken))
	}
	now.Journeys = append(now.Journeys, taken("getting ready as buyer", "buyer", "/kits", false, lost, broken))
	mark.Journeys = append(mark.Journeys, taken("getting ready as buyer", "buyer", "/kits", true, ok))
	own := evidence.PageLook{Key: evidence.Key{Page: "/cart", Persona: "buyer", Device: "phone"}, Status: 200}
	mark.Pages = append(mark.Pages, own)
	own.Missing, own.NotReady = "buyer could not be made ready", true
	now.Pages = append(now.Pages, own)

	base := evidence.NewBaseline(mark, nil)
	f, err := evidence.Compare(base, now, nil)
	require.NoError(t, err)
	// As in a run: the steps that make somebody ready are compared as such.
	f = slices.DeleteFunc(f, func(f evidence.Finding) bool { return f.Journey == "getting ready as buyer" })
	f = append(f, evidence.CompareReady(base, now.Journeys[2])...)
	f = evidence.Tie(base, now, f)
	evidence.Sort(f)
	assert.Equal(t, []string{"missing-resource: /app.js"}, causesOf(f))
	assert.Equal(t, evidence.MissingKind, f[0].Kind, "the cause comes first")
	assert.False(t, f[0].Symptom)
	assert.Equal(t, "Broken for phone visitors on 4 pages: the script /app.js is missing.", evidence.Summarise(evidence.VerdictBroken, slices.DeleteFunc(f, func(f evidence.Finding) bool { return f.Persona == "buyer" }), evidence.Progress{}))
	for _, x := range f {
		assert.NotEqual(t, evidence.LeakKind, x.Kind)
	}
}

// What Tide Marker did not ask is no fault of the site's: it is said first, with what mends
// it, and the run is not checked.
func TestAHostThatWasNotAskedIsNotTheSitesFault(t *testing.T) {
	mark := evidence.Look{Pages: []evidence.PageLook{pageAt("/", "phone", []string{"Menu", "Basket: 0"}, nil)}}
	blocked := []evidence.Request{{URL: "http://cdn.test/app.js", Kind: "script", Blocked: true}, {URL: "http://cdn.test/more.js", Kind: "script", Blocked: true}}
	now := evidence.Look{Pages: []evidence.PageLook{pageAt("/", "phone", []string{"Menu"}, blocked, evidence.ScriptError{Message: "ReferenceError: app is not defined"})}}
	f := found(t, mark, now)
	require.NotEmpty(t, f)
	assert.Equal(t, "cdn.test was not asked: the site does not list it", f[0].Title)
	assert.Contains(t, f[0].Detail, "2 requests were not sent to it")
	assert.Equal(t, "cdn.test", f[0].Host)
	for _, x := range f[1:] {
		assert.True(t, x.Symptom, x.Title)
		assert.Equal(t, evidence.Note, x.Severity, x.Title)
	}
	looks := evidence.Progress{Planned: 1, Done: 1}
	assert.Equal(t, evidence.VerdictNotChecked, evidence.Judge(f, looks))
	assert.Equal(t, "Not checked: cdn.test was not asked, since the site does not list it. Add the host to the site and look again.", evidence.Summarise(evidence.VerdictNotChecked, f, looks))

	harmless := evidence.Look{Pages: []evidence.PageLook{pageAt("/", "phone", []string{"Menu", "Basket: 0"}, blocked)}}
	f = found(t, mark, harmless)
	assert.Equal(t, evidence.VerdictClear, evidence.Judge(f, looks), "an advertisement from another host each time costs nothing: %v", f)

	same := evidence.Look{Pages: []evidence.PageLook{pageAt("/", "phone", []string{"Menu", "Basket: 0"}, blocked)}}
	assert.Empty(t, found(t, same, same), "a host that was not asked for the mark, either, changes nothing")
}

func TestWhatIsThereWithTheEarlierSettingsIsNoSymptom(t *testing.T) {
	mark := evidence.Look{Pages: []evidence.PageLook{pageAt("/", "phone", []string{"3 seats left"}, nil)}}
	now := evidence.Look{Pages: []evidence.PageLook{pageAt("/", "phone", []string{"2 seats left"}, nil, evidence.ScriptError{Message: "TypeError: x"})}}
	base := evidence.NewBaseline(mark, nil)
	f, err := evidence.Compare(base, now, nil)
	require.NoError(t, err)
	for i, x := range f {
		outcome := evidence.Gone
		if x.Kind == evidence.ContentKind {
			outcome = evidence.Remains
		}
		f[i] = x.Controlled(evidence.Control{Outcome: outcome, With: 2, WithOf: 2, WithoutOf: 3})
	}
	for _, x := range evidence.Tie(base, now, f) {
		assert.False(t, x.Symptom, x.Title)
	}
}

func TestAJourneyExplainsWhatLooksDifferentWhereItStops(t *testing.T) {
	mark := evidence.Look{Pages: []evidence.PageLook{pageAt("/kits", "phone", []string{"Menu", "Library"}, nil)}, Journeys: []evidence.JourneyLook{taken("menu", "visitor", "/kits", true, nil)}}
	now := evidence.Look{Pages: []evidence.PageLook{pageAt("/kits", "phone", []string{"Menu"}, nil)}, Journeys: []evidence.JourneyLook{taken("menu", "visitor", "/kits", false, nil)}}
	f := found(t, mark, now)
	assert.Equal(t, []string{"journey: menu, step 1"}, causesOf(f))
	assert.Equal(t, evidence.JourneyKind, f[0].Kind)
}

// Two scripts are missing; each error comes of the one that it names, that its stack leads to,
// or that came before it.
func TestEachErrorComesOfTheScriptThatItLacks(t *testing.T) {
	script := func(name string, status int) evidence.Request {
		return evidence.Request{URL: "http://shop.test/assets/" + name, Kind: "script", Status: status}
	}
	loaded := script("part.js", 404)
	loaded.From = "http://shop.test/assets/loader.js"
	was := []evidence.Request{script("fern.js", 200), script("loader.js", 200), script("part.js", 200), script("menu.js", 200), script("tail.js", 200)}
	now := []evidence.Request{script("fern.js", 404), script("loader.js", 200), loaded, script("menu.js", 200), script("tail.js", 404)}
	named := evidence.ScriptError{Message: "ReferenceError: Fern is not defined", Source: "http://shop.test/assets/menu.js"}
	byStack := evidence.ScriptError{Message: "TypeError: x is null", Source: "http://shop.test/assets/menu.js", By: []string{"http://shop.test/assets/menu.js", "http://shop.test/assets/part.js"}}
	f := found(t, evidence.Look{Pages: []evidence.PageLook{pageAt("/", "phone", nil, was)}}, evidence.Look{Pages: []evidence.PageLook{pageAt("/", "phone", nil, now, named, byStack)}})
	causes := map[string]string{}
	for _, x := range f {
		if x.Kind == evidence.ScriptErrorKind {
			assert.True(t, x.Symptom)
			causes[x.Title] = x.Cause
		}
	}
	assert.Equal(t, map[string]string{"Script error: ReferenceError: Fern is not defined": "missing-resource: /assets/fern.js",
		"Script error: TypeError: x is null": "missing-resource: /assets/part.js"}, causes)
	for _, x := range f {
		if x.Part == "missing-resource: /assets/part.js" {
			assert.Contains(t, x.Detail, "/assets/loader.js asked for it.")
		}
	}
}

// A script that is no longer loaded explains the error of what needs it. Alone it is a note, and
// where another is loaded in its place nothing is said.
func TestAScriptThatIsNoLongerLoadedExplainsWhatFails(t *testing.T) {
	menu := evidence.Request{URL: "http://shop.test/menu.js", Kind: "script", Status: 200}
	app := evidence.Request{URL: "http://shop.test/app.js", Kind: "script", Status: 200}
	mark := evidence.Look{Pages: []evidence.PageLook{pageAt("/", "phone", []string{"Menu"}, []evidence.Request{app, menu})}}
	failing := evidence.ScriptError{Message: "ReferenceError: app is not defined", Source: "http://shop.test/menu.js"}
	f := found(t, mark, evidence.Look{Pages: []evidence.PageLook{pageAt("/", "phone", nil, []evidence.Request{menu}, failing)}})
	require.NotEmpty(t, f)
	assert.Equal(t, "The script /app.js is no longer loaded", f[0].Title)
	assert.Equal(t, evidence.Broken, f[0].Severity)
	assert.Len(t, causesOf(f), 1)

	f = found(t, mark, evidence.Look{Pages: []evidence.PageLook{pageAt("/", "phone", []string{"Menu"}, []evidence.Request{menu})}})
	require.Len(t, f, 1)
	assert.Equal(t, evidence.Note, f[0].Severity, "nothing comes of it")

	delayed := []evidence.Request{menu, app}
	for i := range delayed {
		delayed[i].Later = true
	}
	f = found(t, mark, evidence.Look{Pages: []evidence.PageLook{pageAt("/", "phone", nil, delayed, failing)}})
	require.NotEmpty(t, f)
	assert.Equal(t, "Scripts are loaded later than the page", f[0].Title, "several that a script asks for only now are one")
	assert.Len(t, causesOf(f), 1)

	// Nobody touches the page in a look: that their addresses stand in it where nothing loads them
	// tells that they wait, however much code the page has for it.
	waiting := pageAt("/", "phone", nil, nil, failing)
	waiting.Waits, waiting.Code = []string{app.URL, menu.URL}, 5000
	f = found(t, mark, evidence.Look{Pages: []evidence.PageLook{waiting}})
	require.NotEmpty(t, f)
	assert.Equal(t, "Scripts are loaded later than the page", f[0].Title)

	joined := evidence.Request{URL: "http://shop.test/all.js", Kind: "script", Status: 200}
	f = found(t, mark, evidence.Look{Pages: []evidence.PageLook{pageAt("/", "phone", nil, []evidence.Request{joined}, failing)}})
	assert.Equal(t, "Script error: ReferenceError: app is not defined", f[0].Title)
}

// The same error stops a journey: with the script that is missing it is one cause. Styles that
// stand in the page instead of a file explain what lost its style, and nothing when nothing did.
func TestAJourneyThatTheSameErrorStopsIsOfTheSameCause(t *testing.T) {
	app := evidence.Request{URL: "http://shop.test/app.js", Kind: "script", Status: 200}
	later := app
	later.Later = true
	failing := evidence.ScriptError{Message: "ReferenceError: app is not defined", Source: "http://shop.test/"}
	mark := evidence.Look{Pages: []evidence.PageLook{pageAt("/", "phone", []string{"Menu"}, []evidence.Request{app})}, Journeys: []evidence.JourneyLook{taken("menu", "visitor", "/", true, []evidence.Request{app})}}
	now := evidence.Look{Pages: []evidence.PageLook{pageAt("/", "phone", nil, []evidence.Request{later}, failing)}, Journeys: []evidence.JourneyLook{taken("menu", "visitor", "/", false, nil, failing)}}
	f := found(t, mark, now)
	assert.Equal(t, []string{"missing-resource: not asked: /app.js"}, causesOf(f))
	assert.Equal(t, "The script /app.js is loaded later than the page", f[0].Title)
	assert.Equal(t, "Broken for phone visitors on /: menu: click the button “Add to basket” does not work, since the script /app.js is loaded later than the page.", evidence.Summarise(evidence.VerdictBroken, f, evidence.Progress{}))

	sheet := evidence.Request{URL: "http://shop.test/shop.css", Kind: "stylesheet", Status: 200}
	was := pageAt("/", "phone", []string{"Menu", "Note"}, []evidence.Request{sheet})
	is := pageAt("/", "phone", []string{"Menu"}, nil)
	is.Rules = 12
	f = found(t, evidence.Look{Pages: []evidence.PageLook{was}}, evidence.Look{Pages: []evidence.PageLook{is}})
	assert.Equal(t, "The stylesheet /shop.css is in the page now, not in a file", f[0].Title)
	assert.Len(t, causesOf(f), 1)
	is.Lines = was.Lines
	f = found(t, evidence.Look{Pages: []evidence.PageLook{was}}, evidence.Look{Pages: []evidence.PageLook{is}})
	assert.Empty(t, causesOf(f), "nothing came of it")
}
