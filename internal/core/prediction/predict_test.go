package prediction_test

import (
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/prediction"
	"tidemarker/internal/core/settings"
)

// A layer with one setting of each role that is predicted, and the lists that exclude from them.
var catalogue = func() settings.Catalogue {
	var c settings.Catalogue
	for _, role := range []string{"js-defer", "js-delay", "js-combine", "js-minify", "js-inline", "css-drop-unused", "css-async", "css-combine", "lazy-images", "lazy-frames", "browser-cache", "query-strip"} {
		c.Settings = append(c.Settings, settings.Definition{Key: strings.ReplaceAll(role, "-", ""), Title: "Do " + role, Type: settings.Switch, Default: false, Role: settings.Role(role)})
	}
	c.Settings = append(c.Settings, settings.Definition{Key: "dimensions", Title: "Dimensions", Type: settings.Switch, Default: true, Role: "add-dimensions"},
		settings.Definition{Key: "widest", Title: "Widest", Type: settings.Whole, Default: 0.0, Role: "image-resize"},
		settings.Definition{Key: "host", Title: "Host", Type: settings.Text, Default: "", Role: "asset-host"})
	for _, role := range []string{"js-exclude-defer", "js-exclude-delay", "js-exclude-combine", "js-exclude-minify", "css-exclude", "css-keep", "lazy-exclude"} {
		c.Settings = append(c.Settings, settings.Definition{Key: strings.ReplaceAll(role, "-", ""), Title: "Not " + role, Type: settings.Patterns, Default: []any{}, Role: settings.Role(role)})
	}
	return c
}()

// predicts reads one page and says what edits will do to it.
func predicts(t *testing.T, document string, files map[string]string, edits settings.Values) []prediction.Prediction {
	t.Helper()
	var r prediction.Reading
	look := evidence.PageLook{Key: evidence.Key{Page: "/", Persona: "visitor", Device: "desktop"}, Address: "https://moss.test/"}
	look.Outline = []evidence.Box{{Role: "img", Width: 600}}
	p, err := r.Page(look, []byte(document), func(at string) []byte {
		if f, known := files[strings.TrimPrefix(at, "https://moss.test")]; known {
			return []byte(f)
		}
		return nil
	}, func(u *url.URL) bool { return u.Host == "moss.test" })
	require.NoError(t, err)
	before := catalogue.Defaults()
	return prediction.Predict(catalogue, before, before.With(edits), prediction.Ground{Pages: []prediction.Page{p}, Hosts: []string{"moss.test"}})
}

// said are the kinds that were predicted, and what they are about.
func said(list []prediction.Prediction) []string {
	out := []string{}
	for _, p := range list {
		out = append(out, string(p.Kind)+": "+p.About)
	}
	return out
}

const library = `<script src="/fern.js"></script>`

var fern = map[string]string{"/fern.js": `var Fern = { config: function () {}, ready: function (f) {} };`, "/menu.js": `Fern.ready(function () { document.title });`, "/moss.js": `Fern.moss = 1; var Moss = {};`,
	"/asks.js": `if (window.Fern) Fern.config();`, "/dom.js": `document.addEventListener("DOMContentLoaded", function () { document.title });`, "/writes.js": `document.write("<p>now</p>");`}

// TestOrderOfScripts predicts what needs a name that is not there yet, and only that.
func TestOrderOfScripts(t *testing.T) {
	inline := `<script>Fern.config({});</script>`
	cases := []struct {
		name, document string
		edits          settings.Values
		want           []string
		exclude        []string
	}{
		{"inline code needs what is deferred", library + inline, settings.Values{"jsdefer": true}, []string{"not defined: Fern"}, []string{"/fern.js"}},
		{"it is excluded", library + inline, settings.Values{"jsdefer": true, "jsexcludedefer": []any{"/fern.js"}}, []string{}, nil},
		{"inline code is deferred, too", library + inline, settings.Values{"jsdefer": true, "jsinline": true}, []string{}, nil},
		{"files keep their order", library + `<script src="/menu.js"></script>`, settings.Values{"jsdefer": true}, []string{}, nil},
		{"it asks first", library + `<script>if (typeof Fern !== "undefined") Fern.config();</script>`, settings.Values{"jsdefer": true}, []string{}, nil},
		{"nothing defines it", `<script>Fern.config();</script>`, settings.Values{"jsdefer": true}, []string{}, nil},
		{"it is deferred already", `<script defer src="/fern.js"></script>` + inline, settings.Values{"jsdefer": true}, []string{}, nil},
		{"what it needs itself is excluded with it", library + `<script src="/moss.js"></script><script>Moss.grow = 1;</script>`, settings.Values{"jsdefer": true}, []string{"not defined: Moss"}, []string{"/moss.js", "/fern.js"}},
		{"an excluded file needs one that is not", library + `<script src="/menu.js"></script>`, settings.Values{"jsdefer": true, "jsexcludedefer": []any{"/menu.js"}}, []string{"not defined: Fern"}, []string{"/fern.js"}},
		{"when the page has been read it is there", library + `<script>addEventListener("DOMContentLoaded", function () { Fern.config(); });</script>`, settings.Values{"jsdefer": true}, []string{}, nil},
		{"not when it waits for a touch", library + `<script>addEventListener("DOMContentLoaded", function () { Fern.config(); });</script>`, settings.Values{"jsdelay": true}, []string{"not defined: Fern"}, []string{"/fern.js"}},
		{"what it writes is lost", `<script src="/writes.js"></script>`, settings.Values{"jsdefer": true}, []string{"not written: /writes.js"}, []string{"/writes.js"}},
		{"its event is over", `<script src="/dom.js"></script>`, settings.Values{"jsdelay": true}, []string{"never runs: /dom.js", "runs later: what scripts do by themselves"}, []string{"/dom.js"}},
		{"one file keeps the order of files", library + `<script src="/menu.js"></script>`, settings.Values{"jscombine": true}, []string{}, nil},
		{"inline code between comes after all of them", library + `<script>var Grove = {};</script><script src="/grove.js"></script>`, settings.Values{"jscombine": true}, []string{"not defined: Grove"}, []string{"/grove.js"}},
		{"strict code is strict for all", `<script src="/strict.js"></script><script src="/loose.js"></script>`, settings.Values{"jscombine": true}, []string{"strict: /loose.js"}, []string{"/strict.js"}},
		{"what cannot be read", `<script src="/odd.js"></script>`, settings.Values{"jsminify": true}, []string{"unreadable: /odd.js"}, []string{"/odd.js"}},
	}
	files := map[string]string{"/grove.js": `Grove.tall = 1;`, "/strict.js": `"use strict"; var a;`, "/loose.js": `leaf = 1;`, "/odd.js": `var = ;`}
	for k, v := range fern {
		files[k] = v
	}
	for _, c := range cases {
		got := predicts(t, c.document, files, c.edits)
		assert.Equal(t, c.want, said(got), c.name)
		if len(got) > 0 {
			var patterns []string
			for _, e := range got[0].Exclude {
				patterns = append(patterns, e.Pattern)
			}
			assert.Equal(t, c.exclude, patterns, c.name)
		}
	}
}

// TestWhatIsPredictedIsTrueOfTheMend: with the entries that a prediction proposes it no longer comes.
func TestWhatIsPredictedIsTrueOfTheMend(t *testing.T) {
	document := library + `<script src="/moss.js"></script><script>Moss.grow = 1;</script><script src="/menu.js"></script><link rel="stylesheet" href="/moss.css"><nav class="menu"></nav>`
	files := map[string]string{"/moss.css": `.menu.is-open { color: red } .leaf { color: green }`, "/menu.js": `Fern.ready(function () { document.querySelector(".menu").classList.add("is-open") })`}
	for k, v := range fern {
		if files[k] == "" {
			files[k] = v
		}
	}
	for _, key := range []string{"jsdefer", "jsdelay", "cssdropunused"} {
		edits := settings.Values{key: true}
		found := predicts(t, document, files, edits)
		require.NotEmpty(t, found, key)
		for range 4 { // what is excluded may need more
			for _, p := range found {
				for _, e := range p.Exclude {
					list, _ := edits[e.Key].([]any)
					edits[e.Key] = append(list, e.Pattern)
				}
			}
			if found = predicts(t, document, files, edits); len(found) == 0 {
				break
			}
		}
		assert.Empty(t, said(found), key)
	}
}

// TestStylesAndFiles predicts what becomes of styles, pictures, frames and files.
func TestStylesAndFiles(t *testing.T) {
	files := map[string]string{
		"/a.css": `.menu.is-open { color: red } .never { color: red } @media print { .notice-late { color: red } } h1:hover { color: red }`,
		"/b.css": `@import "/type.css"; p { color: red }`, "/sized.css": `img { height: 40px }`, "/many.css": strings.Repeat(`p { color: red } `, 30),
		"/menu.js": `el.classList.toggle("is-open"); x.className = "notice-" + kind;`, "/v.js?1": `1`, "/v.js?2": `2`,
	}
	sheets := `<link rel="stylesheet" href="/a.css">`
	cases := []struct {
		name, document string
		edits          settings.Values
		want           []string
	}{
		{"rules for what scripts open", sheets + `<nav class="menu"></nav><script src="/menu.js"></script>`, settings.Values{"cssdropunused": true}, []string{"unstyled: what scripts open or mark"}},
		{"no script adds it", sheets + `<nav class="menu"></nav>`, settings.Values{"cssdropunused": true}, []string{}},
		{"they are kept", sheets + `<nav class="menu"></nav><script src="/menu.js"></script>`, settings.Values{"cssdropunused": true, "csskeep": []any{".menu*", ".notice*"}}, []string{}},
		{"the sheet is excluded", sheets + `<nav class="menu"></nav><script src="/menu.js"></script>`, settings.Values{"cssdropunused": true, "cssexclude": []any{"a.css"}}, []string{}},
		{"a sheet that brings in another", sheets + `<link rel="stylesheet" href="/b.css">`, settings.Values{"csscombine": true}, []string{"imports: /b.css"}},
		{"it comes first", `<link rel="stylesheet" href="/b.css">` + sheets, settings.Values{"csscombine": true}, []string{}},
		{"a sheet for paper", sheets + `<link rel="stylesheet" media="print" href="/sized.css">`, settings.Values{"csscombine": true}, []string{"media: /sized.css"}},
		{"drawn bare", `<link rel="stylesheet" href="/many.css">`, settings.Values{"cssasync": true}, []string{"drawn bare: styles"}},
		{"its first styles are in the page", `<style>` + files["/many.css"] + `</style><link rel="stylesheet" href="/many.css">`, settings.Values{"cssasync": true}, []string{}},
		{"pictures lose their dimensions", `<img src="/a.png" width="1" height="1">`, settings.Values{"dimensions": false}, []string{"jumps: pictures"}},
		{"a style gives them a height", `<link rel="stylesheet" href="/sized.css"><img src="/a.png" width="1" height="1">`, settings.Values{"dimensions": false}, []string{}},
		{"lazy pictures without", `<img src="/a.png">`, settings.Values{"lazyimages": true, "dimensions": false}, []string{"jumps: pictures"}},
		{"dimensions are written", `<img src="/a.png">`, settings.Values{"lazyimages": true}, []string{}},
		{"too small", `<img src="/a.png">`, settings.Values{"widest": 300.0}, []string{"small: pictures"}},
		{"wide enough", `<img src="/a.png">`, settings.Values{"widest": 900.0}, []string{}},
		{"a frame", `<iframe src="/map"></iframe>`, settings.Values{"lazyframes": true}, []string{"on demand: frames"}},
		{"a host that is not the site's", sheets, settings.Values{"host": "https://files.test"}, []string{"host: files.test"}},
		{"no host at all", sheets, settings.Values{"host": "files"}, []string{"host: files"}},
		{"kept for long", sheets, settings.Values{"browsercache": true}, []string{"cached old: files"}},
		{"with a version", `<link rel="stylesheet" href="/a.css?v=3"><script src="/app.0a1b2c3d4e.js"></script>`, settings.Values{"browsercache": true}, []string{}},
		{"two files at one address", `<script src="/v.js?1"></script><script src="/v.js?2"></script>`, settings.Values{"querystrip": true}, []string{"same file: /v.js"}},
		{"nothing", sheets + library, settings.Values{}, []string{}},
	}
	for _, c := range cases {
		assert.Equal(t, c.want, said(predicts(t, c.document, files, c.edits)), c.name)
	}
}

// TestHeldAgainstARun: what came is right, what was looked for and did not come is wrong, and what
// was found besides is missed.
func TestHeldAgainstARun(t *testing.T) {
	at := func(page string) []prediction.Place {
		return []prediction.Place{{Page: page, Persona: "visitor", Device: "desktop"}}
	}
	predicted := []prediction.Prediction{
		{Kind: prediction.NotDefined, About: "Fern", Places: at("/")},
		{Kind: prediction.Jumps, About: "pictures", Places: at("/")},
		{Kind: prediction.OnDemand, About: "frames", Places: at("/map")},
	}
	found := []evidence.Finding{
		{Kind: evidence.ScriptErrorKind, Severity: evidence.Broken, Page: "/", Title: "ReferenceError: Fern is not defined", Cause: "Fern"},
		{Kind: evidence.PictureKind, Severity: evidence.Broken, Page: "/", Title: "It looks different", Cause: "Fern", Symptom: true},
		{Kind: evidence.PictureKind, Severity: evidence.Broken, Page: "/about", Title: "A heading is gone", Cause: "heading"},
		{Kind: evidence.LeakKind, Severity: evidence.Broken, Page: "/about", Title: "Somebody else's page", Cause: "leak"},
		{Kind: evidence.ShiftKind, Severity: evidence.Note, Page: "/", Title: "It jumps a little", Cause: "little"},
	}
	r := prediction.Hold(predicted, found, []evidence.Key{{Page: "/", Persona: "visitor", Device: "desktop"}, {Page: "/about", Persona: "visitor", Device: "desktop"}})
	require.Len(t, r.Held, 3)
	assert.Equal(t, prediction.Right, r.Held[0].Outcome)
	assert.Equal(t, "ReferenceError: Fern is not defined", r.Held[0].Finding)
	assert.Equal(t, prediction.Wrong, r.Held[1].Outcome, "the picture is a symptom of Fern; nothing jumped")
	assert.Equal(t, prediction.NotSeen, r.Held[2].Outcome)
	assert.Equal(t, []string{"A heading is gone"}, r.Missed)
	assert.Equal(t, 1, r.Count(prediction.Wrong))
}
