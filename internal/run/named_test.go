package run_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/culprit"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/inspect"
	"tidemarker/internal/run"
	"tidemarker/internal/testdb"
)

// TestAnEditIsNamedAsItsSettingIs: with its value where that says more, a time with its unit.
func TestAnEditIsNamedAsItsSettingIs(t *testing.T) {
	c := settings.Catalogue{Settings: []settings.Definition{
		{Key: "defer", Title: "Defer scripts", Type: settings.Switch},
		{Key: "every", Title: "Time between warm-ups", Type: settings.Seconds},
		{Key: "skip", Title: "Pictures loaded at once", Type: settings.Whole},
		{Key: "not", Title: "Scripts not deferred", Type: settings.Patterns},
	}}
	for want, p := range map[string]culprit.Part{
		"Defer scripts":                        {Key: "defer", Value: true},
		"Defer scripts off":                    {Key: "defer", Value: false},
		"Time between warm-ups: 2 hours":       {Key: "every", Value: 7200.0},
		"Time between warm-ups: 90 seconds":    {Key: "every", Value: 90},
		"Pictures loaded at once: 3":           {Key: "skip", Value: 3.0},
		"Scripts not deferred with “/fern.js”": {Key: "not", Entry: "/fern.js"},
		"Scripts not deferred without “/a.js”": {Key: "not", Entry: "/a.js", Removed: true},
		"gone: 7": {Key: "gone", Value: 7},
	} {
		assert.Equal(t, want, run.Named(c, p))
	}
}

// A picture that retention removed is told in words that say what to do, without its digest.
func TestAPictureThatIsNoLongerKeptIsSaid(t *testing.T) {
	s, _ := testdb.New(t)
	_, err := inspect.Pictures(t.Context(), s)("5891b5b522d5df086d0ff0b110fbd9d21bb4fc7163af34d08286a2e846f6be03")
	require.ErrorAs(t, err, new(*inspect.PictureGone))
	assert.EqualError(t, err, "a picture that it is compared with is no longer kept; take a new mark of the environment")
}
