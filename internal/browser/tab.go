package browser

import (
	"context"
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/waterfall"
)

//go:embed js/start.js
var startJS string

// State is what makes a browser a persona's: cookies, and what pages stored.
type State struct {
	Cookies []*proto.NetworkCookieParam
	Storage map[string]Stored // by origin
	Canary  string            // the word that was made up while somebody was made ready, "" for none
}

// Stored is what pages of one origin have stored in a browser, key by key.
type Stored struct {
	Local   map[string]string `json:"local"`
	Session map[string]string `json:"session"` // of the tab
}

// Personal are the names of the cookies by which a site knows this person: those that
// scripts cannot read, as sessions are kept (common practice), or those with long values
// where there are none.
func (s State) Personal() []string {
	var hidden, long []string
	for _, c := range s.Cookies {
		if c.HTTPOnly {
			hidden = append(hidden, c.Name)
		} else if len(c.Value) >= 16 {
			long = append(long, c.Name)
		}
	}
	if len(hidden) > 0 {
		return hidden
	}
	return long
}

// names are the names of the cookies, each once, in order. Their values stay here.
func (s State) names() []string {
	var out []string
	for _, c := range s.Cookies {
		out = append(out, c.Name)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// tab is one open tab in a private context of its own, and what it has seen.
type tab struct {
	page    *rod.Page
	private *private
	env     site.Environment
	dev     device
	cancel  context.CancelFunc
	stays   bool // the context outlives the tab
	telling bool // what was filled in last may be told
	outbox  *deliveries

	mu        sync.Mutex
	requests  []evidence.Request
	byID      map[proto.NetworkRequestID]int
	inFlight  map[proto.NetworkRequestID]*pending
	begun     int                             // requests
	stopped   map[proto.NetworkRequestID]bool // not sent: another host's
	carried   map[string]carried              // what the browser has from earlier, by address
	had       map[proto.NetworkRequestID]bool // answered from that
	keeping   *keeping                        // nil unless what the browser keeps is noted
	changed   time.Time                       // when a request last began or ended
	errors    []evidence.ScriptError
	console   []string
	measuring *Profile // nothing is held back: what comes when is what is asked for
	meter     *meter   // nil unless it is measured
	slowest   reaction // the slowest to an input, when that is measured
	document  docResponse
	frame     proto.PageFrameID
	read      bool           // the document, to its end
	expired   chan struct{}  // closed when the span that the page's clock was given has ended
	pictures  chan struct{}  // closed when pictures may be answered; nil when they are not held back
	lifted    chan struct{}  // closed when the finger or button that is down is up again
	troubles  []string       // what the browser could not do for us
	spent     evidence.Spent // by whoever looks, one step after the other
	crashed   chan struct{}
	harm      error // why the tab was given up
	sentBytes int   // what its pages were sent, unpacked
	lines     int   // that they wrote to the console
	dialogs   int   // that they opened
	documents int   // that they went on to
}

const (
	manyRequests = 2000
	manyErrors   = 50
)

// open makes a private context with one tab, as a device and with a persona's state.
func (b *Browser) open(ctx context.Context, env site.Environment, deviceName string, state State) (*tab, error) {
	dev, known := devices[deviceName]
	if !known {
		return nil, fmt.Errorf("there is no device %q", deviceName)
	}
	private, err := b.context(env)
	if err != nil {
		return nil, err
	}
	t, err := openIn(ctx, private, env, dev, state, false)
	if err != nil {
		private.dispose()
		return nil, err
	}
	return t, nil
}

// openIn opens a tab in a private context. One that stays is a person's browser, which
// keeps what pages gave it, service workers too.
func openIn(ctx context.Context, private *private, env site.Environment, dev device, state State, stays bool) (*tab, error) {
	tabCtx, cancel := context.WithCancel(ctx)
	page, err := private.Context(tabCtx).Page(proto.TargetCreateTarget{URL: "about:blank"})
	if err != nil {
		cancel()
		return nil, fmt.Errorf("open a tab: %w", err)
	}
	t := &tab{page: page.Context(tabCtx), private: private, env: env, dev: dev, cancel: cancel,
		byID: map[proto.NetworkRequestID]int{}, inFlight: map[proto.NetworkRequestID]*pending{}, stopped: map[proto.NetworkRequestID]bool{}, had: map[proto.NetworkRequestID]bool{}, changed: time.Now(),
		frame: page.FrameID, lifted: make(chan struct{}), crashed: make(chan struct{})}
	close(t.lifted)
	t.listen()
	t.stays = stays
	if err := t.setUp(state); err != nil {
		t.close()
		return nil, fmt.Errorf("set up a tab: %w", err)
	}
	return t, nil
}

// close closes the tab, and its context unless that stays.
func (t *tab) close() {
	if t.stays {
		_, _ = proto.TargetCloseTarget{TargetID: t.page.TargetID}.Call(t.private.Timeout(5 * time.Second))
		t.cancel()
		return
	}
	t.cancel()
	t.private.dispose()
}

func (t *tab) setUp(state State) error {
	p := t.page
	calls := []func() error{
		func() error { m := t.dev.metrics(); return m.Call(p) },
		func() error {
			return proto.NetworkSetUserAgentOverride{UserAgent: t.dev.agent, AcceptLanguage: "en-GB"}.Call(p)
		},
		func() error {
			points := 1
			return proto.EmulationSetTouchEmulationEnabled{Enabled: t.dev.touch, MaxTouchPoints: &points}.Call(p)
		},
		func() error { return proto.EmulationSetTimezoneOverride{TimezoneID: "UTC"}.Call(p) },
		func() error { return proto.NetworkSetBypassServiceWorker{Bypass: !t.stays}.Call(p) },
		func() error { return proto.PageSetLifecycleEventsEnabled{Enabled: true}.Call(p) },
		func() error {
			_, err := proto.PageAddScriptToEvaluateOnNewDocument{Source: startJS + storageJS(state)}.Call(p)
			return err
		},
		func() error {
			return proto.FetchEnable{Patterns: []*proto.FetchRequestPattern{{URLPattern: "*"}}}.Call(p)
		},
		func() error {
			if len(state.Cookies) == 0 {
				return nil
			}
			return proto.StorageSetCookies{Cookies: state.Cookies, BrowserContextID: t.private.BrowserContextID}.Call(t.private)
		},
	}
	for _, call := range calls {
		if err := call(); err != nil {
			return err
		}
	}
	return nil
}

// listen notes what the tab does, until it is closed. Long because it is a list: one event after the other.
func (t *tab) listen() {
	wait := t.page.EachEvent(
		t.paused,
		t.sent,
		t.answered,
		t.fromMemory,
		func(e *proto.NetworkLoadingFinished) {
			t.ended(e.RequestID, int(e.EncodedDataLength), "")
			t.metered().ended(e.RequestID, e.Timestamp, int(e.EncodedDataLength), "")
		},
		func(e *proto.NetworkDataReceived) {
			t.metered().of(e.RequestID, func(r *waterfall.Fetch) { r.Content += e.DataLength })
			t.received(e.RequestID)
			t.tooMuch(&t.sentBytes, e.DataLength, mostSent, "was sent more than 150 MB")
		},
		func(e *proto.PageScreencastFrame) {
			t.metered().filmed(e)
			go func() { _ = proto.PageScreencastFrameAck{SessionID: e.SessionID}.Call(t.page) }()
		},
		t.reacted,
		func(e *proto.NetworkLoadingFailed) {
			why := e.ErrorText
			if e.Canceled {
				why = "" // given up by the page itself
			}
			if e.BlockedReason == proto.NetworkBlockedReasonInspector {
				why = ""
			}
			why = t.explainFailure(e.RequestID, why)
			t.ended(e.RequestID, 0, why)
			t.metered().ended(e.RequestID, e.Timestamp, 0, why)
		},
		func(e *proto.RuntimeExceptionThrown) { t.threw(e.ExceptionDetails) },
		t.logged,
		func(e *proto.PageLifecycleEvent) {
			if e.FrameID == t.frame && (e.Name == "DOMContentLoaded" || e.Name == "load") {
				t.mu.Lock()
				t.read = true
				t.mu.Unlock()
			}
		},
		func(e *proto.PageJavascriptDialogOpening) {
			t.tooMuch(&t.dialogs, 1, mostDialogs, "opened more than 100 dialogs")
			go func() { _ = proto.PageHandleJavaScriptDialog{Accept: false}.Call(t.page) }()
		},
		func(e *proto.EmulationVirtualTimeBudgetExpired) {
			t.mu.Lock()
			defer t.mu.Unlock()
			if t.expired != nil {
				close(t.expired)
				t.expired = nil
			}
		},
		func(e *proto.InspectorTargetCrashed) bool { close(t.crashed); return true },
	)
	go wait()
	// Another tab that a page opened all the same is closed at once.
	others := t.private.Context(t.page.GetContext()).EachEvent(func(e *proto.TargetTargetCreated) {
		if e.TargetInfo.OpenerID == t.page.TargetID {
			go func() { _, _ = proto.TargetCloseTarget{TargetID: e.TargetInfo.TargetID}.Call(t.private) }()
		}
	})
	go others()
}

// clip bounds what a page can make us keep.
func clip(s string) string {
	if len(s) > 2000 {
		return strings.ToValidUTF8(s[:2000], "") + "…"
	}
	return strings.ReplaceAll(strings.ToValidUTF8(s, "�"), "\x00", "�")
}

// navigate opens a path and waits until the page is quiet.
func (t *tab) navigate(path string) error {
	if err := t.request(path); err != nil {
		return err
	}
	return t.quiet(quietLimit)
}

// request opens a path; the page has only begun to come then.
func (t *tab) request(path string) error {
	address := t.env.Address(path)
	u, err := url.Parse(address)
	if err != nil || !t.env.Owns(u) {
		return fmt.Errorf("%s is not on one of the site's hosts", address)
	}
	t.mu.Lock()
	t.document = docResponse{from: len(t.requests)}
	t.mu.Unlock()
	res, err := proto.PageNavigate{URL: address}.Call(t.page)
	if err == nil && res.ErrorText == "net::ERR_ABORTED" { // what was clicked before went on loading
		if err := t.quiet(quietLimit); err != nil {
			return err
		}
		res, err = proto.PageNavigate{URL: address}.Call(t.page)
	}
	if err != nil {
		return t.explain(err)
	}
	if byProxy(res.ErrorText) {
		f := t.wayTo(address)
		return fmt.Errorf("%s could not be opened: %s", address, f.why)
	}
	if res.ErrorText != "" && res.ErrorText != "net::ERR_HTTP_RESPONSE_CODE_FAILURE" {
		return fmt.Errorf("%s could not be opened: %s", address, res.ErrorText)
	}
	return nil
}

// How long nothing has to happen before a page counts as quiet, and how often that
// is looked at again from here; the page itself waits meanwhile.
const (
	quietFor  = 120 * time.Millisecond
	quietPoll = 25 * time.Millisecond
	// quietPatience is how long the page itself waits before it says how it stands.
	quietPatience = time.Second
	busyLimit     = 3 * time.Second // for pages that never stop changing or asking
	// quietLimit is how long a page may take to load.
	quietLimit = 30 * time.Second
)

// snapshot is what the tab has seen so far.
func (t *tab) snapshot() (reqs []evidence.Request, errs []evidence.ScriptError, console []string, doc docResponse) {
	t.mu.Lock()
	defer t.mu.Unlock()
	d := t.document
	d.headers = maps.Clone(d.headers)
	return slices.Clone(t.requests), slices.Clone(t.errors), slices.Clone(t.console), d
}

// storageGiven is the key by which a tab knows that it has been given what its persona had
// stored: pages that drop it later, as on signing out, find it gone.
const storageGiven = "tide-marker-look"

func storageJS(state State) string {
	if len(state.Storage) == 0 {
		return ""
	}
	raw, err := json.Marshal(state.Storage)
	if err != nil {
		panic(err) // plain data
	}
	return fmt.Sprintf(`
try {
	const had = JSON.parse(new TextDecoder().decode(Uint8Array.from(atob(%q), (c) => c.charCodeAt(0))))[location.origin];
	if (had && !sessionStorage.getItem(%q)) {
		for (const [k, v] of Object.entries(had.local)) localStorage.setItem(k, v);
		for (const [k, v] of Object.entries(had.session)) sessionStorage.setItem(k, v);
		sessionStorage.setItem(%[2]q, "given");
	}
} catch {}`, base64.StdEncoding.EncodeToString(raw), storageGiven)
}
