package journey

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAMadeUpWordStandsWhereItsPlaceWas(t *testing.T) {
	raw := `[{"go":"/note?for={canary}"},{"fill":{"in":{"label":"Note"},"value":"at {canary}, or {canary}"}},
		{"expect":{"text":{"in":"main","contains":"{canary}"},"noText":{"in":"nav","contains":"{canary}"},"url":"/n?{canary}"}},{"click":"#{canary}"}]`
	var steps []Step
	require.NoError(t, json.Unmarshal([]byte(raw), &steps))
	before, err := json.Marshal(steps)
	require.NoError(t, err)
	said := WithCanary(steps, "tideq")
	assert.Equal(t, "/note?for=tideq", said[0].Go)
	assert.Equal(t, "at tideq, or tideq", said[1].Fill.Value)
	assert.Equal(t, "tideq", said[2].Expect.Text.Contains)
	assert.Equal(t, "tideq", said[2].Expect.NoText.Contains)
	assert.Equal(t, "/n?tideq", said[2].Expect.URL)
	assert.Equal(t, "#{canary}", said[3].Click.CSS, "an element is not called after it")
	after, err := json.Marshal(steps)
	require.NoError(t, err)
	assert.JSONEq(t, string(before), string(after), "the steps given stay as they are")
	assert.True(t, HasCanary(steps))
	assert.False(t, HasCanary(steps[2:]), "looking for it does not put it anywhere")
}
