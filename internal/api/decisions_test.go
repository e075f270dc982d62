package api_test

import (
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/site"
	"tidemarker/internal/standin"
)

type decisionBody struct {
	ID         int64
	Of         struct{ Title, Page string }
	Change     int64
	Until, Why string
	Holds      bool
	EndedBy    string
}

func (r *record) decisions() []decisionBody {
	r.Helper()
	var list []decisionBody
	r.get(fmt.Sprintf("/api/v1/sites/%d/decisions", r.site.ID), &list)
	return list
}

// picture is a finding about an element's picture as a check writes it.
func picture(page, part, title, fingerprint string) evidence.Finding {
	return evidence.Finding{Kind: evidence.PictureKind, Severity: evidence.Broken, Page: page, Persona: "visitor", Device: "phone", Title: title, Part: "picture: " + part, Cause: "picture: " + part, Fingerprint: fingerprint}
}

func TestADecisionSaysHowFarItReachesAndUntilWhen(t *testing.T) {
	r := newRecord(t)
	leak := evidence.Finding{Kind: evidence.LeakKind, Severity: evidence.Broken, Page: "/", Persona: "visitor", Device: "phone", Title: "A visitor is shown it", Part: "leak", Cause: "leak", Fingerprint: "l"}
	require.NoError(t, r.store.SaveFindings(t.Context(), r.run, []evidence.Finding{picture("/", "#news", "div#news is new", "a"), picture("/kits", "#news", "div#news is new", "b"), picture("/kits", "#pay", "button#pay is missing", "c"), leak}))
	var run runBody
	r.get(fmt.Sprintf("/api/v1/runs/%d", r.run), &run)
	accept := func(kind string, body map[string]any) int {
		body["accepted"], body["why"] = true, "The news block is meant."
		return r.post(fmt.Sprintf("/api/v1/findings/%d/accept", run.id(kind)), body, &run)
	}
	assert.Equal(t, http.StatusUnprocessableEntity, accept("picture", map[string]any{"lasts": "day", "day": "soon"}))
	assert.Equal(t, http.StatusUnprocessableEntity, accept("picture", map[string]any{"lasts": "day", "day": "2020-01-01"}), "that day is over")
	assert.Equal(t, http.StatusUnprocessableEntity, accept("picture", map[string]any{"lasts": "day", "day": time.Now().AddDate(2, 0, 0).Format(time.DateOnly)}), "two years are too long")
	assert.Equal(t, http.StatusConflict, accept("cache-leak", map[string]any{"lasts": "change"}), "what others are shown is accepted for one run at most")
	assert.Empty(t, r.decisions())

	day := time.Now().AddDate(0, 1, 0).Format(time.DateOnly)
	require.Equal(t, http.StatusOK, accept("picture", map[string]any{"reach": "part", "lasts": "day", "day": day}))
	assert.Contains(t, run.Summary, "2 accepted as expected", "the same part on both pages, and not the button")
	list := r.decisions()
	require.Len(t, list, 1)
	assert.Equal(t, "div#news is new", list[0].Of.Title)
	assert.Empty(t, list[0].Of.Page, "wherever it shows")
	assert.Equal(t, day, list[0].Until)
	assert.True(t, list[0].Holds)

	require.Equal(t, http.StatusOK, r.post(fmt.Sprintf("/api/v1/decisions/%d/end", list[0].ID), map[string]any{}, nil))
	list = r.decisions()
	assert.False(t, list[0].Holds)
	assert.Equal(t, http.StatusNotFound, r.post(fmt.Sprintf("/api/v1/decisions/%d/end", list[0].ID), map[string]any{}, nil), "it has ended")
	var lines []struct{ Text string }
	r.get(fmt.Sprintf("/api/v1/sites/%d/history", r.site.ID), &lines)
	assert.Contains(t, lines[0].Text, "No longer accepted: div#news is new")
}

func TestTakingAnAcceptanceBackEndsWhatWasDecidedWithIt(t *testing.T) {
	r := newRecord(t)
	require.NoError(t, r.store.SaveFindings(t.Context(), r.run, []evidence.Finding{picture("/", "#news", "div#news is new", "a")}))
	var run runBody
	r.get(fmt.Sprintf("/api/v1/runs/%d", r.run), &run)
	at := fmt.Sprintf("/api/v1/findings/%d/accept", run.id("picture"))
	require.Equal(t, http.StatusOK, r.post(at, map[string]any{"accepted": true, "why": "meant", "lasts": "change"}, &run))
	require.Len(t, r.decisions(), 1)
	assert.Equal(t, r.change, r.decisions()[0].Change)
	require.Equal(t, http.StatusOK, r.post(at, map[string]any{"accepted": false, "why": ""}, &run))
	assert.Equal(t, "broken", run.Verdict)
	assert.False(t, r.decisions()[0].Holds)
}

func TestAMaskIsMadeFromTheFindingAndNeverOfTheWholePage(t *testing.T) {
	r := newRecord(t)
	journey := evidence.Finding{Kind: evidence.JourneyKind, Severity: evidence.Broken, Page: "/", Persona: "visitor", Device: "phone", Title: "Menu", Part: "menu", Cause: "menu", Fingerprint: "j"}
	require.NoError(t, r.store.SaveFindings(t.Context(), r.run, []evidence.Finding{picture("/", "#news", "div#news is new", "a"), journey}))
	var run runBody
	r.get(fmt.Sprintf("/api/v1/runs/%d", r.run), &run)
	mask := func(kind, selector string) int {
		return r.post(fmt.Sprintf("/api/v1/findings/%d/mask", run.id(kind)), map[string]any{"selector": selector, "everywhere": true, "why": "It turns."}, &run)
	}
	for _, bad := range []string{"div[", "body", "MAIN", "*"} {
		assert.Equal(t, http.StatusUnprocessableEntity, mask("picture", bad), bad)
	}
	assert.Equal(t, http.StatusUnprocessableEntity, mask("journey", "#menu"), "a journey has no picture")
	require.Equal(t, http.StatusOK, mask("picture", "#news"))
	row, err := r.store.Site(t.Context(), r.site.ID)
	require.NoError(t, err)
	assert.Equal(t, []site.Mask{{Selector: "#news", Reason: "It turns."}}, row.Document.V.Pages[0].Masks)
	assert.Contains(t, run.Summary, "1 accepted as expected")
	require.Equal(t, http.StatusOK, mask("picture", "#news"), "once more is once")
	row, err = r.store.Site(t.Context(), r.site.ID)
	require.NoError(t, err)
	assert.Len(t, row.Document.V.Pages[0].Masks, 1)
}

// The keys of triage, with nothing but the keyboard: next, mask, accept for the change, and the
// decision is met again in the test plan.
func TestFindingsAreDecidedWithKeys(t *testing.T) {
	d := deskOf(t, standin.Fernhollow(), site.Site{Name: "Fernhollow", Pages: []site.Page{{Path: "/", Class: "home", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}}}})
	api := d.api(people.Maintainer)
	var run struct{ ID int64 }
	status, text := api.ask(http.MethodPost, "/environments/1/marks", map[string]any{}, &run)
	require.Equal(t, http.StatusAccepted, status, text)
	d.over(run.ID)
	status, text = api.ask(http.MethodPost, "/environments/1/tries", map[string]any{"edits": map[string]any{"scripts.defer": true}}, &run)
	require.Equal(t, http.StatusAccepted, status, text)
	d.over(run.ID)
	d.signIn("Ada", fmt.Sprintf("/runs/%d", run.ID))
	d.see("h1", "Gone with the earlier settings")
	d.press('n')
	d.pictureKeys()
	for key, asks := range map[input.Key]string{'a': "Accept as expected", 'm': "Mask this part", '?': "Keyboard shortcuts"} {
		d.press(key)
		d.see("[role=dialog]", asks)
		d.press(input.Escape)
		d.gone("[role=dialog]")
	}
	d.press('A')
	d.see("[role=dialog]", "Accept as expected")
	d.see("[role=dialog] label", "The whole cause")
	d.accessible("accepting with reach and time")
	require.NoError(t, d.page.Timeout(patience).InsertText("The new script is meant."), "the reason has the focus")
	el, err := d.page.Timeout(patience).Element("[aria-label='Last day']")
	require.NoError(t, err)
	require.NoError(t, el.InputTime(time.Now().AddDate(0, 0, 20)))
	d.see("[role=dialog] label", "For all runs of the site until")
	accept := func() {
		t.Helper()
		d.click("[role=dialog] button", "^Accept$")
		d.see("h1", "accepted as expected")
	}
	accept()
	d.click("[role=alert] button", "^Undo$")
	d.see("h1", "^Broken")
	var lasting int
	require.NoError(t, d.store.Pool.QueryRow(t.Context(), `SELECT count(*) FROM decisions WHERE ended_at IS NULL`).Scan(&lasting))
	assert.Zero(t, lasting, "taken back for all of the cause")
	d.press('A')
	d.see("[role=dialog]", "Accept as expected")
	require.NoError(t, d.page.Timeout(patience).InsertText("The new script is meant."))
	el, err = d.page.Timeout(patience).Element("[aria-label='Last day']")
	require.NoError(t, err)
	require.NoError(t, el.InputTime(time.Now().AddDate(0, 0, 20)))
	accept()
	d.open("/sites/1/test-plan")
	d.see("h2", "^Accepted differences$")
	d.see("td", "The new script is meant.")
	d.accessible("what was accepted")
	d.click("button", "^No longer accept$")
	d.see("td", "^ended by Ada")
}

// press strikes one key.
func (d *desk) press(key input.Key) {
	d.Helper()
	require.NoError(d, d.page.Timeout(patience).Keyboard.Type(key))
}
