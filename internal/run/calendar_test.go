package run_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/calendar"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
)

// A promotion waits for whatever is under way, and a freeze can begin meanwhile.
func TestAPromotionThatIsTakenUpInAFreezeDoesNotBegin(t *testing.T) {
	b := newBench(t, tiny())
	vera := changes.By{Who: "vera", Decides: true}
	b.mark(0)
	b.mark(1)
	c := b.promotable(settings.Values{"markup.compact": true})
	before, _ := b.production.Layer.Settings()
	require.NoError(t, b.changes.Promote(t.Context(), c.ID, vera, ""))
	now := time.Now().UTC()
	freeze, err := b.changes.AddEntry(t.Context(), nil, calendar.Entry{Kind: calendar.Freeze, Title: "Sale week", Begins: now.Add(-time.Hour).Format(calendar.Clock), Ends: now.Add(time.Hour).Format(calendar.Clock), Zone: "UTC"}, "vera")
	require.NoError(t, err)
	b.workOff()
	runs, err := b.store.ChangeRuns(t.Context(), c.ID)
	require.NoError(t, err)
	assert.Equal(t, release.Failed, runs[0].State)
	assert.Contains(t, runs[0].Problem, "it came too late. Frozen until")
	after, _ := b.production.Layer.Settings()
	assert.Empty(t, settings.Diff(before, after))
	assert.Equal(t, release.Checked, b.change(c.ID).State, "production does not have it; it can be promoted later")

	require.NoError(t, b.changes.Promote(t.Context(), c.ID, vera, "The cart is broken."), "an approver has said why it goes out all the same")
	b.workOff()
	assert.Equal(t, release.Marked, b.change(c.ID).State)
	require.NoError(t, b.changes.RemoveEntry(t.Context(), freeze, 1, "vera"))
}
