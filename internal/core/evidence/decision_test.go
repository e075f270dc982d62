package evidence

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A decision stands for what was seen and for nothing else.
func TestADecisionCoversTheVerySameDifferenceOnly(t *testing.T) {
	seen := Key{Page: "/kits", Persona: "visitor", Device: "phone"}.about(PictureKind, Broken, "button#pay is recoloured").caused("#pay")
	there := func(change func(*Finding)) Finding { f := seen; change(&f); return f }
	here, everywhere := seen.AsAccepted(false), seen.AsAccepted(true)
	for name, tc := range map[string]struct {
		f                Finding
		here, everywhere bool
	}{
		"the same":                   {seen, true, true},
		"tied to another cause":      {seen.dueTo("missing: x.js"), false, false}, // by itself it is another
		"a symptom of something":     {there(func(f *Finding) { f.Cause, f.Symptom = "missing: x.js", true }), true, true},
		"on another page":            {there(func(f *Finding) { f.Page = "/cart" }), false, true},
		"for somebody else":          {there(func(f *Finding) { f.Persona = "subscriber" }), false, true},
		"something else of the part": {there(func(f *Finding) { f.Title = "button#pay is missing" }), false, false},
		"no worse":                   {there(func(f *Finding) { f.Severity = Unsure }), true, true},
		"another kind":               {there(func(f *Finding) { f.Kind = ContentKind }), false, false},
	} {
		assert.Equal(t, tc.here, here.Covers(tc.f), name)
		assert.Equal(t, tc.everywhere, everywhere.Covers(tc.f), name)
	}
	unsure := there(func(f *Finding) { f.Severity = Unsure }).AsAccepted(true)
	assert.False(t, unsure.Covers(seen), "worse than what was accepted")
	assert.False(t, Accepted{Kind: PictureKind, Title: "x"}.Covers(Finding{Kind: PictureKind, Title: "x"}), "what has no part is known again by nothing")
	assert.False(t, LeakKind.Lasts())
	assert.False(t, VariantKind.Lasts())
	assert.True(t, PictureKind.Lasts())
}
