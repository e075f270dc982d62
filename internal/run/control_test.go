package run_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/run"
	"tidemarker/internal/store"
)

// placeOrder places an order on a Fernhollow, as somebody else would meanwhile: the home page
// counts it.
func placeOrder(t *testing.T, address string) {
	t.Helper()
	require.NoError(t, orderOnce(t.Context(), address))
}

func orderOnce(ctx context.Context, address string) error {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return err
	}
	client := http.Client{Jar: jar, Timeout: 20 * time.Second}
	send := func(method string, form url.Values) ([]byte, error) {
		req, err := http.NewRequestWithContext(ctx, method, address+"/checkout", strings.NewReader(form.Encode()))
		if err != nil {
			return nil, err
		}
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		res, err := client.Do(req)
		if err != nil {
			return nil, err
		}
		defer res.Body.Close()
		body, err := io.ReadAll(res.Body)
		if err == nil && res.StatusCode != http.StatusOK {
			err = fmt.Errorf("%s /checkout answers %d", method, res.StatusCode)
		}
		return body, err
	}
	body, err := send(http.MethodGet, nil)
	if err != nil {
		return err
	}
	token := regexp.MustCompile(`name="token" value="([^"]+)"`).FindSubmatch(body)
	if token == nil {
		return errors.New("the checkout has no form")
	}
	_, err = send(http.MethodPost, url.Values{"token": {string(token[1])}})
	return err
}

// front is the home page, seen by strangers on a desktop.
func front() site.Site {
	return site.Site{Name: "Fernhollow", Pages: []site.Page{{Path: "/", Class: "home", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}}}}
}

func kindsOf(t *testing.T, st *store.Store, run int64) []release.ActKind {
	t.Helper()
	acts, err := st.RunActs(t.Context(), run)
	require.NoError(t, err)
	var out []release.ActKind
	for _, a := range acts {
		require.Equal(t, release.ActApplied, a.State)
		out = append(out, a.Kind)
	}
	return out
}

func TestControlsProveAFindingThatGoesWithTheEarlierSettings(t *testing.T) {
	b := newBench(t, front())
	b.mark(0)
	r, found := b.try(settings.Values{"scripts.defer": true})
	require.Equal(t, evidence.VerdictBroken, r.Verdict, r.Summary)
	assert.Contains(t, r.Summary, "Gone with the earlier settings, 3 of 3.")
	for _, f := range found {
		if f.Severity == evidence.Broken {
			require.NotNil(t, f.Control, f.Title)
			assert.Equal(t, evidence.Gone, f.Control.Outcome, f.Title)
			assert.Equal(t, 2, f.Control.With)
			look, err := b.store.Look(t.Context(), r.ID, f.Control.Pass)
			require.NoError(t, err)
			assert.NotEmpty(t, look.Pages, "what was seen with the earlier settings is kept")
		}
	}
	assert.Equal(t, []release.ActKind{release.ActTry, release.ActControl}, kindsOf(t, b.store, r.ID), "they stay in force, since the run puts them back anyway")
	assert.True(t, r.Restored)
}

func TestControlsTellWhatTheSiteItselfMovedOnIn(t *testing.T) {
	b := newBench(t, front())
	b.mark(0)
	placeOrder(t, b.staging.URL)
	before := b.baseline()
	r, found := b.try(settings.Values{"markup.compact": true})
	require.Equal(t, evidence.VerdictClear, r.Verdict, r.Summary)
	assert.Contains(t, r.Summary, "The site itself has moved on, on /.")
	moved := 0
	for _, f := range found {
		if f.SiteMovedOn() {
			moved++
			assert.Equal(t, evidence.Note, f.Severity)
			assert.Equal(t, 3, f.Control.Without)
		}
	}
	assert.Positive(t, moved)
	events, err := b.store.History(t.Context(), b.site.ID, 0, 20)
	require.NoError(t, err)
	said := false
	for _, e := range events {
		said = said || e.Kind == "mark" && e.RunID != nil && *e.RunID == r.ID
	}
	assert.True(t, said, "the history says that the mark has newer evidence, and why")
	assert.NotEqual(t, before.Look.Pages[0].Lines, b.baseline().Look.Pages[0].Lines)

	// The next change is compared with what the site is now, and has nothing to explain.
	r, found = b.try(settings.Values{"markup.compact": true})
	assert.Equal(t, evidence.VerdictClear, r.Verdict, r.Summary)
	assert.Empty(t, found)
	assert.Equal(t, []release.ActKind{release.ActTry, release.ActRestore}, kindsOf(t, b.store, r.ID), "with nothing to find there is no control")
}

// baseline is what the next run on staging compares with.
func (b *bench) baseline() evidence.Baseline {
	b.Helper()
	m, err := b.store.LatestMark(b.Context(), b.envs[0].ID)
	require.NoError(b, err)
	base, err := b.store.Baseline(b.Context(), m)
	require.NoError(b, err)
	return base
}

func TestAChangeThatStaysIsInForceAgainAfterTheControl(t *testing.T) {
	b := newBench(t, front())
	b.mark(0)
	c, fp := b.begin(settings.Values{"scripts.defer": true})
	b.move(c, release.Try)
	r := b.carryOut(store.Run{EnvironmentID: b.envs[0].ID, ChangeID: &c.ID, Kind: release.TryRun, Target: fp})
	require.Equal(t, evidence.VerdictBroken, r.Verdict, r.Summary)
	assert.Equal(t, []release.ActKind{release.ActTry, release.ActControl, release.ActTry}, kindsOf(t, b.store, r.ID))
	now, _ := b.staging.Layer.Settings()
	assert.Equal(t, fp, fingerprint(t, now))
	placed, err := b.store.Placed(t.Context(), b.envs[0].ID)
	require.NoError(t, err)
	way, there := release.Back(release.Record(placed), c.ID)
	require.True(t, there, "the record says that staging has the change")
	assert.Equal(t, c.Base, way.To)

	// Checked once more as it stands, the control goes back to before the change.
	r = b.carryOut(store.Run{EnvironmentID: b.envs[0].ID, ChangeID: &c.ID, Kind: release.TryRun, Target: fp})
	assert.Contains(t, r.Summary, "Gone with the earlier settings")
	now, _ = b.staging.Layer.Settings()
	assert.Equal(t, fp, fingerprint(t, now))
}

func TestARunThatIsKilledDuringAControlIsFinishedWithTheChangeInForce(t *testing.T) {
	b := newBench(t, front())
	b.mark(0)
	c, fp := b.begin(settings.Values{"scripts.defer": true})
	b.move(c, release.Try)
	wanted, err := b.runner.Start(t.Context(), store.Run{SiteID: b.site.ID, EnvironmentID: b.envs[0].ID, ChangeID: &c.ID, Kind: release.TryRun, Target: fp, RequestedBy: "tester"})
	require.NoError(t, err)
	b.killAt(wanted.ID, "control", 300*time.Millisecond)
	r := b.takeUp(wanted.ID)
	assert.Equal(t, release.Done, r.State, r.Problem)
	assert.Equal(t, evidence.VerdictBroken, r.Verdict, r.Summary)
	now, _ := b.staging.Layer.Settings()
	assert.Equal(t, fp, fingerprint(t, now))
}

// The process died on its way back from a control: it had meant to put the change in force again, and the site was never
// told. The run goes on, and nobody is said to have changed the site, unless somebody did: then nothing is overwritten.
func TestARunWhoseProcessEndedBeforeItToldTheSiteGoesOn(t *testing.T) {
	for name, outside := range map[string]bool{"nobody else": false, "somebody else": true} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, tiny())
			b.mark(0)
			c := b.promotable(settings.Values{"markup.compact": true})
			with, tag := b.staging.Layer.Settings()
			fp := fingerprint(t, with)
			id, err := b.store.NewRun(t.Context(), store.Run{SiteID: b.site.ID, EnvironmentID: b.envs[0].ID, ChangeID: &c.ID, Kind: release.TryRun, Target: fp, RequestedBy: "tester"})
			require.NoError(t, err)
			_, err = b.store.BeginRun(t.Context(), id)
			require.NoError(t, err)
			require.NoError(t, b.store.SaveBefore(t.Context(), id, fp, nil))
			intend := func(kind release.ActKind, to, from string) int64 {
				act, err := b.store.Intend(t.Context(), store.Act{EnvironmentID: b.envs[0].ID, RunID: &id, ChangeID: &c.ID, Kind: kind, Fingerprint: to, Predecessor: from, Who: "tester"})
				require.NoError(t, err)
				return act
			}
			has, err := b.store.Revision(t.Context(), b.site.ID, c.Base)
			require.NoError(t, err)
			if outside {
				has = has.With(settings.Values{"pages.lifetime": 90})
			}
			control := intend(release.ActControl, c.Base, fp)
			_, ok := b.staging.Layer.Replace(has, tag)
			require.True(t, ok)
			require.NoError(t, b.store.EndAct(t.Context(), control, release.ActApplied, "Read back.", c.Base))
			intend(release.ActTry, fp, c.Base)

			r := b.takeUp(id)
			now, _ := b.staging.Layer.Settings()
			drifts, err := b.store.OpenDrifts(t.Context(), b.site.ID)
			require.NoError(t, err)
			if outside {
				assert.Equal(t, release.Failed, r.State)
				assert.Contains(t, r.Problem, "staging was changed outside Tide Marker (pages.lifetime). Nothing was overwritten")
				assert.Equal(t, fingerprint(t, has), fingerprint(t, now))
				assert.Len(t, drifts, 1)
				return
			}
			assert.Equal(t, release.Done, r.State, r.Problem)
			assert.Equal(t, fp, fingerprint(t, now), "staging has the change")
			assert.Empty(t, drifts)
		})
	}
}

// On production nobody goes back and forth: what is seen just before is the control.
func TestControlsOfAPromotionAreLooksJustBeforeIt(t *testing.T) {
	b := newBench(t, front())
	b.mark(0)
	b.mark(1)
	placeOrder(t, b.production.URL)
	c, fp := b.begin(settings.Values{"markup.compact": true})
	b.move(c, release.Try)
	r := b.carryOut(store.Run{EnvironmentID: b.envs[0].ID, ChangeID: &c.ID, Kind: release.TryRun, Target: fp})
	require.Equal(t, evidence.VerdictClear, r.Verdict, r.Summary)
	b.move(c, release.Promote)
	r = b.carryOut(store.Run{EnvironmentID: b.envs[1].ID, ChangeID: &c.ID, Kind: release.PromoteRun, Target: fp})
	assert.Equal(t, evidence.VerdictClear, r.Verdict, r.Summary)
	assert.Contains(t, r.Summary, "The site itself has moved on, on /.")
	assert.Equal(t, []release.ActKind{release.ActPromote}, kindsOf(t, b.store, r.ID), "visitors have the new settings and no others")
	assert.Equal(t, release.Marked, b.change(c.ID).State)
}

// What follows from the settings needs not be seen: styles that browsers keep for a month
// under the same address are old after the next release.
func TestControlsAreNotNeededForWhatFollowsFromTheSettings(t *testing.T) {
	b := newBench(t, front())
	b.mark(0)
	r, found := b.try(settings.Values{"browser.keep": true})
	assert.Equal(t, evidence.VerdictUnsure, r.Verdict, r.Summary)
	require.Len(t, found, 1)
	assert.Equal(t, "Browsers keep styles and scripts under an address that stays the same", found[0].Title)
	assert.Contains(t, found[0].Detail, "For 30 days")

	r, found = b.try(settings.Values{"pages.never": []string{"/"}})
	assert.Equal(t, evidence.VerdictBroken, r.Verdict, r.Summary)
	assert.Contains(t, r.Summary, "“/” matches every page: nothing is cached now")
	assert.NotEmpty(t, found)
}

// A check of what stands as it was marked: an order that somebody placed is nobody's fault.
func TestControlsOfWhatWasMarkedBlameNoSetting(t *testing.T) {
	b := newBench(t, front())
	b.mark(0)
	placeOrder(t, b.staging.URL)
	r := b.carryOut(store.Run{EnvironmentID: b.envs[0].ID, Kind: release.CheckRun})
	assert.Equal(t, evidence.VerdictUnsure, r.Verdict, r.Summary)
	for _, f := range b.findings(r.ID) {
		if f.Severity != evidence.Note {
			require.NotNil(t, f.Control)
			assert.Equal(t, "Not looked at with the earlier settings: nothing was changed since the mark was taken.", f.Control.Text)
		}
	}
}

// What somebody took as meant for all runs of a change is so in its next run, and in no run of
// another change.
func TestControlsAreFollowedByWhatWasDecidedBefore(t *testing.T) {
	b := newBench(t, front())
	b.mark(0)
	c, fp := b.begin(settings.Values{"scripts.defer": true})
	b.move(c, release.Try)
	try := store.Run{EnvironmentID: b.envs[0].ID, ChangeID: &c.ID, Kind: release.TryRun, Target: fp}
	r := b.carryOut(try)
	require.Equal(t, evidence.VerdictBroken, r.Verdict, r.Summary)
	for _, f := range b.findings(r.ID) {
		if f.Severity == evidence.Note {
			continue
		}
		rows, err := b.store.Findings(t.Context(), r.ID)
		require.NoError(t, err)
		for _, row := range rows {
			if row.Document.V.Fingerprint == f.Fingerprint {
				_, err := b.runner.AcceptFinding(t.Context(), row.ID, run.Acceptance{Reach: run.Cause, Change: true, Why: "meant", Who: "ada"})
				require.NoError(t, err)
			}
		}
	}
	r = b.carryOut(try)
	assert.Equal(t, evidence.VerdictClear, r.Verdict, r.Summary)
	assert.Contains(t, r.Summary, "accepted as expected")

	r, _ = b.try(settings.Values{"scripts.defer": true})
	assert.Equal(t, evidence.VerdictBroken, r.Verdict, "nobody decided anything on this one")
}
