package changes_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/release"
)

// TestAClimbWhoseChangeWasTakenFromItEnds discards the change of a climb: the climb is over, and says why; another can begin.
func TestAClimbWhoseChangeWasTakenFromItEnds(t *testing.T) {
	b := newBench(t)
	b.marked()
	id, err := b.BeginClimb(t.Context(), b.site, changes.ClimbWish{}, "marin")
	require.NoError(t, err)
	require.NoError(t, b.Discard(t.Context(), id, "ada"))
	require.NoError(t, b.ClimbOn(t.Context()))
	c, err := b.Store.ClimbOf(t.Context(), id)
	require.NoError(t, err)
	require.NotNil(t, c.OverAt)
	assert.Contains(t, c.Climb.V.Summary, "Somebody went on with its change by hand: it is discarded.")
	assert.Equal(t, release.Discarded, b.change(id).State, "and stays so")
	_, err = b.BeginClimb(t.Context(), b.site, changes.ClimbWish{}, "marin")
	require.NoError(t, err)
}
