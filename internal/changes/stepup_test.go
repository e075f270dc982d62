package changes_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/release"
)

// TestAStepUpWhoseChangeWasTakenFromItEnds discards the change of a step-up: the step-up is over, and says why; another can begin.
func TestAStepUpWhoseChangeWasTakenFromItEnds(t *testing.T) {
	b := newBench(t)
	b.marked()
	id, err := b.BeginStepUp(t.Context(), b.site, changes.StepUpWish{}, "marin")
	require.NoError(t, err)
	require.NoError(t, b.Discard(t.Context(), id, "ada"))
	require.NoError(t, b.ContinueStepUps(t.Context()))
	c, err := b.Store.StepUpOf(t.Context(), id)
	require.NoError(t, err)
	require.NotNil(t, c.OverAt)
	assert.Contains(t, c.StepUp.V.Summary, "Somebody went on with its change by hand: it is discarded.")
	assert.Equal(t, release.Discarded, b.change(id).State, "and stays so")
	_, err = b.BeginStepUp(t.Context(), b.site, changes.StepUpWish{}, "marin")
	require.NoError(t, err)
}
