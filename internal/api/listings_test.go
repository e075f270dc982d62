package api_test

import (
	"encoding/csv"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/people"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

func TestListsAnswerAndAreExported(t *testing.T) {
	r := newRecord(t)
	ctx := t.Context()
	_, err := r.store.NewChange(ctx, store.Change{SiteID: r.site.ID, Title: "=1+1, of a \"formula\"", Base: "", CreatedBy: "ada"})
	require.NoError(t, err)
	at := fmt.Sprintf("/api/v1/sites/%d", r.site.ID)
	var changes struct {
		Rows  []struct{ Title, State string }
		Total int
	}
	r.get(at+"/changes?sort=title&down=false&limit=1", &changes)
	assert.Equal(t, 2, changes.Total)
	require.Len(t, changes.Rows, 1)
	assert.Contains(t, changes.Rows[0].Title, "formula")
	exported := func(path string) [][]string {
		t.Helper()
		req, err := newRequest(t, http.MethodGet, r.url+at+path, "")
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+r.token)
		status, text := answerTo(t, http.DefaultClient, req)
		require.Equal(t, http.StatusOK, status)
		rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
		require.NoError(t, err)
		return rows
	}
	rows := exported("/changes/export?q=formula")
	require.Len(t, rows, 2, "its head, and what was asked for")
	assert.Equal(t, `'=1+1, of a "formula"`, rows[1][1], "no spreadsheet takes it for a formula")
	assert.Len(t, exported("/runs/export"), 3)
	assert.Len(t, exported("/runs/export?verdict=broken"), 2)
	assert.Len(t, exported("/marks/export?limit=1&offset=1"), 2, "all of them, whichever page was shown")
	assert.Len(t, exported("/revisions/export"), 3)

	var revisions struct {
		Rows []struct{ Fingerprint string }
	}
	r.get(at+"/revisions", &revisions)
	require.Len(t, revisions.Rows, 2)
	var apart struct {
		Differences []struct{ Title, FromText, ToText string }
	}
	r.get(fmt.Sprintf("%s/revisions/compare?from=%s&to=%s", at, revisions.Rows[1].Fingerprint, revisions.Rows[0].Fingerprint), &apart)
	require.Len(t, apart.Differences, 1)
	assert.Equal(t, "off", apart.Differences[0].FromText)
	assert.Equal(t, "on", apart.Differences[0].ToText)
	for path, want := range map[string]int{
		"/revisions/compare?from=x&to=y": http.StatusUnprocessableEntity,
		fmt.Sprintf("/revisions/compare?from=%s&to=%s", strings.Repeat("0", 64), revisions.Rows[0].Fingerprint): http.StatusNotFound,
		"/runs?sort=nothing":   http.StatusUnprocessableEntity,
		"/runs?limit=100000":   http.StatusUnprocessableEntity,
		"/marks?verdict=maybe": http.StatusUnprocessableEntity,
	} {
		assert.Equal(t, want, r.get(at+path, nil).StatusCode, path)
	}
	assert.Equal(t, http.StatusNotFound, r.get("/api/v1/sites/999/runs", nil).StatusCode)
}

// TestAllOfASiteIsListed filters, sorts and pages the lists in the interface; what was asked stays in the address.
func TestAllOfASiteIsListed(t *testing.T) {
	d := quillet(t)
	api := d.api(people.Maintainer)
	d.marked()
	for n := range 60 {
		status, text := api.ask(http.MethodPost, "/sites/1/changes", map[string]any{"title": fmt.Sprintf("Change %02d", n), "reason": "", "effect": ""}, nil)
		require.Equal(t, http.StatusCreated, status, text)
	}
	meddle(t, d.staging, settings.Values{"markupTight": true})
	status, text := api.ask(http.MethodPost, "/environments/1/read", map[string]any{}, nil)
	require.Equal(t, http.StatusOK, status, text)
	d.signIn("Ada", "/sites/1")
	d.click("a", "^All changes$")
	d.see("td", "^Change 59$")
	d.see(".foot", "60 rows")
	d.accessible("a list of changes")
	d.click("button.p-paginator-page", "^2$")
	d.see("td", "^Change 09$")
	d.see(".p-paginator-current", "51–60 of 60")
	d.click("th button", "^Change")
	d.see("td", "^Change 00$")
	d.see("th[aria-sort=ascending]", "Change")
	d.narrow(func() { // a list of rows has no heads of columns, but is sorted on a phone, too
		d.tap("th button", "^Change")
		d.see("td[data-label=Change]", "^Change 59$")
		d.tap("th button", "^Change")
		d.see("td[data-label=Change]", "^Change 00$")
	})
	d.fill("input[aria-label='Part of the title or reason']", "change 4")
	d.see(".foot", "^10 rows")
	d.see("td", "^Change 40$")
	address, err := d.page.Info()
	require.NoError(t, err)
	assert.Contains(t, address.URL, "q=change+4")
	require.NoError(t, d.page.Reload())
	d.see(".foot", "^10 rows")
	d.fill("input[aria-label='Part of the title or reason']", "nothing like it")
	d.see("p", "^No change is like that\\.$")

	d.click("nav a", "^Runs$")
	d.see("td", "Mark 2")
	d.accessible("a list of runs")
	tick := func(selector string) {
		t.Helper()
		box, err := d.page.Timeout(patience).Element(selector)
		require.NoError(t, err)
		require.NoError(t, box.Click(proto.InputMouseButtonLeft, 1))
	}
	tick("input[aria-label='Compare run 1']")
	tick("input[aria-label='Compare run 2']")
	d.click("a", "^Compare run 1 with run 2$")
	d.see("h1", "compared with run")
	d.open("/sites/1/marks")
	d.see("td", "in force")
	d.accessible("a list of marks")

	d.click("nav a", "^Revisions$")
	d.see("h1", "^Revisions$")
	_, err = d.page.Timeout(patience).Element("input[name=was]")
	require.NoError(t, err)
	radios, err := d.page.Elements("input[name=was]")
	require.NoError(t, err)
	require.Len(t, radios, 2, "what both had, and what was changed outside on staging")
	require.NoError(t, radios[1].Focus())
	require.NoError(t, d.page.Keyboard.Type(input.Space))
	tick("tr:first-child input[name=now]")
	d.see("section[aria-label=Comparison] td", "^Tight markup")
	d.accessible("two revisions, compared")
}
