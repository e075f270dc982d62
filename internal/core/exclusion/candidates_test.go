package exclusion

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/visual"
)

// speedy has a setting that acts for each kind of candidate, and the one that excludes.
var speedy = settings.Catalogue{Settings: []settings.Definition{
	{Key: "defer", Title: "Defer", Role: "js-defer"}, {Key: "deferNot", Title: "Not deferred", Role: "js-exclude-defer"},
	{Key: "unused", Title: "Unused", Role: "css-drop-unused"}, {Key: "keep", Title: "Kept", Role: "css-keep"},
	{Key: "cache", Title: "Cache", Role: "page-cache"}, {Key: "never", Title: "Never cached", Role: "path-exclude"},
	{Key: "compact", Title: "Compact", Role: "html-minify"},
}}

func on(key string) []settings.Difference {
	return []settings.Difference{{Key: key, From: false, To: true, HasFrom: true, HasTo: true}}
}

func loaded(urls ...string) (list []evidence.Request) {
	for _, u := range urls {
		list = append(list, evidence.Request{URL: "https://shop.example" + u, Kind: "script", Status: 200})
	}
	return list
}

func patterns(list []Candidate) (out []string) {
	for _, c := range list {
		out = append(out, c.Pattern)
	}
	return out
}

func TestTheScriptThatAnErrorNamesIsProposedFirst(t *testing.T) {
	was := &evidence.PageLook{Requests: loaded("/a.js", "/lib/fern.js?v=2", "/gone.js", "/last.js")}
	is := &evidence.PageLook{Requests: loaded("/a.js", "/lib/fern.js?v=2", "/last.js"), Errors: []evidence.ScriptError{{Message: "ReferenceError: fern is not defined", Source: "https://shop.example/"}}}
	list := Candidates(speedy, on("defer"), evidence.Finding{Page: "/"}, Observed{Page: is, PageWas: was})
	assert.Equal(t, []string{"/lib/fern.js", "/gone.js", "/a.js", "/last.js", ""}, patterns(list), "named, then not fetched, then the others, then a pattern of one's own")
	assert.Equal(t, Candidate{"deferNot", "Not deferred", "/lib/fern.js", "an error of this run names it"}, list[0])
	assert.Contains(t, list[1].Why, "not this time")
}

func TestAnErrorNamesTheScriptThatItComesFrom(t *testing.T) {
	was := &evidence.JourneyLook{Requests: loaded("/a.js", "/b.js")}
	is := &evidence.JourneyLook{Requests: loaded("/a.js", "/b.js"), Errors: []evidence.ScriptError{{Message: "TypeError: x is null", Source: "https://shop.example/b.js"}}}
	list := Candidates(speedy, on("defer"), evidence.Finding{Page: "/", Journey: "buy"}, Observed{Journey: is, JourneyWas: was})
	assert.Equal(t, []string{"/b.js", "/a.js", ""}, patterns(list))
	page := Observed{Page: &evidence.PageLook{}, PageWas: &evidence.PageLook{Requests: loaded("/of-the-page.js")}, Journey: is, JourneyWas: was}
	assert.NotContains(t, patterns(Candidates(speedy, on("defer"), evidence.Finding{}, page)), "/of-the-page.js", "a journey's finding is about the journey")
}

func TestWhatLooksDifferentIsKeptByTheClassAroundIt(t *testing.T) {
	box := func(name string, x, y, w, h int) evidence.Box {
		return evidence.Box{Name: name, X: x, Y: y, Width: w, Height: h}
	}
	is := &evidence.PageLook{Outline: []evidence.Box{box("body", 0, 0, 1000, 1000), box("div.shell", 0, 0, 1000, 500), box("p.notice", 10, 10, 200, 40), box("p.other", 10, 400, 200, 40)}}
	f := evidence.Finding{Page: "/", Region: &visual.Region{X: 20, Y: 20, Width: 50, Height: 10}}
	list := Candidates(speedy, on("unused"), f, Observed{Page: is, PageWas: is})
	assert.Equal(t, []string{".notice*", ""}, patterns(list), "the smallest that has it in it")
	f.Region = &visual.Region{X: 20, Y: 600, Width: 50, Height: 10}
	assert.Equal(t, []string{""}, patterns(Candidates(speedy, on("unused"), f, Observed{Page: is, PageWas: is})), "nothing that has a class has it in it")
}

func TestOnlyWhatTheChangeSwitchedOnCanBeExcludedFrom(t *testing.T) {
	f := evidence.Finding{Page: "/cart"}
	assert.Equal(t, []string{"/cart", ""}, patterns(Candidates(speedy, on("cache"), f, Observed{})))
	assert.Empty(t, Candidates(speedy, on("compact"), f, Observed{}), "nothing excludes from it")
	assert.Empty(t, Candidates(speedy, nil, f, Observed{}))
	assert.Empty(t, Candidates(speedy, on("unknown to the catalogue"), f, Observed{}))
}
