package settings

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatDeletesData(t *testing.T) {
	cat := Catalogue{Settings: []Definition{
		{Key: "spam", Type: Switch, Default: false, Role: "tidy", Irreversible: true},
		{Key: "drafts", Type: Switch, Default: false, Role: "tidy", Irreversible: true},
		{Key: "keep", Type: Whole, Default: 5.0, Role: "tidy"},
		{Key: "lazy", Type: Switch, Default: false, Role: "lazy-images"},
	}}
	none := Values{"spam": false, "drafts": false, "keep": 5.0, "lazy": false}
	on := none.With(Values{"spam": true})
	for name, tc := range map[string]struct {
		before, after Values
		deletes       []string
		only          bool
	}{
		"a tidy that is switched on":           {none, on, []string{"spam"}, true},
		"one that was on before":               {on, on.With(Values{"lazy": true}), nil, false},
		"one that is switched off":             {on, none, nil, false},
		"fewer kept while a tidy is on":        {on, on.With(Values{"keep": 1.0}), []string{"keep"}, true},
		"fewer kept while none is on":          {none, none.With(Values{"keep": 1.0}), nil, false},
		"something else rides along":           {none, on.With(Values{"lazy": true}), []string{"spam"}, false},
		"a second tidy, and how much it keeps": {on, on.With(Values{"drafts": true, "keep": 9.0}), []string{"drafts", "keep"}, true},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, tc.deletes, cat.Deletes(tc.before, tc.after))
			assert.Equal(t, tc.only, cat.OnlyTidies(tc.before, tc.after))
		})
	}
}

func TestATidyIsAStepOfItsOwn(t *testing.T) {
	cat := Catalogue{Settings: []Definition{
		{Key: "keep", Title: "Keep", Type: Whole, Default: 5.0, Role: "tidy"},
		{Key: "spam", Title: "Spam", Type: Switch, Default: false, Role: "tidy", Irreversible: true, Risk: 2},
		{Key: "lazy", Title: "Lazy", Type: Switch, Default: false, Role: "lazy-images", Risk: 1},
		{Key: "defer", Title: "Defer", Type: Switch, Default: false, Role: "js-defer", Risk: 3},
	}}
	edits := Values{"keep": 1.0, "spam": true, "lazy": true, "defer": true}
	assert.True(t, cat.Piled(edits))
	assert.True(t, cat.Piled(Values{"spam": true, "lazy": true}), "a tidy never rides along")
	assert.False(t, cat.Piled(Values{"spam": true, "keep": 1.0}), "a tidy by itself")
	var titles []string
	for _, p := range cat.Split(edits) {
		titles = append(titles, p.Title)
	}
	assert.Equal(t, []string{"Lazy", "Defer", "Keep, Spam"}, titles)
}
