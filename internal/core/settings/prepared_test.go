package settings

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Who is careful fills in the list of what is to be excluded, and then switches the action
// on: the list is noted to do nothing yet, and not refused.
func TestAListMayBePreparedWhileItsActionIsOff(t *testing.T) {
	c := Catalogue{Settings: []Definition{
		{Key: "s.defer", Title: "Defer scripts", Type: Switch, Default: false},
		{Key: "s.deferNot", Title: "Not deferred", Type: Patterns, Default: []string{}, Requires: []Condition{{Key: "s.defer", Equals: true}}},
		{Key: "s.both", Title: "Both", Type: Switch, Default: false, Requires: []Condition{{Key: "s.defer", Equals: true}}},
	}}
	got := c.Consequences(Values{"s.defer": false, "s.deferNot": []string{"/app.js"}, "s.both": false}, Host{})
	require.Len(t, got, 1)
	assert.Equal(t, "Not deferred is prepared: it does nothing until Defer scripts is on.", got[0].Text)
	assert.False(t, got[0].Blocks)
	assert.Equal(t, &Edit{"s.defer", true}, got[0].Mend)

	got = c.Consequences(Values{"s.defer": false, "s.deferNot": []string{}, "s.both": true}, Host{})
	require.Len(t, got, 1)
	assert.True(t, got[0].Blocks, "an action that cannot work is refused as ever")
}
