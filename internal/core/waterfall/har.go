package waterfall

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/url"
	"slices"
	"strings"
	"time"
)

// Recording is one page load as a HAR file has it.
type Recording struct {
	Title    string
	Began    time.Time
	Drawn    float64 // when DOMContentLoaded was, in milliseconds; 0 when that is not known
	Loaded   float64
	Requests []Fetch
}

// The members of HAR 1.2 (Web Performance Working Group, draft of 14 August 2012). Those that begin with an
// underscore are not in it; it leaves them free, and browsers write the first three of them so.
type (
	harFile struct {
		Log harLog `json:"log"`
	}
	harLog struct {
		Version string     `json:"version"`
		Creator harCreator `json:"creator"`
		Pages   []harPage  `json:"pages,omitempty"`
		Entries []harEntry `json:"entries"`
	}
	harCreator struct {
		Name    string `json:"name"`
		Version string `json:"version"`
	}
	harPage struct {
		Started time.Time      `json:"startedDateTime"`
		ID      string         `json:"id"`
		Title   string         `json:"title"`
		Timings harPageTimings `json:"pageTimings"`
	}
	harPageTimings struct {
		Content float64 `json:"onContentLoad"`
		Load    float64 `json:"onLoad"`
	}
	harEntry struct {
		Page     string      `json:"pageref,omitempty"`
		Started  time.Time   `json:"startedDateTime"`
		Time     float64     `json:"time"`
		Request  harRequest  `json:"request"`
		Response harResponse `json:"response"`
		Cache    struct{}    `json:"cache"`
		Timings  harTimings  `json:"timings"`
		Kind     string      `json:"_resourceType,omitempty"`
		From     *harFrom    `json:"_initiator,omitempty"`
		Kept     string      `json:"_fromCache,omitempty"`
		Blocking bool        `json:"_renderBlocking,omitempty"`
	}
	harFrom struct {
		Type string `json:"type"`
		URL  string `json:"url,omitempty"`
	}
	harPair struct {
		Name  string `json:"name"`
		Value string `json:"value"`
	}
	harRequest struct {
		Method  string     `json:"method"`
		URL     string     `json:"url"`
		Version string     `json:"httpVersion"`
		Cookies []struct{} `json:"cookies"`
		Headers []harPair  `json:"headers"`
		Query   []harPair  `json:"queryString"`
		Head    int        `json:"headersSize"`
		Body    int        `json:"bodySize"`
	}
	harResponse struct {
		Status      int        `json:"status"`
		Text        string     `json:"statusText"`
		Version     string     `json:"httpVersion"`
		Cookies     []struct{} `json:"cookies"`
		Headers     []harPair  `json:"headers"`
		Content     harContent `json:"content"`
		Redirect    string     `json:"redirectURL"`
		Head        int        `json:"headersSize"`
		Body        int        `json:"bodySize"`
		Transferred *float64   `json:"_transferSize,omitempty"`
		Failed      string     `json:"_error,omitempty"`
	}
	harContent struct {
		Size int    `json:"size"`
		Type string `json:"mimeType"`
	}
	harTimings struct {
		Blocked float64 `json:"blocked"`
		Send    float64 `json:"send"`
		Wait    float64 `json:"wait"`
		Receive float64 `json:"receive"`
	}
)

// WriteHAR writes page loads as a HAR 1.2 file. Headers and cookies are not in it, since they may hold secrets.
func WriteHAR(version string, loads []Recording) ([]byte, error) {
	file := harFile{harLog{Version: "1.2", Creator: harCreator{"Tide Marker", version}, Entries: []harEntry{}}}
	for i, l := range loads {
		page := harPage{l.Began.UTC(), fmt.Sprintf("page_%d", i+1), l.Title, harPageTimings{unknown(l.Drawn), unknown(l.Loaded)}}
		file.Log.Pages = append(file.Log.Pages, page)
		for _, r := range l.Requests {
			file.Log.Entries = append(file.Log.Entries, entry(page.ID, l.Began, r))
		}
	}
	var out bytes.Buffer
	enc := json.NewEncoder(&out)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", " ")
	err := enc.Encode(file)
	return out.Bytes(), err
}

// unknown is a time as HAR has it: -1 when it is not known.
func unknown(v float64) float64 {
	if v <= 0 {
		return -1
	}
	return v
}

func entry(page string, began time.Time, r Fetch) harEntry {
	e := harEntry{Page: page, Started: began.Add(time.Duration(r.Started * float64(time.Millisecond))).UTC(), Time: r.took(), Kind: r.Kind, Blocking: r.Blocking}
	e.Timings = harTimings{Blocked: -1, Wait: r.took()}
	if r.Answered > r.Started && r.Ended >= r.Answered {
		e.Timings.Wait, e.Timings.Receive = r.Answered-r.Started, r.Ended-r.Answered
	}
	e.Request = harRequest{Method: r.Method, URL: r.URL, Version: r.Protocol, Cookies: []struct{}{}, Headers: []harPair{}, Query: []harPair{}, Head: -1, Body: -1}
	if u, err := url.Parse(r.URL); err == nil {
		for _, part := range strings.FieldsFunc(u.RawQuery, func(c rune) bool { return c == '&' }) {
			name, value, _ := strings.Cut(part, "=")
			e.Request.Query = append(e.Request.Query, harPair{name, value})
		}
	}
	transferred := float64(r.Transferred)
	e.Response = harResponse{Status: r.Status, Version: r.Protocol, Cookies: []struct{}{}, Headers: []harPair{}, Content: harContent{r.Content, r.Type}, Head: -1, Body: -1, Transferred: &transferred, Failed: r.Failed}
	if r.Cached {
		e.Kept = "disk"
	}
	if r.From != "" {
		e.From = &harFrom{"script", r.From}
	}
	return e
}

// mostEntries is how many requests of a file are read.
const mostEntries = 20000

// ReadHAR reads the page loads of a HAR file, of whatever browser. Requests that belong to no page are one
// load of their own. The error says what is wrong with the file.
func ReadHAR(raw []byte) ([]Recording, error) {
	var file harFile
	if err := json.Unmarshal(bytes.TrimPrefix(raw, []byte("\ufeff")), &file); err != nil {
		return nil, fmt.Errorf("this is not a HAR file: %w. Save it from the network view of a browser's own tools, as HAR with or without content", err)
	}
	l := file.Log
	switch {
	case l.Version == "" && len(l.Entries) == 0:
		return nil, errors.New("this is not a HAR file: it has no log with entries. Save it from the network view of a browser's own tools")
	case l.Version != "" && !strings.HasPrefix(l.Version, "1."):
		return nil, fmt.Errorf("this is HAR %s; only HAR 1 can be read", l.Version)
	case len(l.Entries) > mostEntries:
		return nil, fmt.Errorf("this file has %d requests; at most %d can be read. Record fewer pages", len(l.Entries), mostEntries)
	}
	var out []Recording
	at := map[string]int{}
	for _, p := range l.Pages {
		at[p.ID] = len(out)
		out = append(out, Recording{Title: p.Title, Began: p.Started, Drawn: max(0, p.Timings.Content), Loaded: max(0, p.Timings.Load)})
	}
	slices.SortStableFunc(l.Entries, func(a, b harEntry) int { return a.Started.Compare(b.Started) })
	for i, e := range l.Entries {
		if e.Request.URL == "" || e.Request.Method == "" {
			return nil, fmt.Errorf("request %d of the file has no address or no method", i+1)
		}
		n, known := at[e.Page]
		if !known {
			n = len(out)
			at[e.Page] = n
			out = append(out, Recording{Title: e.Request.URL, Began: e.Started})
		}
		out[n].Requests = append(out[n].Requests, request(e, out[n].Began))
	}
	return slices.DeleteFunc(out, func(r Recording) bool { return len(r.Requests) == 0 }), nil
}

func request(e harEntry, began time.Time) Fetch {
	start := float64(e.Started.Sub(began).Microseconds()) / 1000
	r := Fetch{URL: e.Request.URL, Method: e.Request.Method, Kind: kind(e), Status: max(0, e.Response.Status), Type: e.Response.Content.Type, Protocol: e.Response.Version, Started: start,
		Ended: start + max(0, e.Time), Content: max(0, e.Response.Content.Size), Failed: e.Response.Failed, Blocking: e.Blocking, Cached: e.Kept != ""}
	waited := 0.0
	for _, v := range []float64{e.Timings.Blocked, e.Timings.Send, e.Timings.Wait} {
		waited += max(0, v)
	}
	if e.Time > 0 {
		r.Answered = start + max(0, e.Time-max(0, e.Timings.Receive))
	} else if waited > 0 {
		r.Answered = start + waited
	}
	switch {
	case e.Response.Transferred != nil:
		r.Transferred = int(min(max(0, *e.Response.Transferred), math.MaxInt32))
	default:
		r.Transferred = max(0, e.Response.Head) + max(0, e.Response.Body)
	}
	if e.From != nil && e.From.Type == "script" {
		r.From = e.From.URL
	}
	return r
}

// kind is what was asked for: as the browser says, else by the type of the answer.
func kind(e harEntry) string {
	switch e.Kind {
	case "document", "script", "stylesheet", "image", "font", "fetch", "other":
		return e.Kind
	case "xhr":
		return "fetch"
	}
	t := e.Response.Content.Type
	for _, k := range []struct{ part, kind string }{{"html", "document"}, {"javascript", "script"}, {"ecmascript", "script"}, {"css", "stylesheet"}, {"image/", "image"}, {"font", "font"}, {"json", "fetch"}} {
		if strings.Contains(t, k.part) {
			return k.kind
		}
	}
	return "other"
}
