package culprit_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/culprit"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/prediction"
	"tidemarker/internal/core/settings"
)

func marked() evidence.Look {
	at := evidence.Key{Page: "/kits", Persona: "visitor", Device: "desktop"}
	return evidence.Look{Pages: []evidence.PageLook{{Key: at, Requests: []evidence.Request{
		{URL: "https://a.test/kits", Kind: "document"}, {URL: "https://a.test/assets/menu.js", Kind: "script"}, {URL: "https://a.test/assets/fern.js?v=3", Kind: "script"},
		{URL: "https://a.test/assets/site.css", Kind: "stylesheet"}}, Outline: []evidence.Box{{Name: "div.card"}, {Name: "button#pay"}, {Name: "nav.menu “Menu”"}}}}}
}

func patterns(list []culprit.Candidate) []string {
	var out []string
	for _, c := range list {
		out = append(out, c.Pattern)
	}
	return out
}

func TestWhatTheEvidenceNamesIsExcludedFirst(t *testing.T) {
	lists := culprit.ExclusionLists(layer, "js-defer")
	require.Len(t, lists, 1)
	list := lists[0]
	assert.Equal(t, "scripts.deferNot", list.Key)
	undefined := evidence.Finding{Kind: evidence.ScriptErrorKind, Severity: evidence.Broken, Title: "Script error: ReferenceError: Fern is not defined", Page: "/kits", Device: "desktop"}
	got := culprit.Candidates(list, marked(), []evidence.Finding{undefined}, nil, nil)
	assert.Equal(t, []string{"/assets/fern.js", "/assets/menu.js"}, patterns(got), "scripts alone, without their queries")
	assert.Equal(t, "It is called as what is not defined", got[0].Why)

	named := evidence.Finding{Kind: evidence.ScriptErrorKind, Severity: evidence.Broken, Title: "Script error: TypeError", Detail: "In /assets/menu.js", Page: "/kits", Device: "desktop"}
	got = culprit.Candidates(list, marked(), []evidence.Finding{named}, []string{"/assets/fern.js"}, nil)
	assert.Equal(t, []string{"/assets/menu.js"}, patterns(got), "what is excluded already is no candidate")

	lists = culprit.ExclusionLists(layer, "page-cache")
	require.NotEmpty(t, lists)
	assert.Equal(t, []string{"/kits"}, patterns(culprit.Candidates(lists[0], marked(), nil, nil, nil)))

	none := culprit.ExclusionLists(layer, "html-minify")
	assert.Empty(t, none)

	keep := settings.Definition{Key: "styles.keep", Type: settings.Patterns, Role: "css-keep"}
	lost := evidence.Finding{Kind: evidence.PictureKind, Severity: evidence.Broken, Title: "nav.menu has lost its style", Page: "/kits"}
	assert.Equal(t, []string{".menu*", ".card*"}, patterns(culprit.Candidates(keep, marked(), []evidence.Finding{lost}, nil, nil)))
}

// The fewest exclusions with which nothing breaks, of any that are needed together.
func TestTheFewestExclusionsAreFound(t *testing.T) {
	for _, need := range [][]int{{3}, {0, 5}, {1, 2, 6}} {
		x := culprit.Excluding{Key: "scripts.deferNot", Candidates: make([]culprit.Candidate, 8)}
		for i := range x.Candidates {
			x.Candidates[i] = culprit.Candidate{Pattern: string(rune('a' + i)), Likely: 0.1}
		}
		var answers []culprit.Answer
		for x = culprit.NextExclusions(x, answers); !x.Over; x = culprit.NextExclusions(x, answers) {
			require.Less(t, len(answers), 40)
			o := culprit.Passes
			if slices.ContainsFunc(need, func(i int) bool { return !slices.Contains(x.Ask, i) }) {
				o = culprit.Fails
			}
			answers = append(answers, culprit.Answer{Parts: x.Ask, Outcome: o})
		}
		assert.Equal(t, need, x.Fewest)
	}
	x := culprit.NextExclusions(culprit.Excluding{Candidates: make([]culprit.Candidate, 3)}, []culprit.Answer{{Parts: []int{0, 1, 2}, Outcome: culprit.Fails}})
	assert.True(t, x.Over)
	assert.Empty(t, x.Fewest, "nothing helps")

	v := culprit.Excluded(settings.Values{"l": []string{"x"}}, culprit.Excluding{Key: "l", Candidates: []culprit.Candidate{{Pattern: "x"}, {Pattern: "y"}}}, []int{0, 1})
	assert.Equal(t, []string{"x", "y"}, v.Strings("l"))
}

// TestWhatWasPredictedAndCameIsTriedFirst: what predictions proposed to exclude, and what it said which
// setting does, comes before all else; what it predicted in vain does not count.
func TestWhatWasPredictedAndCameIsTriedFirst(t *testing.T) {
	undefined := evidence.Finding{Kind: evidence.ScriptErrorKind, Severity: evidence.Broken, Page: "/", Title: "Moss is not defined"}
	held := func(o prediction.Outcome) []prediction.Held {
		return []prediction.Held{{Outcome: o, Finding: undefined.Title, Prediction: prediction.Prediction{Key: "scripts.defer", Title: "A script uses Moss", Exclude: []prediction.Exclude{{Key: "scripts.deferNot", Pattern: "/assets/grove.js"}}}}}
	}
	list, _ := layer.Find("scripts.deferNot")
	require.Equal(t, settings.Role("js-exclude-defer"), list.Role)
	got := culprit.Candidates(list, marked(), []evidence.Finding{undefined}, nil, held(prediction.Right))
	assert.Equal(t, "/assets/grove.js", got[0].Pattern, "although no page loads it under that address")
	assert.Equal(t, "It was predicted: A script uses Moss", got[0].Why)
	assert.NotContains(t, patterns(culprit.Candidates(list, marked(), []evidence.Finding{undefined}, nil, held(prediction.Wrong))), "/assets/grove.js")

	parts := []culprit.Part{{Key: "scripts.defer", Value: true}, {Key: "scripts.delay", Value: true}}
	likely := culprit.Likely(layer, parts, []evidence.Finding{undefined}, held(prediction.Right))
	assert.Greater(t, likely[0], likely[1]+30)
	without := culprit.Likely(layer, parts, []evidence.Finding{undefined}, held(prediction.Wrong))
	assert.Less(t, without[0], likely[0])
}

// TestNamesAndCosts: cookies and parameters that were seen, and what a list has unless somebody takes
// it out, can be excluded, too; and it is told what the action leaves out then.
func TestNamesAndCosts(t *testing.T) {
	look := marked()
	look.Pages = append(look.Pages, evidence.PageLook{Key: evidence.Key{Page: "/search?q=mane"}})
	look.Journeys = []evidence.JourneyLook{{Cookies: []string{"fern_member"}}}
	cookies := settings.Definition{Key: "c", Type: settings.Patterns, Role: "cookie-exclude", Default: []any{"fern_staff"}}
	assert.Equal(t, []string{"fern_staff", "fern_member"}, patterns(culprit.Candidates(cookies, look, nil, nil, nil)))
	parameters := settings.Definition{Key: "q", Type: settings.Patterns, Role: "query-vary", Default: []any{}}
	assert.Equal(t, []string{"q"}, patterns(culprit.Candidates(parameters, look, nil, nil, nil)))

	look.Pages[0].Requests[1].Bytes, look.Pages[0].Requests[2].Bytes = 3000, 1000
	scripts := settings.Definition{Key: "s", Type: settings.Patterns, Role: "js-exclude-defer", Default: []any{}}
	assert.Equal(t, "1 of 2 files stay as they are: 1.0 of 4.0 kB.", culprit.Cost(scripts, look, []string{"/assets/fern.js"}))
	paths := settings.Definition{Key: "p", Type: settings.Patterns, Role: "path-exclude", Default: []any{}}
	assert.Equal(t, "1 of 2 watched pages are made for each who asks.", culprit.Cost(paths, look, []string{"/kits"}))
	assert.Empty(t, culprit.Cost(cookies, look, []string{"fern_member"}), "nobody knows who has it")

	defers := culprit.Part{Key: "scripts.defer", Value: true}
	assert.Equal(t, "2 of 2 files stay as they are: 4.0 of 4.0 kB.", culprit.CostOfLeavingOut(layer, []culprit.Part{defers, defers}, look), "said once")
	assert.Equal(t, "2 of 2 watched pages are made for each who asks.", culprit.CostOfLeavingOut(layer, []culprit.Part{{Key: "pages.cache", Value: true}}, look))
	for _, p := range []culprit.Part{{Key: "scripts.defer", Value: false}, {Key: "pages.never", Entry: "/cart", Removed: true}, {Key: "unknown", Value: true}} {
		assert.Empty(t, culprit.CostOfLeavingOut(layer, []culprit.Part{p}, look), p.Key)
	}
}

// TestManyExclusionsAreNotProvenOneByOne: what was predicted is tried first, all of it; when it mends and each
// is needed, that is not proven one by one for ever.
func TestManyExclusionsAreNotProvenOneByOne(t *testing.T) {
	x := culprit.Excluding{Key: "not"}
	for i := range 24 {
		likely := 0.1
		if i%3 == 0 {
			likely = 20
		}
		x.Candidates = append(x.Candidates, culprit.Candidate{Pattern: string(rune('a' + i)), Likely: likely})
	}
	var answers []culprit.Answer
	for range 40 {
		x = culprit.NextExclusions(x, answers)
		if x.Over {
			break
		}
		if len(answers) == 0 {
			require.Equal(t, []int{0, 3, 6, 9, 12, 15, 18, 21}, x.Ask)
		}
		o := culprit.Passes
		for i := range 24 {
			if i%3 == 0 && !slices.Contains(x.Ask, i) {
				o = culprit.Fails
			}
		}
		answers = append(answers, culprit.Answer{Parts: x.Ask, Outcome: o})
	}
	require.True(t, x.Over)
	assert.True(t, x.Rough)
	assert.Len(t, x.Fewest, 8)
	assert.LessOrEqual(t, len(answers), 12)
}
