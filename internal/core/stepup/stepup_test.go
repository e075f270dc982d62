package stepup_test

import (
	"maps"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tidemarker/internal/core/culprit"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/stepup"
)

// A site with a switch for each role that the bundles switch on, and a list for deferred scripts.
func site() stepup.Site {
	var c settings.Catalogue
	for _, b := range settings.Bundles {
		for _, w := range b.Wishes {
			if len(c.WithRole(w.Role)) == 0 && w.Value != nil && w.Role != "page-cache-logged-in" && w.Role != "compress" {
				c.Settings = append(c.Settings, settings.Definition{Key: string(w.Role), Title: string(w.Role), Type: settings.Switch, Default: false, Role: w.Role, Risk: 1})
			}
		}
	}
	c.Settings = append(c.Settings, settings.Definition{Key: "not", Title: "Not deferred", Type: settings.Patterns, Default: []any{}, Role: "js-exclude-defer"})
	base := c.Defaults()
	base["page-cache"], base["add-dimensions"] = true, true
	return stepup.Site{Catalogue: c, Base: base}
}

// goUp steps up on a site on which some settings break something, one of them only without an
// exclusion, and gives how it ended and what was tried.
func goUp(t require.TestingT, s stepup.Site, bad map[string]bool, mendable string, searchable bool) (stepup.StepUp, int) {
	c, tries := stepup.New(), 0
	breaks := func(v settings.Values) []string {
		var out []string
		for key := range bad {
			if v[key] == true && (key != mendable || !slices.Contains(v.Strings("not"), "/fern.js")) {
				out = append(out, key)
			}
		}
		return out
	}
	for range 200 {
		var act stepup.Act
		c, act = c.Next(s)
		broken := breaks(s.Base.With(c.Edits))
		r := stepup.Result{Run: int64(tries + 1), Verdict: evidence.VerdictClear, Looks: 10, Searchable: searchable}
		for key := range c.Edits {
			r.Parts = append(r.Parts, culprit.Part{Key: key, Value: true})
			likely := 0.0
			if slices.Contains(broken, key) {
				likely = 1
			}
			r.Likely = append(r.Likely, likely)
		}
		if len(broken) > 0 {
			r.Verdict = evidence.VerdictBroken
		}
		switch act {
		case stepup.Try:
			tries++
			c = c.Tried(s, r)
		case stepup.Search:
			f := stepup.Found{Run: int64(tries), Looks: 5}
			for _, key := range broken {
				x := stepup.Culprit{Parts: []culprit.Part{{Key: key, Value: true}}}
				if key == mendable {
					x.Excluded = []stepup.Exclusion{{Key: "not", Pattern: "/fern.js", For: key}}
				}
				f.Culprits = append(f.Culprits, x)
			}
			c = c.Searched(s, f, r)
		case stepup.End:
			require.Empty(t, breaks(s.Base.With(c.Proven)), "what it ends with passes")
			return c, tries
		}
	}
	require.Fail(t, "the step-up does not end")
	return c, tries
}

// TestAStepUpKeepsAllThatPasses: whatever breaks a site, a step-up ends with all that does not, and with
// what passes when something is excluded.
func TestAStepUpKeepsAllThatPasses(t *testing.T) {
	s := site()
	nothing, tries := goUp(t, s, nil, "", true)
	assert.Equal(t, 3, tries, "one try for each bundle that adds something")
	all := slices.Sorted(maps.Keys(nothing.Proven))
	require.Greater(t, len(all), 10)
	assert.Contains(t, nothing.Steps[0].Text, "adds nothing")
	rapid.Check(t, func(t *rapid.T) {
		bad := map[string]bool{}
		for _, key := range rapid.SliceOfNDistinct(rapid.SampledFrom(all), 0, 5, rapid.ID).Draw(t, "bad") {
			bad[key] = true
		}
		mendable := rapid.SampledFrom(all).Draw(t, "mendable")
		searchable := rapid.Bool().Draw(t, "searchable")
		c, _ := goUp(t, s, bad, mendable, searchable)
		for _, key := range all {
			_, kept := c.Proven[key]
			require.Equal(t, !bad[key] || key == mendable && searchable, kept, "%s with %v bad", key, bad)
		}
	})
}

// TestAStepUpThatCannotBeChecked ends with what was proven before; so does one that is stopped.
func TestAStepUpThatCannotBeChecked(t *testing.T) {
	s := site()
	c, act := stepup.New().Next(s)
	require.Equal(t, stepup.Try, act)
	c = c.Tried(s, stepup.Result{Run: 1, Verdict: evidence.VerdictClear})
	proven := c.Proven
	c, act = c.Next(s)
	require.Equal(t, stepup.Try, act)
	c = c.Tried(s, stepup.Result{Run: 2, Verdict: evidence.VerdictNotChecked, Summary: "The site did not answer."})
	c, act = c.Next(s)
	require.Equal(t, stepup.Try, act, "it is tried once more")
	c = c.Tried(s, stepup.Result{Run: 3, Verdict: evidence.VerdictNotChecked, Summary: "The site did not answer."})
	c, act = c.Next(s)
	assert.Equal(t, stepup.End, act)
	assert.Equal(t, proven, c.Edits)
	assert.Contains(t, c.Summary, "could not be checked, twice")
	assert.Equal(t, c, c.Stop("somebody stopped it"), "over is over")
}

// TestWhatNeedsWhatIsLeftOutGoesWithIt: a setting that works only with another is not tried alone.
func TestWhatNeedsWhatIsLeftOutGoesWithIt(t *testing.T) {
	s := site()
	for i, d := range s.Catalogue.Settings {
		if d.Key == "font-preload" {
			s.Catalogue.Settings[i].Requires = []settings.Condition{{Key: "font-self-host", Equals: true}}
		}
	}
	c, _ := goUp(t, s, map[string]bool{"font-self-host": true}, "", true)
	assert.NotContains(t, c.Proven, "font-self-host")
	assert.NotContains(t, c.Proven, "font-preload")
	assert.Contains(t, c.Proven, "prefetch-links")
}

// TestWindows: over midnight, and on the days when clocks change (Directive 2000/84/EC: the last
// Sundays of March and October, at one o'clock UTC).
func TestWindows(t *testing.T) {
	at := func(s string) time.Time {
		v, err := time.Parse("2006-01-02 15:04", s)
		require.NoError(t, err)
		return v
	}
	night := stepup.Window{From: "22:00", To: "05:00", Zone: "Europe/Vienna"}
	require.NoError(t, night.Check())
	vienna, err := time.LoadLocation(night.Zone)
	require.NoError(t, err)
	for now, want := range map[string]string{
		"2026-11-27 20:30": "2026-11-27 21:00", // winter: one hour ahead of UTC
		"2026-11-27 21:00": "2026-11-27 21:00",
		"2026-11-28 03:59": "2026-11-28 03:59",
		"2026-11-28 04:00": "2026-11-28 21:00",
		"2026-03-29 02:59": "2026-03-29 02:59", // summer time began at 01:00 UTC: five o'clock is 03:00 UTC
		"2026-03-29 03:00": "2026-03-29 20:00",
		"2026-10-25 03:59": "2026-10-25 03:59",
	} {
		assert.Equal(t, at(want), night.Opens(at(now).In(vienna)).UTC(), now)
	}
	assert.Equal(t, at("2026-11-27 12:00"), stepup.Window{}.Opens(at("2026-11-27 12:00")), "always open")
	for _, w := range []stepup.Window{{From: "22", To: "05:00"}, {From: "22:00", To: "x"}, {From: "22:00", To: "22:00"}} {
		assert.Error(t, w.Check(), "%+v", w)
	}
}
