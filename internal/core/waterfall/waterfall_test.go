package waterfall_test

import (
	"encoding/json"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/waterfall"
)

func get(address string, change ...func(*waterfall.Fetch)) waterfall.Fetch {
	r := waterfall.Fetch{URL: "https://moss.example" + address, Method: "GET", Kind: "script", Status: 200, Started: 100, Answered: 150, Ended: 200, Transferred: 1000, Content: 3000}
	for _, c := range change {
		c(&r)
	}
	return r
}

// Versions and what passes a cache by make no other request of the same file; what says which page it is does.
func TestIdentity(t *testing.T) {
	same := [][]string{
		{"/app.js", "/app.js?v=3", "/app.js?ver=9&t=171", "/app.3f2a9c1b.js", "/app-3f2a9c1b.js", "/app.1.2.3.js", "/app.js?3f2a"},
		{"/kits?page=2", "/kits?page=2&_=1700", "/kits?cb=7&page=2"},
		{"/a/app.js"}, {"/kits?page=3"}, {"/kits"}, {"/app.css"}, {"/app2.js"},
	}
	seen := map[string]int{}
	for group, list := range same {
		for _, address := range list {
			id := get(address).Identity()
			if before, there := seen[id]; there {
				assert.Equal(t, before, group, "%s is not the same as one of group %d", address, before)
			}
			seen[id] = group
			assert.Equal(t, get(list[0]).Identity(), id, address)
		}
	}
	post := get("/app.js", func(r *waterfall.Fetch) { r.Method = "POST" })
	assert.NotEqual(t, get("/app.js").Identity(), post.Identity())
}

// TestBothSidesAreAligned: what vanished, came, grew, slowed, comes from the browser's cache, blocks drawing, fails;
// two requests for one address are tied in their order.
func TestBothSidesAreAligned(t *testing.T) {
	at := func(v float64) func(*waterfall.Fetch) {
		return func(r *waterfall.Fetch) { r.Started, r.Answered, r.Ended = v, v+50, v+100 }
	}
	before := []waterfall.Fetch{get("/"), get("/one.js?v=1", at(110)), get("/two.js", at(120)), get("/poll", at(300)), get("/poll", at(400)), get("/a.css", at(115))}
	after := []waterfall.Fetch{get("/"), get("/one.js?v=2", at(110), func(r *waterfall.Fetch) { r.Transferred, r.Ended = 2000, 600 }), get("/poll", at(300)), get("/poll", at(900)),
		get("/a.css", at(115), func(r *waterfall.Fetch) { r.Blocking = true }), get("/gone.png", at(500), func(r *waterfall.Fetch) { r.Status = 404 }),
		{URL: "https://ads.example/x.js", Method: "GET", Kind: "script", Started: 700, Ended: 800, Cached: true}}
	rows := waterfall.Align(before, after)
	of := map[string][]waterfall.Became{}
	var order []string
	for _, r := range rows {
		of[r.Name] = append(of[r.Name], r.Became...)
		order = append(order, r.Name)
	}
	assert.Equal(t, []string{"/", "/one.js?v=2", "/a.css", "/two.js", "/poll", "/poll", "/gone.png", "https://ads.example/x.js"}, order)
	assert.Equal(t, map[string][]waterfall.Became{"/": nil, "/one.js?v=2": {waterfall.Grew, waterfall.Slower}, "/a.css": {waterfall.Blocks}, "/two.js": {waterfall.Vanished},
		"/poll": {waterfall.Later}, "/gone.png": {waterfall.Came, waterfall.Failing}, "https://ads.example/x.js": {waterfall.Came}}, of)
	assert.True(t, rows[7].Third)
	assert.Equal(t, "ads.example", rows[7].Host)

	warm := waterfall.Align([]waterfall.Fetch{get("/one.js")}, []waterfall.Fetch{get("/one.js", func(r *waterfall.Fetch) { r.Cached, r.Transferred, r.Ended = true, 0, 101 })})
	assert.Equal(t, []waterfall.Became{waterfall.FromCache}, warm[0].Became, "that it is smaller and faster then is no news")

	assert.Equal(t, []waterfall.Sum{{Name: "moss.example", Requests: 6, Transferred: 7000, Content: 18000}, {Name: "ads.example", Requests: 1}}, waterfall.Sums(after, waterfall.Fetch.Host))
}

// TestARecordingOfAnotherEnvironmentIsTheSameSite: what is asked of the page's own host is tied to what was asked of that of
// the other; a third host stays what it is.
func TestARecordingOfAnotherEnvironmentIsTheSameSite(t *testing.T) {
	theirs := func(address string) waterfall.Fetch {
		return waterfall.Fetch{URL: address, Method: "GET", Kind: "script", Status: 200, Started: 100, Answered: 150, Ended: 200, Transferred: 1000, Content: 3000}
	}
	rows := waterfall.AlignAnyHost([]waterfall.Fetch{get("/"), get("/app.js")}, []waterfall.Fetch{theirs("http://127.0.0.1:9101/"), theirs("http://127.0.0.1:9101/app.js?v=2"), theirs("https://ads.example/x.js")})
	assert.Len(t, rows, 3)
	for _, r := range rows[:2] {
		assert.NotNil(t, r.Before, r.Name)
		assert.NotNil(t, r.After, r.Name)
		assert.Empty(t, r.Became)
	}
	assert.Equal(t, []waterfall.Became{waterfall.Came}, rows[2].Became)
	assert.Len(t, waterfall.AlignAnyHost(nil, []waterfall.Fetch{get("/")}), 1)
}

// recorded are two loads as this product would write them.
func recorded() []waterfall.Recording {
	began := time.Date(2026, 11, 27, 9, 30, 0, 0, time.UTC)
	return []waterfall.Recording{
		{Title: "/kits, phone, before", Began: began, Drawn: 410, Loaded: 905, Requests: []waterfall.Fetch{
			{URL: "https://moss.example/kits?page=2&q=a%20b", Method: "GET", Kind: "document", Status: 200, Type: "text/html", Protocol: "http/1.1", Started: 0, Answered: 180, Ended: 230, Transferred: 8000, Content: 31000},
			get("/app.js", func(r *waterfall.Fetch) { r.From, r.Blocking = "https://moss.example/boot.js", true })}},
		{Title: "/kits, phone, after", Began: began.Add(time.Minute), Loaded: 700, Requests: []waterfall.Fetch{
			get("/app.js", func(r *waterfall.Fetch) { r.Cached, r.Transferred = true, 0 }),
			{URL: "https://moss.example/lost.js", Method: "GET", Kind: "script", Started: 120, Ended: 130, Failed: "net::ERR_FAILED"}}},
	}
}

// TestHARIsTheOneOfTheStandard holds what is written against the JSON Schema of npm's har-schema (HAR 1.2), and reads
// it in again.
func TestHARIsTheOneOfTheStandard(t *testing.T) {
	raw, err := waterfall.WriteHAR("1.0", recorded())
	require.NoError(t, err)
	modules, err := filepath.Abs("../../../web/node_modules")
	require.NoError(t, err)
	c := exec.Command("node", "testdata/har.mjs", modules)
	c.Stdin = strings.NewReader(string(raw))
	said, err := c.CombinedOutput()
	require.NoError(t, err, string(said))
	assert.Equal(t, "valid\n", string(said))
	assert.NotContains(t, string(raw), "cookie:")

	again, err := waterfall.ReadHAR(raw)
	require.NoError(t, err)
	want := recorded()
	require.Len(t, again, 2)
	for i := range want {
		for n := range want[i].Requests {
			if r := &want[i].Requests[n]; r.Answered == 0 {
				again[i].Requests[n].Answered = 0 // HAR cannot say that none came
			}
		}
		assert.Equal(t, want[i], again[i])
	}
}

// TestForeignHARIsRead reads what browsers write: without the members of their own, in no order, with requests of no
// page; and says what is wrong with what cannot be read.
func TestForeignHARIsRead(t *testing.T) {
	entry := func(ref, at, address, mime string) map[string]any {
		return map[string]any{"pageref": ref, "startedDateTime": at, "time": 80.5, "request": map[string]any{"method": "GET", "url": address},
			"response": map[string]any{"status": 200, "headersSize": 300, "bodySize": 700, "content": map[string]any{"size": 2100, "mimeType": mime}},
			"timings":  map[string]any{"blocked": -1, "dns": 0, "connect": 10, "send": 0.5, "wait": 60, "receive": 10}}
	}
	raw, err := json.Marshal(map[string]any{"log": map[string]any{"version": "1.2", "pages": []any{
		map[string]any{"id": "p", "title": "Kits", "startedDateTime": "2026-11-27T10:00:00.000+01:00", "pageTimings": map[string]any{"onLoad": 900, "onContentLoad": -1}}},
		"entries": []any{entry("p", "2026-11-27T10:00:00.250+01:00", "https://moss.example/app.js", "text/javascript; charset=utf-8"),
			entry("p", "2026-11-27T09:00:00.000Z", "https://moss.example/kits", "text/html"), entry("", "2026-11-27T09:00:02Z", "https://moss.example/ping", "application/json")}}})
	require.NoError(t, err)
	list, err := waterfall.ReadHAR(append([]byte("\ufeff"), raw...))
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, "Kits", list[0].Title)
	assert.Equal(t, 900.0, list[0].Loaded)
	assert.Zero(t, list[0].Drawn)
	require.Len(t, list[0].Requests, 2)
	js := list[0].Requests[1]
	assert.Equal(t, waterfall.Fetch{URL: "https://moss.example/app.js", Method: "GET", Kind: "script", Status: 200, Type: "text/javascript; charset=utf-8", Started: 250, Answered: 320.5, Ended: 330.5, Transferred: 1000, Content: 2100}, js)
	assert.Equal(t, "fetch", list[1].Requests[0].Kind)

	for text, says := range map[string]string{`<html>`: "not a HAR file", `{}`: "no log with entries", `{"log":{"version":"2.0","entries":[{}]}}`: "HAR 2.0", `{"log":{"version":"1.2","entries":[{}]}}`: "request 1 of the file has no address"} {
		_, err := waterfall.ReadHAR([]byte(text))
		assert.ErrorContains(t, err, says)
	}
}
