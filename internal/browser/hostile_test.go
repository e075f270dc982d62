package browser

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/site"
)

// hostile serves one page at / and beside it what it asks for.
func hostile(t *testing.T, body string, beside map[string]http.HandlerFunc) site.Environment {
	t.Helper()
	mux := http.NewServeMux()
	mux.HandleFunc("/{$}", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = w.Write([]byte("<!doctype html><meta name=viewport content='width=device-width'><h1>Here</h1>" + body))
	})
	for path, h := range beside {
		mux.HandleFunc(path, h)
	}
	s := httptest.NewServer(mux)
	t.Cleanup(func() { s.CloseClientConnections(); s.Close() })
	return site.Environment{Name: "staging", URL: s.URL}
}

// picture is a PNG of one colour: small to send, and large once it is drawn.
func picture(t *testing.T, side int) []byte {
	t.Helper()
	var raw bytes.Buffer
	require.NoError(t, png.Encode(&raw, image.NewPaletted(image.Rect(0, 0, side, side), color.Palette{color.Black})))
	return raw.Bytes()
}

// memory is what a browser's processes hold by themselves, in bytes.
func memory(b *Browser) (total int64) {
	for _, pid := range append(descendants(b.launch.PID()), b.launch.PID()) {
		raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
		if fields := strings.Fields(string(raw)); len(fields) > 2 {
			resident, _ := strconv.ParseInt(fields[1], 10, 64)
			shared, _ := strconv.ParseInt(fields[2], 10, 64)
			total += (resident - shared) * int64(os.Getpagesize())
		}
	}
	return total
}

// TestFaultsOfPagesThatMeanHarm looks at pages that would eat a machine or reach what is not theirs. Each look ends within the time that
// looks may take, says what came of it, and leaves a browser that goes on.
func TestFaultsOfPagesThatMeanHarm(t *testing.T) {
	const most, heap = 40 * time.Second, 1600 << 20 // the browser by itself has some 300 MB of it
	var outside atomic.Int64                        // connections to what is nobody's site
	stranger, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = stranger.Close() })
	go func() {
		for {
			c, err := stranger.Accept()
			if err != nil {
				return
			}
			outside.Add(1)
			_ = c.Close()
		}
	}()
	udp, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = udp.Close() })
	go func() {
		buf := make([]byte, 2048)
		for {
			if _, _, err := udp.ReadFrom(buf); err != nil {
				return
			}
			outside.Add(1)
		}
	}()
	at, local := stranger.Addr().String(), udp.LocalAddr().String()
	large := bytes.Repeat([]byte("<p>much</p>"), 1<<20)
	var gzipped bytes.Buffer
	z := gzip.NewWriter(&gzipped)
	for range 30 {
		_, _ = z.Write(large)
	}
	require.NoError(t, z.Close())
	send := func(mediaType string, raw []byte) http.HandlerFunc {
		return func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", mediaType)
			_, _ = w.Write(raw)
		}
	}
	for name, tc := range map[string]struct {
		body   string
		beside map[string]http.HandlerFunc
		says   string // why it cannot be looked at, as a pattern; "" when it can
	}{
		"memory":              {body: `<script>const all = []; const eat = () => { for (let i = 0; i < 64; i++) all.push(new Uint8Array(8 << 20).fill(i)); setTimeout(eat) }; eat()</script>`, says: "^$|crashed its tab|did not answer in time"},
		"processor":           {body: `<script>for (;;) {}</script>`, says: "did not answer in time"},
		"dialogs":             {body: `<script>for (let i = 0; i < 1e6; i++) alert(i)</script>`, says: "more than 100 dialogs"},
		"asks before it goes": {body: `<script>onbeforeunload = e => { e.preventDefault(); return "stay" }; print(); prompt("who?"); confirm("sure?")</script>`},
		"redirects": {body: `<script>location = "/on"</script>`, beside: map[string]http.HandlerFunc{"/on": func(w http.ResponseWriter, r *http.Request) {
			n, _ := strconv.Atoi(r.FormValue("n"))
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprintf(w, `<script>location = "/on?n=%d"</script>`, n+1)
		}}, says: "more than 200 times|did not answer in time"},
		"200 MB": {body: `<iframe src="/much"></iframe>`, beside: map[string]http.HandlerFunc{"/much": func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			for range 18 {
				if _, err := w.Write(large); err != nil {
					return
				}
			}
		}}, says: "more than 150 MB|did not answer in time"},
		"a body that unpacks": {body: `<iframe src="/packed"></iframe>`, beside: map[string]http.HandlerFunc{"/packed": func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			w.Header().Set("Content-Encoding", "gzip")
			_, _ = w.Write(gzipped.Bytes())
		}}, says: "more than 150 MB|did not answer in time"},
		"console lines":    {body: `<script>for (let i = 0; i < 100000; i++) console.log("line " + i); for (let i = 0; i < 5000; i++) setTimeout(() => { throw new Error("e" + i) })</script>`, says: "more than 20,000 lines|did not answer in time"},
		"a million pixels": {body: `<div style="height: 1000000px; background: linear-gradient(red, blue)"></div>`},
		"a picture bomb":   {body: `<img src="/bomb.png" width="100"><img src="/bomb.png?2">`, beside: map[string]http.HandlerFunc{"/bomb.png": send("image/png", picture(t, 16000))}, says: "^$|crashed its tab|did not answer in time"},
		"downloads":        {body: `<a download href="/file.bin" id=d>d</a><script>for (let i = 0; i < 50; i++) document.getElementById("d").click()</script>`, beside: map[string]http.HandlerFunc{"/file.bin": send("application/octet-stream", large)}},
		"windows":          {body: `<script>for (let i = 0; i < 200; i++) open("/", "w" + i)</script>`},
		"WebSocket":        {body: fmt.Sprintf(`<script>for (const a of ["ws://%[1]s/", "wss://%[1]s/"]) try { new WebSocket(a) } catch {}</script>`, at)},
		"WebTransport":     {body: fmt.Sprintf(`<script>try { new WebTransport("https://%s/") } catch {}</script>`, local)},
		"WebRTC":           {body: fmt.Sprintf(`<script>const p = new RTCPeerConnection({iceServers: [{urls: "stun:%[1]s"}, {urls: "turn:%[2]s?transport=tcp", username: "a", credential: "b"}]}); p.createDataChannel("x"); p.createOffer().then(o => p.setLocalDescription(o))</script>`, local, at)},
		"hints":            {body: fmt.Sprintf(`<link rel="preconnect" href="http://%[1]s"><link rel="dns-prefetch" href="http://%[1]s"><link rel="preload" as="script" href="http://%[1]s/a.js"><link rel="prefetch" href="http://%[1]s/p"><script type="speculationrules">{"prerender": [{"source": "list", "urls": ["http://%[1]s/s"]}]}</script>`, at)},
		"navigations":      {body: fmt.Sprintf(`<iframe src="file:///etc/passwd"></iframe><iframe src="http://%[1]s/"></iframe><iframe src="chrome://version"></iframe><form method=post action="http://%[1]s/" id=f></form><script>f.submit(); navigator.sendBeacon("http://%[1]s/b", "x"); fetch("http://%[1]s/c", {keepalive: true, mode: "no-cors"}).catch(() => {})</script>`, at)},
		"goes to a file":   {body: `<script>location = "file:///etc/passwd"</script>`},
	} {
		t.Run(name, func(t *testing.T) {
			within := 8 * time.Second
			if strings.Contains(tc.says, "did not answer") { // it is waited for in vain, twice
				within = 3 * time.Second
			}
			b, err := Start(Options{Tabs: 1, Timeout: within})
			require.NoError(t, err)
			defer b.Close()
			outside.Store(0)
			held := atomic.Int64{}
			done := make(chan struct{})
			watching := make(chan struct{})
			go func() {
				defer close(watching)
				for tick := time.NewTicker(100 * time.Millisecond); ; {
					select {
					case <-done:
						tick.Stop()
						return
					case <-tick.C:
						held.Store(max(held.Load(), memory(b)))
					}
				}
			}()
			began := time.Now()
			env := hostile(t, tc.body, tc.beside)
			l, err := b.Look(t.Context(), env, site.PageTask{Page: site.Page{Path: "/", Class: "other"}, Persona: "visitor", Device: site.Desktop}, State{}, httpcache.NewReader(httpcache.Signal{}), keepNothing, nil)
			took := time.Since(began)
			close(done)
			<-watching
			require.NoError(t, err, "a page's harm is a finding about the page")
			t.Logf("took %s, %d MB; missing %q; %d errors, %d console lines, %d requests", took.Round(100*time.Millisecond), held.Load()>>20, l.Missing, len(l.Errors), len(l.Console), len(l.Requests))
			assert.Less(t, took, most)
			assert.Less(t, held.Load(), int64(heap))
			if tc.says == "" {
				assert.Empty(t, l.Missing)
			} else {
				assert.Regexp(t, tc.says, l.Missing)
			}
			assert.Zero(t, outside.Load(), "what is not the site's was reached")
			assert.LessOrEqual(t, len(l.Console), 200)
			assert.NotContains(t, l.Address, "file:")

			well, _ := pages(t, map[string]string{"/": "<h1>Well</h1>"})
			after, err := b.Look(t.Context(), well, site.PageTask{Page: site.Page{Path: "/"}, Persona: "visitor", Device: site.Desktop}, State{}, httpcache.NewReader(httpcache.Signal{}), keepNothing, nil)
			require.NoError(t, err)
			assert.Empty(t, after.Missing, "the next look is none the worse for it: %s", after.Missing)
		})
	}
}
