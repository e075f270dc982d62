package connector

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"strings"
	"time"

	"tidemarker/internal/core/settings"
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
			Timeout:       timeout,
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		},
	}
}

// About is who answers, and what the host can do.
type About struct {
	Protocol    string    `json:"protocol"`
	Site        string    `json:"site"`
	Environment string    `json:"environment"`
	Software    string    `json:"software,omitempty"`
	Features    []string  `json:"features"`
	Facts       HostFacts `json:"facts"`
}

// HostFacts is what the host offers.
type HostFacts struct {
	Hosting         string               `json:"hosting,omitempty"`
	HTTPVersion     string               `json:"httpVersion,omitempty"`
	MemoryStore     bool                 `json:"memoryStore"`
	RewriteRules    bool                 `json:"rewriteRules"`
	Gzip            bool                 `json:"gzip"`
	Brotli          bool                 `json:"brotli"`
	OtherOptimisers []settings.Optimiser `json:"otherOptimisers,omitempty"`
}

// Host is what the facts mean for settings, by the names that their needs use.
func (f HostFacts) Host() settings.Host {
	return settings.Host{Facts: settings.Facts{
		"memoryStore": f.MemoryStore, "rewriteRules": f.RewriteRules, "gzip": f.Gzip, "brotli": f.Brotli,
		"http2":     f.HTTPVersion == "2" || f.HTTPVersion == "3",
		"notShared": f.Hosting == "virtual" || f.Hosting == "dedicated",
	}, Others: f.OtherOptimisers}
}

// Has tells whether the connector offers a feature: purge, purge-urls, warm, status.
func (a About) Has(feature string) bool {
	for _, f := range a.Features {
		if f == feature {
			return true
		}
	}
	return false
}

// Settings are the values in force and the entity tag that a write must give back.
type Settings struct {
	Values settings.Values
	ETag   string
}

// Warming is how far a warm-up has come.
type Warming struct {
	ID     string `json:"id"`
	State  string `json:"state"` // running, done, failed
	Total  int    `json:"total"`
	Done   int    `json:"done"`
	Failed int    `json:"failed"`
}

// Status is what the page cache holds now.
type Status struct {
	Entries int   `json:"entries"`
	Fresh   int   `json:"fresh"`
	Stale   int   `json:"stale"`
	Bytes   int64 `json:"bytes"`
}

// About asks who answers. It needs no token.
func (c *Client) About(ctx context.Context) (About, error) {
	var a About
	if _, err := c.call(ctx, http.MethodGet, "/about", "", nil, &a); err != nil {
		return About{}, err
	}
	if a.Protocol != "1" {
		return About{}, &NotAConnector{c.base, "GET /about", fmt.Sprintf("it speaks protocol %q, and only \"1\" is understood", a.Protocol)}
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
		return settings.Catalogue{}, &NotAConnector{c.base, "GET /catalogue", err.Error()}
	}
	return cat, nil
}

type wireSettings struct {
	Values settings.Values `json:"values"`
}

// Settings reads the values in force.
func (c *Client) Settings(ctx context.Context) (Settings, error) {
	var in wireSettings
	h, err := c.call(ctx, http.MethodGet, "/settings", "", nil, &in)
	if err != nil {
		return Settings{}, err
	}
	return c.settingsFrom("GET /settings", in, h)
}

func (c *Client) settingsFrom(call string, in wireSettings, h http.Header) (Settings, error) {
	switch {
	case in.Values == nil:
		return Settings{}, &NotAConnector{c.base, call, "the answer has no values"}
	case h.Get("ETag") == "":
		return Settings{}, &NotAConnector{c.base, call, "the answer has no ETag, without which nothing can be changed safely"}
	}
	return Settings{in.Values, h.Get("ETag")}, nil
}

// Apply replaces all values at once, on condition that the settings still are those
// that had this entity tag, and returns what is then in force. When the connection is
// lost the settings are read back and decide: in force, or not applied, or changed
// elsewhere. Only when that fails too is it [Uncertain].
func (c *Client) Apply(ctx context.Context, v settings.Values, ifMatch string) (Settings, error) {
	var in wireSettings
	h, err := c.call(ctx, http.MethodPut, "/settings", ifMatch, wireSettings{v}, &in)
	if err == nil {
		s, err := c.settingsFrom("PUT /settings", in, h)
		if err == nil {
			return s, nil
		}
		return c.afterLoss(ctx, v, ifMatch, err)
	}
	if lost, ok := errors.AsType[*Unreachable](err); ok {
		return c.afterLoss(ctx, v, ifMatch, lost)
	}
	if odd, ok := errors.AsType[*NotAConnector](err); ok {
		return c.afterLoss(ctx, v, ifMatch, odd)
	}
	return Settings{}, err
}

func (c *Client) afterLoss(ctx context.Context, v settings.Values, ifMatch string, cause error) (Settings, error) {
	now, err := c.Settings(ctx)
	if err != nil {
		return Settings{}, &Uncertain{c.base, errors.Join(cause, err)}
	}
	switch {
	case len(settings.Diff(v, now.Values)) == 0:
		return now, nil
	case now.ETag == ifMatch:
		return Settings{}, cause
	}
	return Settings{}, &ChangedElsewhere{c.base}
}

// PurgeAll drops every cached page and says how many there were.
func (c *Client) PurgeAll(ctx context.Context) (int, error) {
	return c.purge(ctx, map[string]any{"scope": "all", "mode": "drop"})
}

// Purge drops the cached copies of these addresses and says how many there were.
func (c *Client) Purge(ctx context.Context, urls []string) (int, error) {
	return c.purge(ctx, map[string]any{"scope": "urls", "urls": urls, "mode": "drop"})
}

// Stale marks cached pages stale in place of dropping them, those of these addresses or
// all when there are none, and says how many there were.
func (c *Client) Stale(ctx context.Context, urls []string) (int, error) {
	if len(urls) == 0 {
		return c.purge(ctx, map[string]any{"scope": "all", "mode": "stale"})
	}
	return c.purge(ctx, map[string]any{"scope": "urls", "urls": urls, "mode": "stale"})
}

func (c *Client) purge(ctx context.Context, body any) (int, error) {
	var out struct {
		Purged int `json:"purged"`
	}
	_, err := c.call(ctx, http.MethodPost, "/purge", "", body, &out)
	return out.Purged, err
}

// Warm starts fetching pages into the page cache.
func (c *Client) Warm(ctx context.Context, urls []string) (Warming, error) {
	var w Warming
	_, err := c.call(ctx, http.MethodPost, "/warm", "", map[string]any{"urls": urls, "devices": []string{"desktop", "phone"}}, &w)
	return w, err
}

// Warming says how far a warm-up has come.
func (c *Client) Warming(ctx context.Context, id string) (Warming, error) {
	var w Warming
	_, err := c.call(ctx, http.MethodGet, "/warm/"+id, "", nil, &w)
	return w, err
}

// Status says what the page cache holds.
func (c *Client) Status(ctx context.Context) (Status, error) {
	var s Status
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
		return nil, &NotAConnector{c.base, call, "the address is not usable: " + err.Error()}
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
	res, err := c.http.Do(req)
	if err != nil {
		return nil, &Unreachable{c.base, call, err}
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, answerLimit+1))
	if err != nil {
		return nil, &Unreachable{c.base, call, err}
	}
	if len(raw) > answerLimit {
		return nil, &NotAConnector{c.base, call, "the answer is larger than 16 MiB"}
	}
	if err := c.refusal(call, res, raw); err != nil {
		return nil, err
	}
	if kind, _, _ := mime.ParseMediaType(res.Header.Get("Content-Type")); kind != "application/json" {
		return nil, &NotAConnector{c.base, call, fmt.Sprintf("the answer is %s, not JSON", orNothing(kind))}
	}
	if err := json.Unmarshal(raw, into); err != nil {
		return nil, &NotAConnector{c.base, call, "the answer is not the JSON that the protocol describes: " + err.Error()}
	}
	return res.Header, nil
}

func (c *Client) refusal(call string, res *http.Response, raw []byte) error {
	switch s := res.StatusCode; {
	case s >= 200 && s < 300:
		return nil
	case s == http.StatusUnauthorized || s == http.StatusForbidden:
		return &Unauthorised{c.base, s}
	case s == http.StatusPreconditionFailed:
		return &ChangedElsewhere{c.base}
	case s == http.StatusUnprocessableEntity:
		var p struct {
			Title  string            `json:"title"`
			Detail string            `json:"detail"`
			Errors settings.Refusals `json:"errors"`
		}
		if json.Unmarshal(raw, &p) != nil {
			return &NotAConnector{c.base, call, "a refusal (422) without problem details"}
		}
		if p.Detail == "" {
			p.Detail = p.Title
		}
		return &Refused{c.base, p.Detail, p.Errors}
	case s >= 500 || s == http.StatusTooManyRequests:
		return &Unreachable{c.base, call, fmt.Errorf("status %d", s)}
	case s >= 300 && s < 400:
		return &NotAConnector{c.base, call, fmt.Sprintf("it redirects (status %d); redirects are not followed", s)}
	default:
		return &NotAConnector{c.base, call, fmt.Sprintf("status %d", s)}
	}
}

func orNothing(kind string) string {
	if kind == "" {
		return "of no stated type"
	}
	return kind
}
