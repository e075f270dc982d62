package evidence

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/journey"
)

func TestWhatIsOlderThanItMayBeIsFound(t *testing.T) {
	cached := func(age string, tokens ...string) Answer {
		return Answer{Status: 200, Served: httpcache.Cached, CacheNote: "Cache-Status: c; hit", Fields: map[string][]string{"age": {age}}, Tokens: tokens}
	}
	made := Answer{Status: 200, Served: httpcache.Origin}
	word := []string{MadeUp("a new lead")}
	for name, tc := range map[string]struct {
		p    Probe
		want Kind
		says string
	}{
		"within its life":                       {Probe{Kind: AsCached, Allowed: 60, First: cached("59"), Second: cached("59")}, "", ""},
		"older than its life":                   {Probe{Kind: AsCached, Allowed: 60, Rule: "It may live for 1 minute.", First: cached("600"), Second: cached("603")}, StaleKind, "A copy came that was 10m0s old. It may live for 1 minute."},
		"an old copy once, and a new one after": {Probe{Kind: AsCached, Allowed: 60, First: cached("600"), Second: cached("1")}, "", ""},
		"an old copy, then generated fresh":     {Probe{Kind: AsCached, Allowed: 60, First: cached("600"), Second: made}, "", ""},
		"no setting says":                       {Probe{Kind: AsCached, First: cached("600"), Second: cached("600")}, "", ""},
		"an age that is none":                   {Probe{Kind: AsCached, Allowed: 60, First: cached("soon"), Second: cached("soon")}, "", ""},
		"not cached":                            {Probe{Kind: AsCached, Allowed: 60, First: made, Second: made}, "", ""},
		"a form that can no longer be sent":     {Probe{Kind: AsCached, Allowed: 90000, FormLives: 3600, First: cached("7200", "a"), Second: cached("7200", "a"), Fresh: Answer{Tokens: []string{"b"}}}, FormKind, "The hidden value of its form is 2h0m0s old, and the site takes it for 1h0m0s."},
		"a form whose value never changes":      {Probe{Kind: AsCached, Allowed: 90000, FormLives: 3600, First: cached("7200", "a"), Second: cached("7200", "a"), Fresh: Answer{Tokens: []string{"a"}}}, "", ""},
		"a form that still can":                 {Probe{Kind: AsCached, Allowed: 90000, FormLives: 3600, First: cached("600", "a"), Second: cached("600", "a"), Fresh: Answer{Tokens: []string{"b"}}}, "", ""},
		"an edit that shows":                    {Probe{Kind: Published, Second: Answer{PrivateTexts: word}, Fresh: Answer{PrivateTexts: word}}, "", ""},
		"an edit that does not show at once":    {Probe{Kind: Published, Edit: "a new lead", Waited: 3.2, Rule: "It is never cached.", Second: cached("40"), Fresh: Answer{PrivateTexts: word}}, StaleKind, "“a new lead” was published; 3.2 s later the page was as before. It is never cached. Generated fresh, it shows it."},
		"an edit that may take hours":           {Probe{Kind: Published, Allowed: 36000, Waited: 0.1, Second: cached("40"), Fresh: Answer{PrivateTexts: word}}, "", ""},
		"an edit of which nothing says":         {Probe{Kind: Published, Allowed: -1, Waited: 0.1, Second: cached("40"), Fresh: Answer{PrivateTexts: word}}, "", ""},
		"an edit that shows nowhere":            {Probe{Kind: Published, Edit: "a new lead"}, NotCheckedKind, "Is this a page that shows it?"},
		"shown after signing out":               {Probe{Kind: AfterSignOut, Second: Answer{PrivateTexts: word}}, LeakKind, "a cached copy came with"},
		"known after signing out":               {Probe{Kind: AfterSignOut, Second: Answer{PrivateTexts: word}, Fresh: Answer{PrivateTexts: word}}, LeakKind, "the page, generated fresh, was answered with"},
		"nothing after signing out":             {Probe{Kind: AfterSignOut, First: Answer{PrivateTexts: word}}, "", ""},
		"a copy of one's own":                   {Probe{Kind: PersonaTwice, Second: Answer{Served: httpcache.Cached, PrivateTexts: word}}, "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			tc.p.Key = Key{"/p", "", "wren", "phone"}
			f := CompareProbe(Baseline{}, tc.p)
			if tc.want == "" {
				assert.Empty(t, f)
				return
			}
			require.Len(t, f, 1)
			assert.Equal(t, tc.want, f[0].Kind)
			assert.Contains(t, f[0].Detail, tc.says)
		})
	}
}

func TestWhatTheSiteShowedAfterSigningOutBeforeIsNotTheChanges(t *testing.T) {
	p := Probe{Key: Key{"/p", "", "wren", "phone"}, Kind: AfterSignOut, Second: Answer{PrivateTexts: []string{"Wren"}}, Fresh: Answer{PrivateTexts: []string{"Wren"}}}
	assert.Empty(t, CompareProbe(NewBaseline(Look{Probes: []Probe{p}}, nil), p))
	q := p
	q.Fresh.PrivateTexts = nil
	assert.Len(t, CompareProbe(NewBaseline(Look{Probes: []Probe{p}}, nil), q), 1, "from a cached copy it is new")
}

func TestAnIgnoredParameterThatMakesAPageAnewIsNoted(t *testing.T) {
	p := Probe{Key: Key{"/p", "", "visitor", "phone"}, Kind: IgnoredParameter, Parameter: "utm_tide", Second: Answer{Served: httpcache.Cached}}
	base := NewBaseline(Look{Probes: []Probe{p}}, nil)
	assert.Empty(t, CompareProbe(base, p))
	q := p
	q.Second.Served = httpcache.Origin
	f := CompareProbe(base, q)
	require.Len(t, f, 1)
	assert.Equal(t, Note, f[0].Severity)
	assert.Empty(t, CompareProbe(NewBaseline(Look{Probes: []Probe{q}}, nil), q), "it was like that")
}

func TestAFormIsRefusedOnlyFromAHeldPage(t *testing.T) {
	run := func(cached ...bool) JourneyLook {
		l := JourneyLook{Key: Key{Page: "/contact", Journey: "a message is sent", Persona: "visitor", Device: "desktop"}}
		for _, h := range cached {
			l.Outcome.Steps = append(l.Outcome.Steps, journey.StepOutcome{Step: "expect “Sent”", Passed: h, Why: "it says “This form has expired”."})
		}
		return l
	}
	f := LateForm(run(true, false), run(true, true))
	require.Len(t, f, 1)
	assert.Equal(t, FormKind, f[0].Kind)
	assert.Equal(t, 1, *f[0].Step)
	assert.Contains(t, f[0].Detail, "This form has expired")
	assert.Empty(t, LateForm(run(true, false), run(true, false)), "it does not work at all")
	assert.Empty(t, LateForm(run(true, true), run(true, true)))
	gone := run(true, false)
	gone.Missing = "no answer"
	assert.Empty(t, LateForm(gone, run(true, true)), "it was not looked at")
}

func TestALineThatOnlyOnePersonGetsIsALeakWithoutAnyMark(t *testing.T) {
	p := Probe{Key: Key{"/kits", "", "carrier", "phone"}, Class: "listing", Kind: StrangerAfter,
		First: Answer{Lines: []string{"Kits", "Basket 1", "A quotation"}}, Second: Answer{Lines: []string{"Kits", "Basket 0"}}, Fresh: Answer{Lines: []string{"Kits", "Basket 0"}}}
	again := p
	again.First.Lines = []string{"Kits", "Basket 1", "Another quotation"}
	base := NewBaseline(Look{Probes: []Probe{p}}, []Probe{again})
	assert.Empty(t, CompareProbe(base, p))
	leaks := p
	leaks.Second = Answer{Served: httpcache.Cached, CacheNote: "Cache-Status: c; hit", Lines: p.First.Lines}
	f := CompareProbe(base, leaks)
	require.Len(t, f, 1)
	assert.Equal(t, LeakKind, f[0].Kind)
	assert.Contains(t, f[0].Detail, "Basket 1")
	assert.NotContains(t, f[0].Detail, "quotation", "that changes by itself")
	assert.Empty(t, CompareProbe(Baseline{}, leaks), "without a mark nobody knows whose the line is")
}

func TestSomebodyWhoGetsTheStrangersPageIsFound(t *testing.T) {
	p := Probe{Key: Key{"/kits", "", "wren", "phone"}, Kind: PersonaAfter, Before: "visitor", Second: Answer{Served: httpcache.Cached, CacheNote: "Cache-Status: c; hit"}, Fresh: Answer{PrivateTexts: []string{"Wren Oakham"}}}
	f := CompareProbe(Baseline{}, p)
	require.Len(t, f, 1)
	assert.Equal(t, VariantKind, f[0].Kind)
	assert.Contains(t, f[0].Detail, "Generated fresh, it has “Wren Oakham”.")
	assert.Empty(t, CompareProbe(NewBaseline(Look{Probes: []Probe{p}}, nil), p), "it was like that when the mark was taken")
	p.Second.PrivateTexts = p.Fresh.PrivateTexts
	assert.Empty(t, CompareProbe(Baseline{}, p), "a copy of their own")
	p.Second = Answer{Served: httpcache.Origin}
	assert.Empty(t, CompareProbe(Baseline{}, p), "not from a cached copy")
}
