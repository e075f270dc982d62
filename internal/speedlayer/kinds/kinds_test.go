package kinds

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/speedlayer"
)

func TestWhatAKindCanDoIsAskedInPlaceOfItsName(t *testing.T) {
	about := &settings.About{Protocol: "1", Features: []string{"purge", "purge-urls", "warm", "status"}}
	can := All.Able("http", about)
	assert.True(t, can.Reads && can.Applies && can.PurgesAll && can.PurgesPages && can.Warms)
	assert.Equal(t, speedlayer.Abilities{}, All.Able("by-hand", about), "a person does all of it")
	assert.Equal(t, speedlayer.Abilities{}, All.Able("", nil), "nothing is known of it")
	assert.Equal(t, []string{"http"}, All.Readable(), "whom a reading in the background may ask")
	_, known := All.Find("carrier-pigeon")
	assert.False(t, known)
	_, err := All.Open("carrier-pigeon", speedlayer.Place{Environment: "staging"})
	require.Error(t, err)
}

func TestATokenCanComeFromTheEnvironment(t *testing.T) {
	t.Setenv("KINDS_TEST_TOKEN", "hush")
	token, err := speedlayer.Place{Environment: "staging", Token: "env:KINDS_TEST_TOKEN", Variables: []string{"KINDS_TEST_TOKEN"}}.RevealToken()
	require.NoError(t, err)
	assert.Equal(t, "hush", token)
	token, err = speedlayer.Place{Token: "itself"}.RevealToken()
	require.NoError(t, err)
	assert.Equal(t, "itself", token)
	_, err = speedlayer.Place{Environment: "staging", Token: "env:KINDS_TEST_NOT_SET", Variables: []string{"KINDS_TEST_NOT_SET"}}.RevealToken()
	require.ErrorContains(t, err, "KINDS_TEST_NOT_SET, which is not set", "it says what to do, and shows nothing")

	t.Setenv("DATABASE_URL", "postgres://hush")
	for _, allowed := range [][]string{nil, {"KINDS_TEST_TOKEN"}} {
		_, err = speedlayer.Place{Environment: "staging", Token: "env:DATABASE_URL", Variables: allowed}.RevealToken()
		require.ErrorContains(t, err, "which no token may come from", "a variable that nobody listed goes to no connector")
		assert.NotContains(t, err.Error(), "hush")
	}
}

func TestByHandHasWhatIsKnownAndDoesNothingByItself(t *testing.T) {
	known, err := settings.ParseValues([]byte(`{"markup.compact": true, "pages.lifetime": 60}`))
	require.NoError(t, err)
	fingerprint := ""
	layer, err := All.Open("by-hand", speedlayer.Place{Environment: "staging", Known: func(context.Context) (settings.Values, string, error) { return known, fingerprint, nil }})
	require.NoError(t, err)
	_, err = layer.Settings(t.Context())
	require.ErrorContains(t, err, "upload the file", "nothing was exported yet")
	fingerprint = "f"
	now, err := layer.Settings(t.Context())
	require.NoError(t, err)
	assert.Equal(t, speedlayer.Settings{Values: known, ETag: "f"}, now)
	cat, err := layer.Catalogue(t.Context())
	require.NoError(t, err)
	require.NoError(t, cat.Validate(known), "the catalogue is what the file has")

	o := layer.Apply(t.Context(), known, "f")
	assert.Equal(t, release.ActNotApplied, o.State(), "a person does it, and then it is read back")
	_, err = layer.Purge(t.Context(), speedlayer.Scope{})
	require.ErrorContains(t, err, "by hand")
	_, err = layer.Warm(t.Context(), nil)
	require.Error(t, err)
	_, err = layer.Warming(t.Context(), "1")
	require.Error(t, err)
	_, err = layer.Status(t.Context())
	require.Error(t, err)
}
