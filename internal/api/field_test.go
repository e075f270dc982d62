package api_test

import (
	"bytes"
	"compress/gzip"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	corefield "tidemarker/internal/core/field"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/site"
	"tidemarker/internal/field"
	"tidemarker/internal/standin"
	"tidemarker/internal/store"
)

// told posts a beacon as a browser does.
func (d *desk) told(key, origin, body string) int {
	d.Helper()
	req, err := http.NewRequestWithContext(d.Context(), http.MethodPost, d.url+"/field/"+key, strings.NewReader(body))
	require.NoError(d, err)
	req.Header.Set("Content-Type", "text/plain")
	req.Header.Set("Sec-Fetch-Site", "cross-site")
	if origin != "" {
		req.Header.Set("Origin", origin)
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(d, err)
	defer res.Body.Close()
	assert.Empty(d, res.Header.Values("Set-Cookie"))
	return res.StatusCode
}

// Visitors' browsers tell a site's speed without signing in: only from its hosts, only what a beacon may say, and a day of
// it stands in the site's view. The script keeps its promises, and is small.
func TestVisitorsTellHowFastASiteIs(t *testing.T) {
	d := deskOf(t, standin.Fernhollow(), site.Site{Name: "Fernhollow", Pages: []site.Page{{Path: "/kits", Class: "listing", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}}}})
	marin := d.api(people.Maintainer)
	var beacon struct {
		On     bool
		Key    string
		Script string
	}
	status, text := marin.ask(http.MethodPut, "/sites/1/beacon", map[string]any{"on": true, "share": 0.5}, &beacon)
	require.Equal(t, http.StatusOK, status, text)
	require.True(t, beacon.On)
	res, err := http.Get(d.url + beacon.Script)
	require.NoError(t, err)
	script, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	res.Body.Close()
	assert.Equal(t, "text/javascript; charset=utf-8", res.Header.Get("Content-Type"))
	assert.Contains(t, string(script), "Math.random()<0.5")
	for _, promise := range []string{"globalPrivacyControl", "doNotTrack", "sendBeacon"} {
		assert.Contains(t, string(script), promise)
	}
	for _, never := range []string{"cookie", "localStorage", "sessionStorage", "TIDE_SHARE"} {
		assert.NotContains(t, string(script), never)
	}
	assert.Less(t, zipped(t, script), 5000)

	good := `{"p":"/kits/7?who=ada","d":"phone","m":{"LCP":2100.5,"CLS":0.01,"INP":88}}`
	own := d.staging.URL
	assert.Equal(t, http.StatusNoContent, d.told(beacon.Key, own, good))
	assert.Equal(t, http.StatusNoContent, d.told(beacon.Key, "", good))
	assert.Equal(t, http.StatusBadRequest, d.told(beacon.Key, "https://elsewhere.example", good))
	assert.Equal(t, http.StatusBadRequest, d.told(beacon.Key, own, `{"p":"/kits","d":"phone","m":{"LCP":-1}}`))
	assert.Equal(t, http.StatusRequestEntityTooLarge, d.told(beacon.Key, own, strings.Repeat("a", 5000)))
	assert.Equal(t, http.StatusNotFound, d.told("nobodys", own, good))

	require.NoError(t, (&field.Desk{Store: d.store}).Tidy(t.Context(), time.Now()))
	var v struct {
		Days    []struct{ Visits int }
		Classes []struct{ Class string }
	}
	status, text = marin.ask(http.MethodGet, "/sites/1/field?metric=largest-contentful-paint&device=phone", nil, &v)
	require.Equal(t, http.StatusOK, status, text)
	require.Len(t, v.Days, 1)
	assert.Equal(t, 2, v.Days[0].Visits)
	assert.Equal(t, "listing", v.Classes[0].Class)

	d.visited(beacon.Script, beacon.Key)

	status, text = marin.ask(http.MethodPut, "/sites/1/beacon", map[string]any{"on": false}, nil)
	require.Equal(t, http.StatusOK, status, text)
	assert.Equal(t, http.StatusNotFound, d.ended(beacon.Key, own, good), "nobody listens any more")
}

// ended posts until nobody listens: the key is known for some seconds.
func (d *desk) ended(key, origin, body string) int {
	d.Helper()
	tick := time.NewTicker(pollEvery)
	defer tick.Stop()
	for end := time.Now().Add(patience); ; <-tick.C {
		if status := d.told(key, origin, body); status != http.StatusNoContent || time.Now().After(end) {
			return status
		}
	}
}

// A promotion stands on the axis, and what it did to visitors beside it; field data of elsewhere is read from a file, all of it
// or nothing.
func TestASiteOverTimeAsItsVisitorsHadIt(t *testing.T) {
	d := deskOf(t, standin.Fernhollow(), site.Site{Name: "Fernhollow", Pages: []site.Page{{Path: "/kits", Class: "listing", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}}}})
	marin := d.api(people.Maintainer)
	today := time.Now().UTC().Truncate(24 * time.Hour)
	promoted := today.AddDate(0, 0, -10)
	envs, err := d.store.Environments(t.Context(), 1)
	require.NoError(t, err)
	id, err := d.store.NewChange(t.Context(), store.Change{SiteID: 1, Title: "Defer all scripts", CreatedBy: "marin"})
	require.NoError(t, err)
	run, err := d.store.NewRun(t.Context(), store.Run{SiteID: 1, EnvironmentID: envs[1].ID, ChangeID: &id, Kind: release.PromoteRun, RequestedBy: "marin"})
	require.NoError(t, err)
	_, err = d.store.Pool.Exec(t.Context(), `UPDATE runs SET state = 'done', finished_at = $1 WHERE id = $2`, promoted.Add(9*time.Hour), run)
	require.NoError(t, err)
	var visits []store.Visit
	for day := -40; day < 0; day++ {
		for n := range 60 {
			value := 2400.0 + 10*float64(n)
			if day > -10 {
				value -= 900
			}
			visits = append(visits, store.Visit{At: today.AddDate(0, 0, day), SiteID: 1, Class: "listing", Device: site.Phone, Steps: map[measure.Metric]int{measure.Largest: corefield.Step(measure.Largest, value)}})
		}
	}
	require.NoError(t, (&field.Desk{Store: d.store}).Add(t.Context(), visits))

	d.signIn("Ada", "/sites/1/field")
	d.see("h1", "^Three of four page views: largest paint within 2\\.\\d s")
	d.see("td", "^Defer all scripts")
	d.see("td", "7 whole days on each side")
	d.see("td", "better")
	d.accessible("a site over time")

	csv := "day,device,metric,p75,class\n" + today.AddDate(0, 0, -3).Format(time.DateOnly) + ",phone,LCP,1900,\n"
	read := func(body string) (int, string) {
		req, err := newRequest(t, http.MethodPost, d.url+"/api/v1/sites/1/field", body)
		require.NoError(t, err)
		req.Header.Set("Content-Type", "text/csv")
		req.Header.Set("Authorization", "Bearer "+marin.token)
		return answerTo(t, &marin.http, req)
	}
	status, text := read(csv)
	require.Equal(t, http.StatusOK, status, text)
	for body, says := range map[string]string{"a,b\n1,2\n": `no column \"day\"`, csv + "2026-13-01,phone,LCP,5,\n": "line 3", csv + csv[strings.Index(csv, "\n")+1:]: "twice", "day,device,metric,p75\n2026-11-01,phone,XYZ,5\n": "no metric"} {
		status, text = read(body)
		assert.Equal(t, http.StatusUnprocessableEntity, status, body)
		assert.Contains(t, text, says)
	}
	d.open("/sites/1/field")
	d.see("figcaption", "dotted line is what was read from a file")
	var v struct{ File []struct{ P75 float64 } }
	status, text = marin.ask(http.MethodGet, "/sites/1/field?device=phone", nil, &v)
	require.Equal(t, http.StatusOK, status, text)
	require.Len(t, v.File, 1)

	// What is exported has every day, and is read again as it is.
	d.see("a", "^All days as CSV")
	status, exported := marin.ask(http.MethodGet, "/sites/1/field/export?days=30", nil, nil)
	require.Equal(t, http.StatusOK, status, exported)
	lines := strings.Split(strings.TrimSpace(exported), "\n")
	assert.Equal(t, "day,device,metric,p75,class,visits,source,low,high,good,needs improvement,poor", lines[0])
	require.Len(t, lines, 1+29+1, "29 days of visitors and today without any, and one of the file")
	assert.Regexp(t, `^`+today.AddDate(0, 0, -29).Format(time.DateOnly)+`,phone,LCP,28\d\d\.\d,listing,60,visitors,2\d{3}\.\d,2\d{3}\.\d,\d+,\d+,0$`, lines[1])
	assert.Contains(t, exported, today.AddDate(0, 0, -3).Format(time.DateOnly)+",phone,LCP,1900,,0,file,,,,,")
	status, text = read(exported)
	assert.Equal(t, http.StatusOK, status, text)
	assert.Contains(t, text, `"days":30`)
	status, _ = marin.ask(http.MethodGet, "/sites/99/field", nil, nil)
	assert.Equal(t, http.StatusNotFound, status)
	status, _ = marin.ask(http.MethodGet, "/sites/99/field/export", nil, nil)
	assert.Equal(t, http.StatusNotFound, status)
}

// zipped is how many octets a file has with gzip.
func zipped(t *testing.T, raw []byte) int {
	t.Helper()
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	_, err := w.Write(raw)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out.Len()
}

// visited has a real browser look at a page with the script in it and leave: it tells once. Then with a wish not to be
// tracked: it tells nothing.
func (d *desk) visited(script, key string) {
	d.Helper()
	// Every page view, and on the host that a page for it has.
	_, err := d.store.Pool.Exec(d.Context(), `UPDATE field_sources SET share = 1`)
	require.NoError(d, err)
	page := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		if r.URL.Path == "/private" {
			_, _ = w.Write([]byte(`<script>Object.defineProperty(navigator, "globalPrivacyControl", { value: true });</script>`))
		}
		if r.URL.Path != "/away" {
			_, _ = w.Write([]byte(`<!doctype html><script src="` + d.url + script + `" defer></script><h1>Pearl oyster box</h1>`))
		}
	}))
	d.Cleanup(page.Close)
	_, err = d.store.Pool.Exec(d.Context(), `UPDATE sites SET document = jsonb_set(document, '{environments,0,hosts}', to_jsonb($1::text[]))`, []string{strings.TrimPrefix(page.URL, "http://")})
	require.NoError(d, err)
	count := func() (n int) {
		require.NoError(d, d.store.Pool.QueryRow(d.Context(), `SELECT count(*) FROM visits WHERE device = 'desktop'`).Scan(&n))
		return n
	}
	look := func(path string) {
		b, err := personal()
		require.NoError(d, err)
		alone, err := b.Incognito()
		require.NoError(d, err)
		tab, err := alone.Page(proto.TargetCreateTarget{URL: page.URL + path})
		require.NoError(d, err)
		require.NoError(d, tab.WaitLoad())
		_, err = tab.Eval(`() => new Promise((done) => requestAnimationFrame(() => setTimeout(done, 200)))`)
		require.NoError(d, err)
		require.NoError(d, tab.Navigate(page.URL+"/away"))
		require.NoError(d, tab.WaitLoad())
	}
	tick := time.NewTicker(pollEvery)
	defer tick.Stop()
	// The site is known for some seconds without the new host.
	for end := time.Now().Add(patience); count() == 0; <-tick.C {
		require.True(d, time.Now().Before(end), "nothing was told")
		look("/kits")
	}
	had := count()
	look("/private")
	look("/kits")
	for end := time.Now().Add(patience); count() == had; <-tick.C {
		require.True(d, time.Now().Before(end), "nothing was told")
	}
	assert.Equal(d, had+1, count(), "the private visit told nothing")
	var lcp, fcp *int16
	require.NoError(d, d.store.Pool.QueryRow(d.Context(), `SELECT lcp, fcp FROM visits WHERE device = 'desktop' ORDER BY at DESC LIMIT 1`).Scan(&lcp, &fcp))
	assert.NotNil(d, lcp)
	assert.NotNil(d, fcp)
	assert.Equal(d, http.StatusNoContent, d.told(key, "", `{"p":"/","d":"phone","m":{"LCP":5}}`))
}
