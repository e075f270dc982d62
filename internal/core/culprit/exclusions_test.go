package culprit_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/culprit"
	"tidemarker/internal/core/evidence"
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
	list, ok := culprit.ExclusionList(layer, "js-defer")
	require.True(t, ok)
	assert.Equal(t, "scripts.deferNot", list.Key)
	undefined := evidence.Finding{Kind: evidence.ScriptErrorKind, Severity: evidence.Broken, Title: "Script error: ReferenceError: Fern is not defined", Page: "/kits", Device: "desktop"}
	got := culprit.Candidates(list, marked(), []evidence.Finding{undefined}, nil)
	assert.Equal(t, []string{"/assets/fern.js", "/assets/menu.js"}, patterns(got), "scripts alone, without their queries")
	assert.Equal(t, "It is called as what is not defined", got[0].Why)

	named := evidence.Finding{Kind: evidence.ScriptErrorKind, Severity: evidence.Broken, Title: "Script error: TypeError", Detail: "In /assets/menu.js", Page: "/kits", Device: "desktop"}
	got = culprit.Candidates(list, marked(), []evidence.Finding{named}, []string{"/assets/fern.js"})
	assert.Equal(t, []string{"/assets/menu.js"}, patterns(got), "what is excluded already is no candidate")

	list, ok = culprit.ExclusionList(layer, "page-cache")
	require.True(t, ok)
	assert.Equal(t, []string{"/kits"}, patterns(culprit.Candidates(list, marked(), nil, nil)))

	_, ok = culprit.ExclusionList(layer, "css-minify")
	assert.False(t, ok)

	keep := settings.Definition{Key: "styles.keep", Type: settings.Patterns, Role: "css-keep"}
	lost := evidence.Finding{Kind: evidence.PictureKind, Severity: evidence.Broken, Title: "nav.menu has lost its style", Page: "/kits"}
	assert.Equal(t, []string{".menu*", ".card*"}, patterns(culprit.Candidates(keep, marked(), []evidence.Finding{lost}, nil)))
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
