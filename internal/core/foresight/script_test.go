package foresight_test

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

	"tidemarker/internal/core/foresight"
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
		s := foresight.ReadScript(src)
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
	for src, want := range map[string][]foresight.Use{
		`Fern.config({});`: {{"Fern", foresight.AtOnce}},
		`addEventListener("DOMContentLoaded", () => Fern.go())`: {{"Fern", foresight.Read}, {"addEventListener", foresight.AtOnce}},
		`(function () { Fern.go(); })();`:                       {{"Fern", foresight.AtOnce}},
		`!function () { Fern.go(); }();`:                        {{"Fern", foresight.AtOnce}},
		`(() => Fern.go())();`:                                  {{"Fern", foresight.AtOnce}},
		`function later() { Fern.go(); }`:                       nil,
		`function start() { Fern.go(); } start();`:              {{"Fern", foresight.AtOnce}},
		`const start = () => Fern.go(); setTimeout(start)`:      {{"Fern", foresight.Read}, {"setTimeout", foresight.AtOnce}},
		`[1].forEach(function () { Fern.go(); });`:              {{"Fern", foresight.AtOnce}},
		`if (typeof Fern !== "undefined") Fern.go();`:           nil,
		`window.Fern && window.Fern.go();`:                      {{"window", foresight.AtOnce}},
		`window.Fern.go();`:                                     {{"Fern", foresight.AtOnce}, {"window", foresight.AtOnce}},
		`try { Fern.go(); } catch (e) {}`:                       nil,
		`var Fern = 1; Fern++;`:                                 nil,
		`Fern.ready(function () { Moss.go(); });`:               {{"Fern", foresight.AtOnce}, {"Moss", foresight.Read}},
		`box.onclick = function () { Fern.go(); };`:             {{"box", foresight.AtOnce}},
		`(function ($) { $.go(); })(Fern);`:                     {{"Fern", foresight.AtOnce}},
	} {
		assert.Equal(t, want, foresight.ReadScript([]byte(src)).Uses, src)
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
		assert.Equal(t, want, foresight.ReadScript([]byte(src)).Defines, src)
	}
}

// TestWhatAScriptDoesToThePage reads what it writes, waits for and adds.
func TestWhatAScriptDoesToThePage(t *testing.T) {
	assert.True(t, foresight.ReadScript([]byte(`document.write("<p>now</p>")`)).Writes)
	assert.False(t, foresight.ReadScript([]byte(`function p() { document.write("<p>later</p>") }`)).Writes)
	assert.Equal(t, []string{"DOMContentLoaded"}, foresight.ReadScript([]byte(`document.addEventListener("DOMContentLoaded", go)`)).Waits)
	assert.Empty(t, foresight.ReadScript([]byte(`if (document.readyState !== "loading") go(); else document.addEventListener("DOMContentLoaded", go)`)).Waits)
	s := foresight.ReadScript([]byte(`"use strict"; el.classList.add("is-open", "big"); el.className = "notice-" + kind; x.setAttribute("aria-selected", 1); d.createElement("dialog"); t.innerHTML = "<em class='soft'>x</em>"; leaf = 1;`))
	assert.True(t, s.Strict)
	assert.Equal(t, []string{"leaf"}, s.Implicit)
	assert.ElementsMatch(t, []foresight.Added{{foresight.Class, "is-open", false}, {foresight.Class, "big", false}, {foresight.Class, "notice-", true}, {foresight.Attribute, "aria-selected", false},
		{foresight.Tag, "dialog", false}, {foresight.Tag, "em", false}, {foresight.Class, "soft", false}}, s.Adds)
	assert.NotEmpty(t, foresight.ReadScript([]byte(`var = ;`)).Fault)
	for _, hostile := range []string{strings.Repeat("(", 100_000), strings.Repeat("[", 100_000), strings.Repeat("{", 100_000), strings.Repeat("a?", 100_000), strings.Repeat("function f(){", 50_000), "\x00\xff", "`${`${"} {
		assert.NotEmpty(t, foresight.ReadScript([]byte(hostile)).Fault, "%.20s", hostile)
	}
}
