package evidence

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/journey"
)

func causesIn(f []Finding) map[string]bool {
	out := map[string]bool{}
	for _, x := range f {
		if x.Severity != Note {
			out[x.Cause] = true
		}
	}
	return out
}

// What a page cache does wrong shows as a leak here, a refused form there and a journey that
// stops: it is one cause, and what follows from the settings says it.
func TestWhatThePageCacheDoesWrongIsOneCause(t *testing.T) {
	at := func(page, persona string) Key { return Key{Page: page, Persona: persona, Device: "desktop"} }
	known := Follows("/cart", PolicyKind, Broken, "A page that must never be cached can be", "", "uncovered /cart")
	leak := at("/cart", "visitor").about(LeakKind, Broken, "A visitor is shown it").caused("shown")
	form := at("/checkout", "visitor").about(FormKind, Broken, "A form's token is the same for everybody").caused("token")
	stops := Key{Page: "/checkout?x=1", Journey: "buying", Persona: "visitor", Device: "desktop"}.about(JourneyKind, Broken, "buying stops").caused("buying, step 3")
	elsewhere := Key{Page: "/search", Journey: "searching", Persona: "visitor", Device: "desktop"}.about(JourneyKind, Broken, "searching stops").caused("searching, step 1")
	begun := Key{Page: "/kits", Journey: "filling", Persona: "visitor", Device: "desktop"}.about(JourneyKind, Broken, "filling stops").caused("filling, step 2")
	look := Look{Journeys: []JourneyLook{{Key: Key{Page: "/kits", Journey: "filling", Persona: "visitor", Device: "desktop"}, Outcome: journey.Outcome{Steps: []journey.StepOutcome{{Passed: true, At: "/kits"}, {At: "/cart?x"}}}}}}
	f := Tie(Baseline{}, look, []Finding{leak, form, stops, begun, known, elsewhere})
	assert.Equal(t, map[string]bool{known.Cause: true, elsewhere.Cause: true}, causesIn(f), "wherever a journey begins, it stops on such a page")
	Sort(f)
	assert.Equal(t, known.Title, f[0].Title)

	late := at("/", "visitor").about(StaleKind, Broken, "An edit is not shown in time").caused("edit not shown in time")
	f = Tie(Baseline{}, Look{}, []Finding{leak, late})
	assert.Len(t, causesIn(f), 2, "what is refreshed has nothing to do with who is served what")
}

// A form of the administration that is no longer answered stops on another page of the section
// that a missing rule leaves open.
func TestAMissingRuleExplainsWhatStopsInItsSection(t *testing.T) {
	known := Follows("/admin/", PolicyKind, Broken, "A page that must never be cached can be", "", "uncovered")
	stopping := func(page string) (Finding, Look) {
		k := Key{Journey: "writing", Persona: "clerk", Device: "desktop"}
		f := Key{Page: page, Journey: "writing", Persona: "clerk", Device: "desktop"}.about(JourneyKind, Broken, "writing stops").caused("writing, step 6")
		return f, Look{Journeys: []JourneyLook{{Key: k, Outcome: journey.Outcome{Steps: []journey.StepOutcome{{Passed: true}, {At: page}}}}}}
	}
	f, look := stopping("/admin/letters/add/")
	assert.Equal(t, map[string]bool{known.Cause: true}, causesIn(Tie(Baseline{}, look, []Finding{f, known})))
	f, look = stopping("/letters/4/")
	assert.Len(t, causesIn(Tie(Baseline{}, look, []Finding{f, known})), 2)
}

func TestWhatABrowserMayKeepExplainsWhatItShows(t *testing.T) {
	at := Key{Page: "/", Persona: "visitor", Device: "desktop"}
	may := at.about(StaleKind, Unsure, "Browsers keep the page itself").caused("page in the browser cache")
	may.Known = true
	old := at.about(StaleKind, Broken, "A returning visitor is not shown what was published").caused("here before: release")
	f := Tie(Baseline{}, Look{}, []Finding{old, may})
	assert.Equal(t, map[string]bool{may.Cause: true}, causesIn(f))
	assert.Len(t, causesIn(Tie(Baseline{}, Look{}, []Finding{old})), 1, "a worker keeps it without a word")
}

func TestWhatStopsOnOnePageIsOneCause(t *testing.T) {
	stop := func(name string) JourneyLook {
		return JourneyLook{Key: Key{Journey: name, Persona: "carrier", Device: "desktop"}, Outcome: journey.Outcome{Steps: []journey.StepOutcome{{Passed: true}, {At: "/cart?x=1"}}}}
	}
	ready := Key{Page: "/kits", Journey: "getting ready as carrier", Persona: "carrier", Device: "desktop"}.about(JourneyKind, Broken, "Nobody can be made ready as carrier").dueTo(notReady("carrier"))
	buying := Key{Page: "/kits", Journey: "buying", Persona: "carrier", Device: "desktop"}.about(JourneyKind, Broken, "buying stops").caused("buying, step 3")
	look := Look{Journeys: []JourneyLook{stop("buying"), stop("getting ready as carrier")}}
	f := Tie(Baseline{}, look, []Finding{buying, ready})
	assert.Equal(t, map[string]bool{ready.Cause: true}, causesIn(f), "that nobody can be made ready explains more")
}

func TestFilesThatAreMissingElsewhereAreOneCause(t *testing.T) {
	at := func(page string) Key { return Key{Page: page, Persona: "visitor", Device: "desktop"} }
	missing := func(page, path string) Finding {
		return at(page).about(MissingKind, Broken, "The script "+path+" is missing").caused(path)
	}
	base := NewBaseline(Look{Pages: []PageLook{{Key: at("/"), Requests: []Request{{URL: "http://a.test/assets/shop.js", Kind: "script"}, {URL: "http://a.test/assets/menu.js", Kind: "script"}}}}}, nil)
	f := Tie(base, Look{}, []Finding{missing("/", "/files/assets/shop.js"), missing("/kits", "/kits/files/assets/menu.js")})
	assert.Len(t, causesIn(f), 1)
	// Several on each page, with errors that came of them.
	undefined := func(page string) Finding {
		return at(page).about(ScriptErrorKind, Broken, "Script error: Fern is not defined").caused("Fern is not defined")
	}
	var many []Finding
	look := Look{}
	for _, dir := range []string{"", "/kits", "/library"} {
		page := dir + "/x"
		look.Pages = append(look.Pages, PageLook{Key: at(page), Errors: []ScriptError{{Message: "Fern is not defined"}}, Requests: []Request{
			{URL: "http://a.test" + dir + "/files/assets/shop.js", Kind: "script", Status: 404}, {URL: "http://a.test" + dir + "/files/assets/menu.js", Kind: "script", Status: 404}}})
		base.Look.Pages = append(base.Look.Pages, PageLook{Key: at(page), Requests: base.Look.Pages[0].Requests})
		many = append(many, missing(page, dir+"/files/assets/shop.js"), missing(page, dir+"/files/assets/menu.js"), undefined(page))
	}
	assert.Len(t, causesIn(Tie(base, look, many)), 1)
	f = Tie(base, Look{}, []Finding{missing("/", "/assets/shop.js"), missing("/kits", "/assets/menu.js")})
	assert.Len(t, causesIn(f), 2, "at their own address they are missing each for itself")
}

// A member is served the page as a stranger sees it: the text that is gone there comes of the
// cached copy; on a page that was made for whoever asked it does not.
func TestWhatACachedCopyShowsComesOfTheCache(t *testing.T) {
	of := Key{Page: "/members", Persona: "member", Device: "desktop"}
	known := Follows("/members", PolicyKind, Broken, "A page that must never be cached can be", "", "uncovered /members")
	gone := of.about(ContentKind, Broken, "Text is gone").caused("text")
	look := Look{Pages: []PageLook{{Key: of, Served: httpcache.Cached}}}
	assert.Equal(t, map[string]bool{known.Cause: true}, causesIn(Tie(Baseline{}, look, []Finding{gone, known})))
	look.Pages[0].Served = httpcache.Bypass
	assert.Len(t, causesIn(Tie(Baseline{}, look, []Finding{gone, known})), 2)
}

func TestWhatOnlyLooksDifferentHereAndThereIsOneCause(t *testing.T) {
	at := func(page string) Key { return Key{Page: page, Persona: "visitor", Device: "phone"} }
	whole := at("/").about(PictureKind, Broken, "Looks different at the page as a whole").caused("body")
	pay := at("/cart").about(PictureKind, Broken, "button#pay has lost its style").caused("#pay")
	pay.Weight = Acted
	f := Tie(Baseline{}, Look{}, []Finding{whole, pay})
	assert.Equal(t, map[string]bool{pay.Cause: true}, causesIn(f), "what names an element says more")
	assert.Len(t, causesIn(Tie(Baseline{}, Look{}, []Finding{pay})), 1)

	remains := whole.Controlled(Control{Outcome: Remains, With: 2, WithOf: 2, Without: 3, WithoutOf: 3})
	f = Tie(Baseline{}, Look{}, []Finding{remains, pay})
	for _, x := range f {
		assert.False(t, x.Symptom, "what is there with the earlier settings is not of it")
	}
}

func TestATextThatStrangersAreShownAnywhereTellsNothingThere(t *testing.T) {
	line := func(page, class, persona, text string) PageLook {
		return PageLook{Key: Key{Page: page, Persona: persona, Device: "desktop"}, Class: class, Status: 200, Lines: []Line{{text, -1}}}
	}
	base := NewBaseline(Look{Pages: []PageLook{line("/kits", "listing", "visitor", "Tawny block"), line("/kits?kind=oyster", "listing", "visitor", "Oyster box"), line("/cart", "cart", "visitor", "Nothing yet")}}, nil)
	base.PrivateTexts = map[string][]string{"carrier": {"Tawny block"}}
	leaks := func(p PageLook) int {
		m, _ := base.Look.Page(p.Key)
		return len(ownerFindings(base, m, p))
	}
	assert.Zero(t, leaks(line("/kits?kind=oyster", "listing", "visitor", "Tawny block")), "the listing of all kits, shown at the wrong address")
	assert.Equal(t, 1, leaks(line("/cart", "cart", "visitor", "Tawny block")), "in a basket it is somebody's")
}

// On production looks just before are one witness and staging with the same settings the other.
// Where they disagree on how a page looks, it may be news that came just then.
func TestStagingIsTheSecondWitness(t *testing.T) {
	f := Key{Page: "/", Persona: "visitor", Device: "phone"}.about(PictureKind, Broken, "div#news is new").caused("#news")
	came := Control{Outcome: Came, With: 2, WithOf: 2, WithoutOf: 1}
	alone := f.Controlled(came.Witnessed(f, []Finding{}))
	assert.Equal(t, Unsure, alone.Severity)
	assert.Equal(t, "Not there just before the change came, 1 of 1. Staging, with the same settings, does not show it.", alone.Control.Text)
	both := f.Controlled(came.Witnessed(f, []Finding{f}))
	assert.Equal(t, Broken, both.Severity)
	assert.Contains(t, both.Control.Text, "Staging, with the same settings, shows it.")
	stops := Key{Page: "/", Journey: "menu", Persona: "visitor", Device: "phone"}.about(JourneyKind, Broken, "menu stops").caused("menu, step 1")
	assert.Equal(t, Broken, stops.Controlled(came.Witnessed(stops, []Finding{})).Severity, "what does not work is broken, whatever staging says")
	assert.Equal(t, Broken, f.Controlled(came).Severity, "staging was not looked at with these settings")
}
