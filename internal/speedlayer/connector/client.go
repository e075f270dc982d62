package connector

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"net/http"
	"strconv"
	"strings"
	"time"

	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/reach"
	"tidemarker/internal/speedlayer"
	"tidemarker/internal/status"
)

// Client talks to the connector of one environment. It is safe for concurrent use.
type Client struct {
	base  string
	token string
	http  *http.Client
}

const (
	answerLimit    = 16 << 20
	defaultTimeout = 20 * time.Second
)

// way is how connectors are reached: with connections that are used again.
var way = reach.Transport()

// New returns a client for a base address such as http://127.0.0.1:9101/_speed/v1. A
// timeout of 0 means 20 seconds for each call. Redirects are not followed, so that
// the token reaches no other host.
func New(base, token string, timeout time.Duration) *Client {
	if timeout == 0 {
		timeout = defaultTimeout
	}
	return &Client{
		base:  strings.TrimSuffix(base, "/"),
		token: token,
		http: &http.Client{
			Transport:     way,
			Timeout:       timeout,
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		},
	}
}

// About asks who answers. It needs no token.
func (c *Client) About(ctx context.Context) (settings.About, error) {
	var a settings.About
	if _, err := c.call(ctx, http.MethodGet, "/about", "", nil, &a); err != nil {
		return settings.About{}, err
	}
	if a.Protocol != "1" {
		return settings.About{}, c.odd("GET /about", fmt.Sprintf("it speaks protocol %q, and only \"1\" is understood", a.Protocol))
	}
	return a, nil
}

// Catalogue reads every setting the speed layer has.
func (c *Client) Catalogue(ctx context.Context) (settings.Catalogue, error) {
	var raw json.RawMessage
	if _, err := c.call(ctx, http.MethodGet, "/catalogue", "", nil, &raw); err != nil {
		return settings.Catalogue{}, err
	}
	cat, err := settings.ParseCatalogue(raw)
	if err != nil {
		return settings.Catalogue{}, c.odd("GET /catalogue", err.Error())
	}
	return cat, nil
}

type wireSettings struct {
	Values settings.Values `json:"values"`
}

// Settings reads the values in force.
func (c *Client) Settings(ctx context.Context) (speedlayer.Settings, error) {
	var in wireSettings
	h, err := c.call(ctx, http.MethodGet, "/settings", "", nil, &in)
	if err != nil {
		return speedlayer.Settings{}, err
	}
	return c.settingsFrom("GET /settings", in, h)
}

func (c *Client) settingsFrom(call string, in wireSettings, h http.Header) (speedlayer.Settings, error) {
	switch {
	case in.Values == nil:
		return speedlayer.Settings{}, c.odd(call, "the answer has no values")
	case h.Get("ETag") == "":
		return speedlayer.Settings{}, c.odd(call, "the answer has no ETag, without which nothing can be changed safely")
	}
	return speedlayer.Settings{Values: in.Values, ETag: h.Get("ETag")}, nil
}

// Apply replaces all values at once, on condition that the settings still are those
// that had this entity tag. Unless the site confirms the write, the
// outcome is unknown, also after a refusal: a proxy may have sent the request twice. The caller reads the settings back.
func (c *Client) Apply(ctx context.Context, v settings.Values, ifMatch string) release.Outcome {
	var in wireSettings
	h, err := c.call(ctx, http.MethodPut, "/settings", ifMatch, wireSettings{v}, &in)
	if err == nil {
		if _, err = c.settingsFrom("PUT /settings", in, h); err == nil {
			return release.Applied()
		}
	}
	return release.Unknown(err)
}

// Purge removes pages from the cache, or marks them stale, and says how many copies
// there were.
func (c *Client) Purge(ctx context.Context, s speedlayer.Scope) (int, error) {
	body := map[string]any{"scope": "all", "mode": "drop"}
	if len(s.URLs) > 0 {
		body["scope"], body["urls"] = "urls", s.URLs
	}
	if s.Stale {
		body["mode"] = "stale"
	}
	var out struct {
		Purged int `json:"purged"`
	}
	_, err := c.call(ctx, http.MethodPost, "/purge", "", body, &out)
	return out.Purged, err
}

// Warm starts fetching pages into the page cache.
func (c *Client) Warm(ctx context.Context, urls []string) (speedlayer.Warming, error) {
	var w speedlayer.Warming
	_, err := c.call(ctx, http.MethodPost, "/warm", "", map[string]any{"urls": urls, "devices": []string{"desktop", "phone"}}, &w)
	return w, err
}

// Warming says how far a warm-up has come.
func (c *Client) Warming(ctx context.Context, id string) (speedlayer.Warming, error) {
	var w speedlayer.Warming
	_, err := c.call(ctx, http.MethodGet, "/warm/"+id, "", nil, &w)
	return w, err
}

// Status says what the page cache holds.
func (c *Client) Status(ctx context.Context) (speedlayer.Status, error) {
	var s speedlayer.Status
	_, err := c.call(ctx, http.MethodGet, "/status", "", nil, &s)
	return s, err
}

// call sends one request and decodes its answer. It turns everything that is not a
// proper answer into one of the package's errors.
func (c *Client) call(ctx context.Context, method, path, ifMatch string, body, into any) (http.Header, error) {
	call := method + " " + path
	var payload io.Reader
	if body != nil {
		raw, err := json.Marshal(body)
		if err != nil {
			return nil, fmt.Errorf("%s at %s: the body has no JSON form: %w", call, c.base, err)
		}
		payload = bytes.NewReader(raw)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, payload)
	if err != nil {
		return nil, c.odd(call, "the address is not usable: "+err.Error())
	}
	req.Header.Set("Accept", "application/json")
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if path != "/about" && c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	if ifMatch != "" {
		req.Header.Set("If-Match", ifMatch)
	}
	began, code := time.Now(), 0
	defer func() {
		status.ConnectorSeconds.WithLabelValues(kindOf(call), strconv.Itoa(code)).Observe(time.Since(began).Seconds())
	}()
	res, err := c.http.Do(req)
	if err != nil {
		return nil, c.silent(call, err)
	}
	defer res.Body.Close()
	code = res.StatusCode
	raw, err := io.ReadAll(io.LimitReader(res.Body, answerLimit+1))
	if err != nil {
		return nil, c.silent(call, err)
	}
	if len(raw) > answerLimit {
		return nil, c.odd(call, "the answer is larger than 16 MiB")
	}
	if err := c.refusal(call, res, raw); err != nil {
		return nil, err
	}
	if kind, _, _ := mime.ParseMediaType(res.Header.Get("Content-Type")); kind != "application/json" {
		return nil, c.odd(call, fmt.Sprintf("the answer is %s, not JSON", orNothing(kind)))
	}
	if err := json.Unmarshal(raw, into); err != nil {
		return nil, c.odd(call, "the answer is not the JSON that the protocol describes: "+err.Error())
	}
	return res.Header, nil
}

// kindOf is a call without what names a single warm-up.
func kindOf(call string) string {
	if strings.HasPrefix(call, "GET /warm/") {
		return "GET /warm"
	}
	return call
}

func (c *Client) refusal(call string, res *http.Response, raw []byte) error {
	switch s := res.StatusCode; {
	case s >= 200 && s < 300:
		return nil
	case s == http.StatusUnauthorized || s == http.StatusForbidden:
		return &speedlayer.Unauthorised{Base: c.base, Status: s}
	case s == http.StatusPreconditionFailed:
		return &speedlayer.ChangedElsewhere{Base: c.base}
	case s == http.StatusUnprocessableEntity:
		var p struct {
			Title  string            `json:"title"`
			Detail string            `json:"detail"`
			Errors settings.Refusals `json:"errors"`
		}
		if json.Unmarshal(raw, &p) != nil {
			return c.odd(call, "a refusal (422) without problem details")
		}
		if p.Detail == "" {
			p.Detail = p.Title
		}
		return &speedlayer.Refused{Base: c.base, Detail: p.Detail, Keys: p.Errors}
	case s >= 500 || s == http.StatusTooManyRequests:
		return &speedlayer.Unreachable{Base: c.base, Call: call, Cause: fmt.Errorf("status %d", s), Again: pause(res.Header.Get("Retry-After"), time.Now())}
	case s >= 300 && s < 400:
		return c.odd(call, fmt.Sprintf("it redirects (status %d); redirects are not followed", s))
	default:
		return c.odd(call, fmt.Sprintf("status %d", s))
	}
}

// pause is what a Retry-After says, in seconds or as a date (RFC 9110, section 10.2.3); 0 when it says nothing readable.
func pause(field string, now time.Time) time.Duration {
	if n, err := strconv.Atoi(strings.TrimSpace(field)); err == nil && n > 0 {
		return time.Duration(min(n, 86_400)) * time.Second
	}
	if at, err := http.ParseTime(field); err == nil && at.After(now) {
		return min(at.Sub(now), 24*time.Hour)
	}
	return 0
}

func orNothing(kind string) string {
	if kind == "" {
		return "of no stated type"
	}
	return kind
}

// Kind is the connector protocol as a kind of speed layer.
var Kind = speedlayer.Kind{
	Name: "http", Title: "through its connector", NeedsAddress: true,
	Able: func(a settings.About) speedlayer.Abilities {
		return speedlayer.Abilities{Reads: true, Applies: true, PurgesAll: a.Has("purge"), PurgesPages: a.Has("purge-urls"), Warms: a.Has("warm"), TellsStatus: a.Has("status")}
	},
	Open: func(p speedlayer.Place) (speedlayer.Layer, error) {
		token, err := p.RevealToken()
		if err != nil {
			return nil, err
		}
		return New(p.URL, token, 0), nil
	},
}

// odd says that what answered does not speak the protocol.
func (c *Client) odd(call, why string) error {
	return &speedlayer.NotAConnector{Base: c.base, Call: call, Why: why}
}

// silent says that no proper answer came.
func (c *Client) silent(call string, cause error) error {
	return &speedlayer.Unreachable{Base: c.base, Call: call, Cause: cause}
}
