package api_test

import (
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/release"
)

// keys presses keys, one after the other.
func (d *desk) keys(all ...input.Key) {
	d.Helper()
	require.NoError(d, d.page.Keyboard.Type(all...))
}

// tabTo goes with the Tab key to what has a text or a name, and fails when it is nowhere on the way.
func (d *desk) tabTo(name string) {
	d.Helper()
	require.Eventually(d, func() bool {
		for range 150 {
			d.keys(input.Tab)
			res, err := d.page.Eval(`(name) => {
				const at = document.activeElement;
				const says = at.getAttribute("aria-label") || at.labels?.[0]?.innerText || at.innerText || "";
				return says.trim() === name && !at.disabled;
			}`, name)
			if err == nil && res.Value.Bool() {
				return true
			}
		}
		return false
	}, patience, pollEvery, "no Tab leads to %s", name)
}

func TestAChangeGoesFromDraftToPromotionByKeyboardAlone(t *testing.T) {
	d := newDesk(t)
	d.signIn("Ada", "/sites/1")
	d.see("h1", "^Fernhollow$")
	d.tabTo("Take the first mark of staging and production")
	d.keys(input.Enter)
	d.see("button", "Take another mark")
	require.Eventually(t, func() bool {
		marks := 0
		for _, env := range []int64{1, 2} {
			list, err := d.store.Marks(t.Context(), env, 9)
			require.NoError(t, err)
			marks += len(list)
		}
		return marks == 2
	}, patience, pollEvery)
	d.tabTo("New change")
	d.keys(input.Enter)
	d.see("h1", "^New change$")
	d.see("p", "Change a setting first")
	d.keys(input.Slash)
	require.NoError(t, d.page.InsertText("compact"))
	d.tabTo("Compact markup")
	d.keys(input.Space)
	d.see("h1", "^Compact markup: on$") // it says what it does while nobody gave it another title
	d.see("[role=status]", "^Saved$")
	d.keys(input.KeyT)
	d.see("h1", "^Clear: 3 looks")
	d.see("button:not([disabled])", "^Promote it$")
	d.keys(input.KeyP)
	d.see("[role=dialog] li", "Visitors see them from that moment on")
	res, err := d.page.Eval(`() => document.activeElement.innerText`)
	require.NoError(t, err)
	assert.Equal(t, "Cancel", res.Value.Str(), "what does it is not what has the focus")
	d.tabTo("Promote")
	d.keys(input.Enter)
	d.see("h1", "^Clear: 3 looks")
	d.reaches(1, release.Marked)
	now, _ := d.production.Layer.Settings()
	assert.Equal(t, true, now["markup.compact"])

	// From anywhere to anything.
	require.NoError(t, d.page.KeyActions().Press(input.ControlLeft).Type(input.KeyK).Do())
	d.see("[role=dialog] [role=status]", "of all sites")
	require.NoError(t, d.page.InsertText("ompact"))
	d.see("[role=option][aria-selected=true]", "Compact markup: on")
	d.accessible("the search")
	d.keys(input.ArrowDown)
	d.see("[role=option][aria-selected=true]", "markup.compact")
	d.keys(input.ArrowUp, input.Enter)
	d.gone("[role=dialog]")
	d.see("h1", "^Compact markup: on$")
	at, err := d.page.Info()
	require.NoError(t, err)
	assert.Contains(t, at.URL, "/changes/1")

	// In the map of a run arrow keys go from place to place; one of them is reached with Tab.
	d.open("/runs/1")
	d.see("h2", "By place")
	d.tabTo("/contact, visitor, phone: clear")
	d.keys(input.ArrowRight)
	require.Eventually(t, func() bool {
		res, err := d.page.Eval(`() => document.activeElement.getAttribute("aria-label")`)
		return err == nil && res.Value.Str() == "/contact, visitor, desktop: clear"
	}, 10*time.Second, pollEvery)
	d.open("/words#mark")
	d.see("dt.here", "^mark$")
	d.accessible("the words")
}
