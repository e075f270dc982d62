package api_test

import (
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/release"
	"tidemarker/internal/core/site"
	"tidemarker/internal/standin"
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

// pictureKeys presses the keys of the pictures of a finding; each does what the list of shortcuts says.
func (d *desk) pictureKeys() {
	d.Helper()
	d.see(".pair .p-togglebutton", "^Difference$")
	for _, k := range []struct {
		key         input.Key
		says, shows string // a condition in the page
	}{
		{'2', "laid over", `document.querySelector(".pair .p-togglebutton-checked").textContent.trim() === "Laid over"`},
		{'3', "difference", `document.querySelector(".pair .p-togglebutton-checked").textContent.trim() === "Difference"`},
		{'1', "side by side", `document.querySelector(".pair .p-togglebutton-checked").textContent.trim() === "Side by side"`},
		{'+', "larger", `(window.scaleBefore = window.scaleNow, window.scaleNow = parseInt(document.querySelector(".pair .tools span.small").textContent)) > 0 && window.scaleNow !== window.scaleBefore`},
		{'-', "smaller", `parseInt(document.querySelector(".pair .tools span.small").textContent) < window.scaleNow`},
		{'0', "to fit", `parseInt(document.querySelector(".pair .tools span.small").textContent) > 0`},
		{'o', "in the whole window", `document.querySelector(".pair.wide") !== null`},
		{input.Escape, "and back", `document.querySelector(".pair.wide") === null`},
	} {
		d.keys(k.key)
		require.Eventually(d, func() bool {
			res, err := d.page.Eval("() => !!(" + k.shows + ")")
			return err == nil && res.Value.Bool()
		}, patience, pollEvery, "the key %c does not show the pictures %s", k.key, k.says)
	}
	first := `() => document.querySelector(".pair figcaption, .pair .caption, .pair h4")?.textContent.trim() ?? document.querySelector(".pair").innerText`
	before, err := d.page.Eval(first)
	require.NoError(d, err)
	d.keys('x')
	require.Eventually(d, func() bool {
		now, err := d.page.Eval(first)
		return err == nil && now.Value.Str() != before.Value.Str()
	}, patience, pollEvery, "x swaps the pictures")
	d.keys('x')
}

func TestAChangeGoesFromDraftToPromotionByKeyboardAlone(t *testing.T) {
	d := deskOf(t, standin.Fernhollow(), shop(site.Desktop, site.Phone))
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
	d.see("button", "^Roll back$")
	d.keys(input.KeyB)
	d.see("[role=dialog]", "what it had before this change")
	d.keys(input.Escape)
	d.gone("[role=dialog]")

	// In the map of a run arrow keys go from place to place; one of them is reached with Tab.
	d.open("/runs/1")
	d.see("h2", "By place")
	d.tabTo("/contact, visitor, phone: clear")
	d.keys(input.ArrowRight)
	require.Eventually(t, func() bool {
		res, err := d.page.Eval(`() => document.activeElement.getAttribute("aria-label")`)
		return err == nil && res.Value.Str() == "/contact, visitor, desktop: clear"
	}, patience, pollEvery)
	d.open("/words#mark")
	d.see("dt.here", "^mark$")
	d.accessible("the words")
}
