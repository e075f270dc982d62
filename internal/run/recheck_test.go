package run_test

import (
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/run"
	"tidemarker/internal/standin"
	"tidemarker/internal/store"
)

// account is a page with a form that can be sent for a time, and a journey that sends it.
func account(lives int) site.Site {
	doc := front()
	doc.Pages = append(doc.Pages, site.Page{Path: "/account", Class: "form", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}, FormLives: lives})
	doc.Journeys = []journey.Journey{{Name: "signing in", Persona: site.Visitor, Devices: []string{site.Desktop}, Where: []string{"staging"}, Steps: []journey.Step{
		{Go: "/account"}, {Fill: &journey.Input{In: journey.Target{Label: "Name"}, Value: "wren"}}, {Fill: &journey.Input{In: journey.Target{Label: "Password"}, Value: "harvest moon"}},
		{Click: target("button", "Sign in")}, {Expect: &journey.Expect{Text: &journey.Containing{In: journey.Target{CSS: "main"}, Contains: "Wren Oakham"}}}}}}
	return doc
}

// push puts the clock of staging forward as somebody with its token does.
func (b *bench) push(d time.Duration) {
	b.Helper()
	req, err := http.NewRequestWithContext(b.Context(), http.MethodPost, b.staging.URL+standin.ClockPath, strings.NewReader(url.Values{"ahead": {d.String()}}.Encode()))
	require.NoError(b, err)
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	req.Header.Set("Authorization", "Bearer secret")
	res, err := http.DefaultClient.Do(req)
	require.NoError(b, err)
	require.NoError(b, res.Body.Close())
	require.Equal(b, http.StatusNoContent, res.StatusCode)
}

// The change lets a page with a form be cached; the form grows old sooner. A run cannot wait for
// an hour: it plans a look, which finds that the form can no longer be sent.
func TestControlsCannotWaitForAnHourAndARecheckDoes(t *testing.T) {
	b := newBench(t, account(3600))
	b.mark(0)
	c, fp := b.begin(settings.Values{"pages.never": []string{"/cart", "/checkout", "/api/"}, "pages.lifetime": 86400})
	b.move(c, release.Try)
	r := b.carryOut(store.Run{EnvironmentID: b.envs[0].ID, ChangeID: &c.ID, Kind: release.TryRun, Target: fp})
	rows, err := b.store.Findings(t.Context(), r.ID)
	require.NoError(t, err)
	for _, f := range rows { // that it follows from the settings is known, and taken for no proof here
		_, err := b.runner.AcceptFinding(t.Context(), f.ID, run.Acceptance{Reach: run.Place, Change: true, Why: "seen", Who: "ada"})
		require.NoError(t, err, f.Document.V.Title)
	}
	planned, err := b.store.Rechecks(t.Context(), r.ID)
	require.NoError(t, err)
	if r.Verdict == evidence.VerdictBroken {
		require.Empty(t, planned, "what is broken already is not waited for")
		r = b.carryOut(store.Run{EnvironmentID: b.envs[0].ID, ChangeID: &c.ID, Kind: release.TryRun, Target: fp})
		planned, err = b.store.Rechecks(t.Context(), r.ID)
		require.NoError(t, err)
	}
	require.NotEmpty(t, planned, "%s %s", r.Verdict, r.Summary)
	l := planned[0]
	assert.Equal(t, []string{"/account"}, l.Moment.V.Pages)
	assert.WithinDuration(t, time.Now().Add(63*time.Minute), l.DueAt, 2*time.Minute)

	b.push(64 * time.Minute)
	require.NoError(t, b.runner.BeginRecheck(t.Context(), l.ID))
	require.NoError(t, b.runner.BeginRecheck(t.Context(), l.ID), "twice is once")
	planned, err = b.store.Rechecks(t.Context(), r.ID)
	require.NoError(t, err)
	require.Equal(t, store.RecheckBegun, planned[0].State)
	require.NoError(t, b.runner.Run(t.Context(), *planned[0].RecheckRunID))
	assert.Equal(t, release.RecheckRun, b.run(*planned[0].RecheckRunID).Kind)
	assert.Contains(t, titles(b.findings(*planned[0].RecheckRunID)), "/account: signing in: a form from a cached page is refused")

	// The other look is about settings that are gone by then.
	require.Len(t, planned, 2)
	now, tag := b.staging.Layer.Settings()
	_, ok := b.staging.Layer.Replace(now.With(settings.Values{"pages.lifetime": 600}), tag)
	require.True(t, ok)
	_, _, err = b.runner.Acts.Read(t.Context(), b.envs[0].ID)
	require.NoError(t, err)
	require.NoError(t, b.runner.BeginRecheck(t.Context(), planned[1].ID))
	planned, err = b.store.Rechecks(t.Context(), r.ID)
	require.NoError(t, err)
	assert.Equal(t, store.RecheckWithdrawn, planned[1].State)
	assert.Equal(t, "staging has other settings by now.", planned[1].Why)
}

// What grows old within a minute is waited for, and looked at then.
func TestControlsAwaitWhatGrowsOldSoon(t *testing.T) {
	b := newBench(t, front())
	b.mark(0)
	r, f := b.try(settings.Values{"pages.lifetime": 20}) // longer than a slow machine takes to ask twice
	assert.Equal(t, evidence.VerdictClear, r.Verdict, titles(f))
	require.Contains(t, r.Progress.V.Spent, "waiting")
	assert.Less(t, r.Progress.V.Spent["waiting"], time.Minute.Milliseconds())
	p := b.probes(r.ID, evidence.AsCached)
	require.NotEmpty(t, p, "it was asked for after it had lived its time")
	for _, probe := range p {
		assert.False(t, probe.First.Served.FromCache() && probe.Second.Served.FromCache(), "what was served then was made anew: %s, %s", probe.First.Served, probe.Second.Served)
	}
	r, _ = b.try(settings.Values{"markup.compact": true})
	assert.NotContains(t, r.Progress.V.Spent, "waiting", "nothing grows old sooner or later than at the mark")
}

func TestALookThatIsDueWaitsForTheRunThatIsOpen(t *testing.T) {
	b := newBench(t, front())
	m := b.mark(0)
	id, err := b.store.PlanRecheck(t.Context(), store.Recheck{SiteID: b.site.ID, EnvironmentID: b.envs[0].ID, RunID: m.ID, Fingerprint: m.Before, DueAt: time.Now()})
	require.NoError(t, err)
	open := b.start(0)
	assert.ErrorContains(t, b.runner.BeginRecheck(t.Context(), id), "is under way on staging")
	require.NoError(t, b.runner.Stop(t.Context(), open.ID))
	require.NoError(t, b.runner.BeginRecheck(t.Context(), id))
	l, err := b.store.Rechecks(t.Context(), m.ID)
	require.NoError(t, err)
	assert.Equal(t, store.RecheckBegun, l[0].State)
}
