package prediction_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/prediction"
)

// TestScriptsAreReadAsAcornReadsThem holds what 200 scripts of npm packages declare at their top
// and use without declaring it against the scopes that eslint-scope makes of acorn's trees: two
// other programs that read JavaScript by ECMA-262.
func TestScriptsAreReadAsAcornReadsThem(t *testing.T) {
	modules, err := filepath.Abs("../../../web/node_modules")
	require.NoError(t, err)
	raw, err := exec.Command("node", "testdata/scopes.mjs", modules, "200").Output()
	require.NoError(t, err)
	var theirs []struct {
		File           string
		Declares, Free []string
	}
	require.NoError(t, json.Unmarshal(raw, &theirs))
	require.Len(t, theirs, 200)
	same, names, wrong := 0, 0, 0
	for _, x := range theirs {
		src, err := os.ReadFile(filepath.Join(modules, x.File))
		require.NoError(t, err)
		s := prediction.ReadScript(src)
		d, f := differ(s.Declares, x.Declares), differ(s.Free, x.Free)
		names += len(x.Declares) + len(x.Free)
		wrong += len(d) + len(f)
		if s.Fault == "" && len(d)+len(f) == 0 {
			same++
		} else {
			t.Logf("%s: %s declares %v free %v", x.File, s.Fault, d, f)
		}
	}
	t.Logf("%d of 200 scripts are read the same; of %d names %d are not", same, names, wrong)
	assert.GreaterOrEqual(t, same, 190)
	assert.LessOrEqual(t, wrong*100, names)
}

// differ are the names that only one of two lists has.
func differ(a, b []string) []string {
	var out []string
	for _, x := range a {
		if !slices.Contains(b, x) {
			out = append(out, "+"+x)
		}
	}
	for _, x := range b {
		if !slices.Contains(a, x) {
			out = append(out, "-"+x)
		}
	}
	return out
}

// TestWhenAScriptNeedsAName: what a script needs while it runs is told from what it needs when
// the page has been read, and from what waits for somebody.
func TestWhenAScriptNeedsAName(t *testing.T) {
	for src, want := range map[string][]prediction.Use{
		`Fern.config({});`: {{"Fern", prediction.AtOnce}},
		`addEventListener("DOMContentLoaded", () => Fern.go())`: {{"Fern", prediction.Read}, {"addEventListener", prediction.AtOnce}},
		`(function () { Fern.go(); })();`:                       {{"Fern", prediction.AtOnce}},
		`!function () { Fern.go(); }();`:                        {{"Fern", prediction.AtOnce}},
		`(() => Fern.go())();`:                                  {{"Fern", prediction.AtOnce}},
		`function later() { Fern.go(); }`:                       nil,
		`function start() { Fern.go(); } start();`:              {{"Fern", prediction.AtOnce}},
		`const start = () => Fern.go(); setTimeout(start)`:      {{"Fern", prediction.Read}, {"setTimeout", prediction.AtOnce}},
		`[1].forEach(function () { Fern.go(); });`:              {{"Fern", prediction.AtOnce}},
		`if (typeof Fern !== "undefined") Fern.go();`:           nil,
		`window.Fern && window.Fern.go();`:                      {{"window", prediction.AtOnce}},
		`window.Fern.go();`:                                     {{"Fern", prediction.AtOnce}, {"window", prediction.AtOnce}},
		`try { Fern.go(); } catch (e) {}`:                       nil,
		`var Fern = 1; Fern++;`:                                 nil,
		`Fern.ready(function () { Moss.go(); });`:               {{"Fern", prediction.AtOnce}, {"Moss", prediction.Read}},
		`box.onclick = function () { Fern.go(); };`:             {{"box", prediction.AtOnce}},
		`(function ($) { $.go(); })(Fern);`:                     {{"Fern", prediction.AtOnce}},
	} {
		assert.Equal(t, want, prediction.ReadScript([]byte(src)).Uses, src)
	}
}

// TestWhatAScriptDefines: also what it sets on the window, under whichever name that goes.
func TestWhatAScriptDefines(t *testing.T) {
	for src, want := range map[string][]string{
		`var Fern = {}; function grow() {}`:               {"Fern", "grow"},
		`window.Fern = {};`:                               {"Fern"},
		`this.Fern = {};`:                                 {"Fern"},
		`self["Fern"] = {};`:                              {"Fern"},
		`Fern = {};`:                                      {"Fern"},
		`(function (w) { w.Fern = {}; })(window);`:        {"Fern"},
		`(function () { this.Fern = {}; }).call(window);`: {"Fern"},
		`(function (root, make) { root.Fern = make(); })(typeof self !== "undefined" ? self : this, function () { return {}; });`: {"Fern"},
		`class Fern {} let moss;`:          {"Fern", "moss"},
		`(function () { var hidden; })();`: nil,
	} {
		assert.Equal(t, want, prediction.ReadScript([]byte(src)).Defines, src)
	}
}

// TestWhatAScriptDoesToThePage reads what it writes, waits for and adds.
func TestWhatAScriptDoesToThePage(t *testing.T) {
	assert.True(t, prediction.ReadScript([]byte(`document.write("<p>now</p>")`)).Writes)
	assert.False(t, prediction.ReadScript([]byte(`function p() { document.write("<p>later</p>") }`)).Writes)
	assert.Equal(t, []string{"DOMContentLoaded"}, prediction.ReadScript([]byte(`document.addEventListener("DOMContentLoaded", go)`)).Waits)
	assert.Empty(t, prediction.ReadScript([]byte(`if (document.readyState !== "loading") go(); else document.addEventListener("DOMContentLoaded", go)`)).Waits)
	s := prediction.ReadScript([]byte(`"use strict"; el.classList.add("is-open", "big"); el.className = "notice-" + kind; x.setAttribute("aria-selected", 1); d.createElement("dialog"); t.innerHTML = "<em class='soft'>x</em>"; leaf = 1;`))
	assert.True(t, s.Strict)
	assert.Equal(t, []string{"leaf"}, s.Implicit)
	assert.ElementsMatch(t, []prediction.Added{{prediction.Class, "is-open", false}, {prediction.Class, "big", false}, {prediction.Class, "notice-", true}, {prediction.Attribute, "aria-selected", false},
		{prediction.Tag, "dialog", false}, {prediction.Tag, "em", false}, {prediction.Class, "soft", false}}, s.Adds)
	assert.NotEmpty(t, prediction.ReadScript([]byte(`var = ;`)).Fault)
	for _, hostile := range []string{strings.Repeat("(", 100_000), strings.Repeat("[", 100_000), strings.Repeat("{", 100_000), strings.Repeat("a?", 100_000), strings.Repeat("function f(){", 50_000), "\x00\xff", "`${`${"} {
		assert.NotEmpty(t, prediction.ReadScript([]byte(hostile)).Fault, "%.20s", hostile)
	}
}
