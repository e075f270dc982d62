package evidence

import (
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/vitals"
)

// block is a part of a page, with its own text and colour; a page is blocks one below
// the other.
type block struct {
	name, text string
	tone       uint8
}

var gallery = map[string]*image.NRGBA{}

func pictures(sha string) (*image.NRGBA, error) {
	m, there := gallery[sha]
	if !there {
		return nil, fmt.Errorf("no picture %s", sha)
	}
	return m, nil
}

// page paints the blocks, 40 px each, and describes them as the browser would.
func page(path, device string, blocks ...block) PageLook {
	const w, h = 200, 40
	m := image.NewNRGBA(image.Rect(0, 0, w, h*len(blocks)))
	p := PageLook{Key: Key{Page: path, Persona: "visitor", Device: device}, Class: "other", Status: 200, Served: httpcache.Cached, Address: "http://s.example" + path}
	p.Outline = []Box{{Path: "body", Name: "body", Parent: -1, Width: w, Height: h * len(blocks)}}
	sha := device
	for i, b := range blocks {
		for y := i * h; y < (i+1)*h; y++ {
			for x := range w {
				m.SetNRGBA(x, y, color.NRGBA{b.tone, b.tone, 200, 255})
			}
		}
		p.Outline = append(p.Outline, Box{Path: fmt.Sprintf("body>div:nth-of-type(%d)", i+1), Name: b.name, Parent: 0, Y: i * h, Width: w, Height: h})
		p.Lines = append(p.Lines, Line{Text: b.text, Box: i + 1})
		sha += fmt.Sprint(b.tone, "-")
	}
	gallery[sha] = m
	p.Picture = &Picture{sha, w, h * len(blocks)}
	return p
}

var (
	head   = block{"div.head", "Shop", 10}
	kits   = block{"div.kits", "Kits and logs", 60}
	foot   = block{"div.foot", "Mill Lane", 90}
	saying = func(n int) block { return block{"div.quote", fmt.Sprintf("Quote %d", n), uint8(120 + 20*n)} }
)

func learn(t *testing.T, first, second Look) Baseline {
	t.Helper()
	b, err := Learn(first, second, pictures)
	require.NoError(t, err)
	return b
}

func compare(t *testing.T, b Baseline, p PageLook) []Finding {
	t.Helper()
	f, err := ComparePage(b, p, pictures)
	require.NoError(t, err)
	return f
}

func kindsOf(f []Finding) map[Kind]Severity {
	out := map[Kind]Severity{}
	for _, x := range f {
		out[x.Kind] = x.Severity
	}
	return out
}

func TestWhatChangesByItselfIsNotBlamedOnAChange(t *testing.T) {
	b := learn(t, Look{Pages: []PageLook{page("/", "desktop", head, saying(1), kits, foot)}}, Look{Pages: []PageLook{page("/", "desktop", head, saying(2), kits, foot)}})
	assert.Equal(t, []string{"body>div:nth-of-type(2)"}, b.Volatile[Key{"/", "", "visitor", "desktop"}].Paths)
	assert.Empty(t, compare(t, b, page("/", "desktop", head, saying(3), kits, foot)))
	other := kits
	other.text, other.tone = "Nothing", 200
	f := compare(t, b, page("/", "desktop", head, saying(3), other, foot))
	assert.Equal(t, map[Kind]Severity{PictureKind: Broken, ContentKind: Broken}, kindsOf(f))
	for _, x := range f {
		if x.Kind == PictureKind {
			assert.Equal(t, "div.kits reads “Nothing”, was “Kits and logs”", x.Title)
			assert.Equal(t, image.Rect(0, 82, 200, 120), x.Region.Rect(), "all of it but the margin of the volatile part above")
		}
	}
}

// A quotation that happened to be the same twice on one page is known to be volatile
// from the others.
func TestWhatIsVolatileOnTwoPagesIsVolatileOnAll(t *testing.T) {
	first := Look{Pages: []PageLook{page("/", "desktop", head, saying(1)), page("/kits", "desktop", head, saying(2)), page("/cart", "desktop", head, saying(3))}}
	second := Look{Pages: []PageLook{page("/", "desktop", head, saying(4)), page("/kits", "desktop", head, saying(0)), page("/cart", "desktop", head, saying(3))}}
	b := learn(t, first, second)
	assert.Empty(t, compare(t, b, page("/cart", "desktop", head, saying(1))))
}

func TestWhatDiffersBetweenTwoLooksAtTheSameSettingsIsLearnt(t *testing.T) {
	same := Look{Pages: []PageLook{page("/", "desktop", head, saying(1), kits)}}
	b := learn(t, same, same)
	first, second := page("/", "desktop", head, saying(2), kits), page("/", "desktop", head, saying(3), kits)
	require.NotEmpty(t, compare(t, b, first))
	b, err := b.Relearn(first, second, pictures)
	require.NoError(t, err)
	assert.Empty(t, compare(t, b, first))
}

// row is a page with a row of three cards, as a shuffled row would be.
func row(order ...int) PageLook {
	p := page("/", "desktop", head, kits, foot, foot, foot, foot)
	for i, n := range order {
		p.Outline = append(p.Outline, Box{Path: fmt.Sprintf("body>div:nth-of-type(2)>a:nth-of-type(%d)", i+1), Name: "a.card", Parent: 2, X: 10 + 60*i, Y: 45, Width: 50, Height: 30})
		p.Lines = append(p.Lines, Line{Text: fmt.Sprintf("Card %d", n), Box: len(p.Outline) - 1})
	}
	return p
}

func TestACardThatStayedInAShuffledRowIsVolatileToo(t *testing.T) {
	b := learn(t, Look{Pages: []PageLook{row(1, 2, 3)}}, Look{Pages: []PageLook{row(2, 1, 3)}})
	assert.Equal(t, []string{"body>div:nth-of-type(2)"}, b.Volatile[Key{"/", "", "visitor", "desktop"}].Paths)
	assert.Empty(t, compare(t, b, row(3, 2, 1)))
}

func TestTwoVolatileBlocksDoNotSilenceThePage(t *testing.T) {
	one := page("/", "desktop", block{"div", "a", 10}, block{"div", "b", 20}, block{"div", "c", 30}, block{"div", "d", 40})
	two := page("/", "desktop", block{"div", "A", 10}, block{"div", "b", 20}, block{"div", "c", 30}, block{"div", "D", 40})
	b := learn(t, Look{Pages: []PageLook{one}}, Look{Pages: []PageLook{two}})
	assert.Len(t, b.Volatile[one.Key].Paths, 2)
	broken := page("/", "desktop", block{"div", "a", 10}, block{"div", "gone", 20}, block{"div", "c", 30}, block{"div", "d", 40})
	assert.Equal(t, map[Kind]Severity{ContentKind: Broken}, kindsOf(compare(t, b, broken)))
}

func untouched(t *testing.T, p PageLook) Baseline {
	return learn(t, Look{Pages: []PageLook{p}}, Look{Pages: []PageLook{p}})
}

func TestEachKindOfPageDifference(t *testing.T) {
	base := page("/cart", "phone", head, kits)
	base.Class = "cart"
	base.Served = httpcache.Origin
	base.Requests = []Request{{URL: "http://s.example/a.js", Kind: "script", Status: 200}, {URL: "http://s.example/gone.png", Kind: "image", Status: 404}}
	base.Errors = []ScriptError{{Message: "TypeError: old"}}
	b := untouched(t, base)
	for name, tc := range map[string]struct {
		spoil func(*PageLook)
		want  map[Kind]Severity
	}{
		"nothing":                {func(*PageLook) {}, map[Kind]Severity{}},
		"could not look":         {func(p *PageLook) { p.Missing = "timed out" }, map[Kind]Severity{NotCheckedKind: Broken}},
		"another status":         {func(p *PageLook) { p.Status = 500 }, map[Kind]Severity{RequestKind: Broken}},
		"ends up elsewhere":      {func(p *PageLook) { p.Address = "http://s.example/sign-in" }, map[Kind]Severity{RequestKind: Broken}},
		"a new script error":     {func(p *PageLook) { p.Errors = append(p.Errors, ScriptError{Message: "ReferenceError: x"}) }, map[Kind]Severity{ScriptErrorKind: Broken}},
		"an error it always had": {func(p *PageLook) { p.Errors = []ScriptError{{Message: "TypeError: old"}} }, map[Kind]Severity{}},
		"a script is gone":       {func(p *PageLook) { p.Requests = []Request{{URL: "http://s.example/a.js", Kind: "script", Status: 404}} }, map[Kind]Severity{MissingKind: Broken}},
		"a look-up fails": {func(p *PageLook) {
			p.Requests = append(slices.Clone(p.Requests), Request{URL: "http://s.example/api", Kind: "fetch", Failed: "net::ERR"})
		}, map[Kind]Severity{RequestKind: Broken}},
		"a picture that was gone": {func(p *PageLook) {
			p.Requests = append(slices.Clone(p.Requests), Request{URL: "http://s.example/gone.png", Kind: "image", Status: 404})
		}, map[Kind]Severity{}},
		"a visitor's host, stopped": {func(p *PageLook) {
			p.Requests = []Request{{URL: "http://ads.example/", Kind: "script", Blocked: true, Failed: "blocked"}}
		}, map[Kind]Severity{NotCheckedKind: Note}},
		"a cart page is cached":        {func(p *PageLook) { p.Served = httpcache.Cached }, map[Kind]Severity{PolicyKind: Broken}},
		"it jumps":                     {func(p *PageLook) { p.Shifts = []vitals.Shift{{At: time.Second, Score: 0.3}} }, map[Kind]Severity{ShiftKind: Broken}},
		"it jumps a little":            {func(p *PageLook) { p.Shifts = []vitals.Shift{{At: time.Second, Score: 0.07}} }, map[Kind]Severity{ShiftKind: Unsure}},
		"it hardly moves":              {func(p *PageLook) { p.Shifts = []vitals.Shift{{At: time.Second, Score: 0.02}} }, map[Kind]Severity{}},
		"a line more":                  {func(p *PageLook) { p.Lines = append(p.Lines, Line{"Buy now", 0}) }, map[Kind]Severity{ContentKind: Unsure}},
		"only the white space":         {func(p *PageLook) { p.Lines = []Line{{"  Shop\n", 1}, {"Kits  and\tlogs", 2}} }, map[Kind]Severity{}},
		"what another persona may see": {func(p *PageLook) { p.Lines = append(p.Lines, Line{"Order 4711 of Ada", 0}) }, map[Kind]Severity{ContentKind: Unsure, LeakKind: Broken}},
	} {
		t.Run(name, func(t *testing.T) {
			p := base
			tc.spoil(&p)
			b.PrivateTexts = map[string][]string{"ada": {"Order 4711"}, "visitor": {"Shop"}}
			assert.Equal(t, tc.want, kindsOf(compare(t, b, p)))
		})
	}
	f := compare(t, b, page("/new", "phone", head))
	assert.Equal(t, map[Kind]Severity{NotCheckedKind: Unsure}, kindsOf(f), "a page the mark knows nothing of is not clear")
}

func run(steps ...journey.StepOutcome) JourneyLook {
	return JourneyLook{Key: Key{"/", "menu", "visitor", "phone"}, Outcome: journey.Outcome{Steps: steps}}
}

func TestAJourneyThatWorkedAndDoesNotIsBroken(t *testing.T) {
	goes, opens := journey.StepOutcome{Step: "go to /", Passed: true}, journey.StepOutcome{Step: "expect nav to be visible", Passed: true}
	fails := opens
	fails.Passed, fails.Why = false, "nav is not visible"
	b := NewBaseline(Look{Journeys: []JourneyLook{run(goes, opens)}}, nil)
	assert.Empty(t, CompareJourney(b, run(goes, opens)))
	f := CompareJourney(b, run(goes, fails))
	require.Len(t, f, 1)
	assert.Equal(t, Broken, f[0].Severity)
	assert.Equal(t, 1, *f[0].Step)
	assert.Equal(t, "menu: expected nav to be visible", f[0].Title)
	was := NewBaseline(Look{Journeys: []JourneyLook{run(goes, fails)}}, nil)
	assert.Equal(t, Note, CompareJourney(was, run(goes, fails))[0].Severity, "it did not work before either")
	assert.Equal(t, NotCheckedKind, CompareJourney(NewBaseline(Look{}, nil), run(goes, fails))[0].Kind)
	assert.Len(t, Doubts(Look{Journeys: []JourneyLook{run(goes, fails)}}, Look{Journeys: []JourneyLook{run(goes, fails)}}), 1)
	assert.Empty(t, Doubts(Look{Journeys: []JourneyLook{run(goes, fails)}}, Look{Journeys: []JourneyLook{run(goes, opens)}}))
}

func TestASecondLookConfirmsOrTakesBack(t *testing.T) {
	k := Key{"/", "", "visitor", "phone"}
	seen := k.about(ScriptErrorKind, Broken, "x").caused("x")
	leak := k.about(LeakKind, Broken, "leak").caused("leak")
	failed := k.about(JourneyKind, Broken, "menu").caused("menu")
	got := Confirm([]Finding{seen, leak, failed}, nil)
	assert.Equal(t, Note, got[0].Severity)
	assert.Equal(t, Broken, got[1].Severity, "a leak seen once is a leak")
	assert.Equal(t, Unsure, got[2].Severity, "a person must look at what failed once")
	got = Confirm([]Finding{seen, failed}, []Finding{failed, seen})
	assert.Equal(t, []Severity{Broken, Broken}, []Severity{got[0].Severity, got[1].Severity})
}

func TestVerdicts(t *testing.T) {
	all := Progress{Planned: 3, Done: 3}
	f := func(k Kind, s Severity) Finding { return Key{"/", "", "visitor", "phone"}.about(k, s, "T").caused("c") }
	assert.Equal(t, VerdictClear, Judge(nil, all))
	assert.Equal(t, VerdictClear, Judge([]Finding{f(PolicyKind, Note)}, all))
	assert.Equal(t, VerdictUnsure, Judge([]Finding{f(PictureKind, Unsure)}, all))
	assert.Equal(t, VerdictBroken, Judge([]Finding{f(PictureKind, Unsure), f(JourneyKind, Broken), f(NotCheckedKind, Broken)}, all))
	assert.Equal(t, VerdictNotChecked, Judge([]Finding{f(NotCheckedKind, Broken), f(PictureKind, Unsure)}, all), "what could not be looked at is never clear")
	assert.Equal(t, VerdictNotChecked, Judge(nil, Progress{Planned: 3, Done: 2}))
	assert.Equal(t, VerdictNotChecked, Judge(nil, Progress{}), "nothing was looked at")
}

func TestTheSummaryIsASentenceToActOn(t *testing.T) {
	all := Progress{Planned: 8, Done: 8}
	var f []Finding
	for _, p := range []string{"/", "/kits", "/cart"} {
		f = append(f, Key{p, "menu", "visitor", "phone"}.about(JourneyKind, Broken, "The menu does not open").caused("menu"))
	}
	assert.Equal(t, "Broken for phone visitors on 3 pages: the menu does not open.", Summarise(VerdictBroken, f, all))
	f = append(f, Key{"/", "", "visitor", "desktop"}.about(ShiftKind, Broken, "It jumps").caused("jump"))
	assert.True(t, strings.HasSuffix(Summarise(VerdictBroken, f, all), "And 1 more cause."))
	assert.Equal(t, "Clear: 8 looks, nothing a visitor would miss.", Summarise(VerdictClear, nil, all))
	assert.Contains(t, Summarise(VerdictNotChecked, nil, Progress{Planned: 8, Done: 3}), "3 of 8 looks")
}

func TestAParameterThatMadeAnotherPageMustStillDo(t *testing.T) {
	probe := func(first, second []string) Probe {
		return Probe{Key: Key{"/search?q=mane", "", "visitor", "phone"}, Kind: OtherValue, Parameter: "q", First: Answer{Lines: first}, Second: Answer{Lines: second}}
	}
	base := NewBaseline(Look{Probes: []Probe{probe([]string{"Search", "Mane", "quote 1"}, []string{"Search", "Nothing", "quote 2"})}},
		[]Probe{probe([]string{"Search", "Mane", "quote 3"}, []string{"Search", "Nothing", "quote 4"})})
	assert.Empty(t, CompareProbe(base, probe([]string{"Search", "Mane", "quote 5"}, []string{"Search", "Nothing", "quote 1"})), "a quotation proves nothing")
	again := NewBaseline(Look{Probes: []Probe{probe([]string{"Search", "Mane", "quote 1"}, []string{"Search", "Nothing", "quote 2"})}},
		[]Probe{probe([]string{"Search", "Mane", "quote 1"}, []string{"Search", "Nothing", "quote 2"})})
	assert.Empty(t, CompareProbe(again, probe([]string{"Search", "Mane", "quote 5"}, []string{"Search", "Nothing", "quote 1"})), "nor does one that came run again")
	f := CompareProbe(base, probe([]string{"Search", "Mane"}, []string{"Search", "Mane"}))
	require.Len(t, f, 1)
	assert.Equal(t, VariantKind, f[0].Kind)
}

func TestFindingsAreKnownAgain(t *testing.T) {
	a := Key{"/", "", "visitor", "phone"}.about(PictureKind, Broken, "A").caused("nav")
	b := Key{"/", "", "visitor", "phone"}.about(PictureKind, Unsure, "B").caused("nav")
	c := Key{"/", "", "visitor", "desktop"}.about(PictureKind, Broken, "A").caused("nav")
	assert.Equal(t, a.Fingerprint, b.Fingerprint)
	assert.NotEqual(t, a.Fingerprint, c.Fingerprint)
	raw, err := json.Marshal(a)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "step")
}

func TestWhatAPageCacheConfusesIsFound(t *testing.T) {
	cached := func(a Answer) Answer { a.Served, a.CacheNote = httpcache.Cached, "Cache-Status: c; hit"; return a }
	probe := func(kind ProbeKind, class string) Probe {
		return Probe{Key: Key{"/p", "", "visitor", "phone"}, Class: class, Kind: kind, Before: "desktop"}
	}
	base := func(p Probe) Baseline { return NewBaseline(Look{Probes: []Probe{p}}, []Probe{p}) }
	for name, tc := range map[string]struct {
		class string
		kind  ProbeKind
		set   func(*Probe)
		want  Kind
		says  string
	}{
		"a cart that a second visitor gets": {"cart", StrangerTwice, func(p *Probe) { p.Second = cached(p.Second) }, PolicyKind, "A cart page is served from the page cache"},
		"an article that is cached":         {"article", StrangerTwice, func(p *Probe) { p.Second = cached(p.Second) }, "", ""},
		"a name on a visitor's page":        {"article", StrangerTwice, func(p *Probe) { p.Second.PrivateTexts = []string{"Wren Oakham"} }, LeakKind, "belongs to somebody"},
		"one token for everybody": {"form", StrangerTwice, func(p *Probe) {
			p.First.Tokens, p.Second, p.Fresh.Tokens = []string{"a"}, cached(Answer{Tokens: []string{"a"}}), []string{"b"}
		}, FormKind, "same for everybody"},
		"a hidden value that is always so": {"form", StrangerTwice, func(p *Probe) {
			p.First.Tokens, p.Second, p.Fresh.Tokens = []string{"a"}, cached(Answer{Tokens: []string{"a"}}), []string{"a"}
		}, "", ""},
		"a cookie in a cached copy": {"article", StrangerTwice, func(p *Probe) {
			p.Second, p.Personal = cached(Answer{Status: 200, Fields: map[string][]string{"set-cookie": {"sid"}}}), []string{"sid"}
		}, PolicyKind, "contradicts"},
		"a cookie that is nobody's in particular": {"article", StrangerTwice, func(p *Probe) {
			p.Second, p.Personal = cached(Answer{Status: 200, Fields: map[string][]string{"set-cookie": {"theme"}}}), []string{"sid"}
		}, "", ""},
		"too old by its date alone": {"article", StrangerTwice, func(p *Probe) {
			at := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
			p.Second = cached(Answer{Status: 200, Received: at, Fields: map[string][]string{"cache-control": {"max-age=5"}, "date": {"Sun, 01 Mar 2026 11:59:00 GMT"}}})
		}, StaleKind, "contradicts"},
		"a site whose clock is behind": {"article", StrangerTwice, func(p *Probe) {
			at := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
			p.Second = cached(Answer{Status: 200, Received: at, Fields: map[string][]string{"cache-control": {"max-age=5"}, "date": {"Sun, 01 Mar 2026 11:59:00 GMT"}}})
			p.Fresh.Received, p.Fresh.Fields = at, map[string][]string{"date": {"Sun, 01 Mar 2026 11:59:00 GMT"}}
		}, "", ""},
		"private, and cached": {"article", StrangerTwice, func(p *Probe) {
			p.Second = cached(Answer{Status: 200, Fields: map[string][]string{"cache-control": {"private"}}})
		}, PolicyKind, "contradicts"},
		"served past its life": {"article", StrangerTwice, func(p *Probe) {
			p.Second = cached(Answer{Status: 200, Fields: map[string][]string{"cache-control": {"max-age=5"}, "age": {"9"}}})
		}, StaleKind, "contradicts"},
		"one address for two devices, for all caches": {"home", DeviceAfter, func(p *Probe) {
			p.First.Shape, p.Fresh.Shape = "d", "p"
			p.Second = Answer{Status: 200, Fields: map[string][]string{"cache-control": {"max-age=60"}}}
		}, PolicyKind, "contradicts"},
		"one address for two devices, which Vary names": {"home", DeviceAfter, func(p *Probe) {
			p.First.Shape, p.Fresh.Shape = "d", "p"
			p.Second = Answer{Status: 200, Fields: map[string][]string{"cache-control": {"max-age=60"}, "vary": {"User-Agent"}}}
		}, "", ""},
		"another's name": {"account", PersonaAfter, func(p *Probe) { p.Second.PrivateTexts = []string{"FH-1"} }, LeakKind, "visitor is shown what belongs to desktop"},
		"the desktop's page on a phone": {"home", DeviceAfter, func(p *Probe) {
			p.First.Body, p.Second, p.Fresh.Shape = "x", cached(Answer{Body: "x", Shape: "d"}), "p"
		}, VariantKind, "A phone is served the page made for a desktop"},
		"one copy that is built alike for both": {"home", DeviceAfter, func(p *Probe) {
			p.First.Body, p.Second, p.Fresh.Shape = "x", cached(Answer{Body: "x", Shape: "d"}), "d"
		}, "", ""},
		"each device its own copy": {"home", DeviceAfter, func(p *Probe) {
			p.First.Body, p.Second, p.Fresh.Shape = "x", cached(Answer{Body: "y", Shape: "p"}), "p2"
		}, "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			p := probe(tc.kind, tc.class)
			tc.set(&p)
			f := CompareProbe(base(probe(tc.kind, tc.class)), p)
			if tc.want == "" {
				assert.Empty(t, f)
				return
			}
			require.Len(t, f, 1)
			assert.Equal(t, tc.want, f[0].Kind)
			assert.Contains(t, f[0].Title, tc.says)
			if tc.want == PolicyKind || tc.want == FormKind {
				assert.Empty(t, CompareProbe(base(p), p), "the mark was like that already")
			}
		})
	}
}
