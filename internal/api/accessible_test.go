package api_test

import (
	"encoding/json"
	"os"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sizes are the windows in which views are checked, in CSS pixels: as most have it, a phone in the other light, and the first
// zoomed to 200 % (WCAG 2.2, 1.4.4 and 1.4.10).
var sizes = []struct {
	name          string
	width, height int
	scale         float64
	other         bool // by night where the view is by day
}{
	{"1280 px", 1280, 800, 1, false},
	{"390 px, the other light", 390, 844, 1, true},
	{"200 %", 640, 400, 2, false},
}

// accessible runs axe-core on the view in each size, once what fades in or changes its colour has come to rest: with no violation,
// and nothing that is wider than the window.
func (d *desk) accessible(view string) {
	d.Helper()
	axe, err := os.ReadFile("../../web/node_modules/axe-core/axe.min.js")
	require.NoError(d, err)
	_, err = proto.RuntimeEvaluate{Expression: string(axe)}.Call(d.page) // the content security policy forbids eval; the browser itself may
	require.NoError(d, err)
	for _, s := range sizes {
		require.NoError(d, d.page.SetViewport(&proto.EmulationSetDeviceMetricsOverride{Width: s.width, Height: s.height, DeviceScaleFactor: s.scale}))
		res, err := d.page.Timeout(patience).Evaluate(rod.Eval(`async (other) => {
			const root = document.documentElement;
			if (other) root.classList.toggle("night");
			await new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)));
			const moving = () => document.getAnimations().filter((a) => a.playState !== "finished" && isFinite(a.effect.getComputedTiming().endTime));
			while (moving().length) await Promise.allSettled(moving().map((a) => a.finished));
			const found = (await axe.run(document, { resultTypes: ["violations"] })).violations
				.map((v) => v.id + ": " + v.nodes.map((n) => n.target.join(" ") + " " + n.failureSummary).join("; "));
			const wider = root.scrollWidth - root.clientWidth;
			if (wider > 0) found.push("wider than the window by " + wider + " px: " + [...document.querySelectorAll("main *")]
				.filter((e) => e.getBoundingClientRect().right > root.clientWidth + 1).slice(0, 5).map((e) => e.outerHTML.slice(0, 80)).join("; "));
			if (other) root.classList.toggle("night");
			return JSON.stringify(found);
		}`, s.other).ByPromise())
		require.NoError(d, err)
		var found []string
		require.NoError(d, json.Unmarshal([]byte(res.Value.Str()), &found))
		assert.Empty(d, found, "axe-core on %s, %s", view, s.name)
	}
	require.NoError(d, d.page.SetViewport(&proto.EmulationSetDeviceMetricsOverride{Width: 1280, Height: 800, DeviceScaleFactor: 1}))
}
