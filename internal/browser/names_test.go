package browser

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/site"
)

// hostsName is a name that the hosts file of this machine has for loopback beside localhost, "" when it has none.
func hostsName() string {
	raw, _ := os.ReadFile("/etc/hosts")
	for line := range strings.Lines(string(raw)) {
		line, _, _ = strings.Cut(line, "#")
		fields := strings.Fields(line)
		if len(fields) < 2 {
			continue
		}
		if ip, err := netip.ParseAddr(fields[0]); err != nil || !ip.IsLoopback() {
			continue
		}
		for _, name := range fields[1:] {
			if !strings.Contains(name, "localhost") {
				return name
			}
		}
	}
	return ""
}

// Names resolve as in a browser. What the site's own hosts do is told of the site; what only Tide Marker does not do is told of that.
func TestNamesResolveAsInABrowser(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, ".svg") {
			w.Header().Set("Content-Type", "image/svg+xml")
			_, _ = w.Write([]byte(`<svg xmlns="http://www.w3.org/2000/svg" width="30" height="30"/>`))
			return
		}
		w.Header().Set("Content-Type", "text/html")
		for _, host := range strings.Split(r.FormValue("hosts"), ",") {
			fmt.Fprintf(w, `<img src="http://%s/%s.svg">`, host, url.PathEscape(host))
		}
	}))
	t.Cleanup(s.Close)
	at, err := url.Parse(s.URL)
	require.NoError(t, err)
	port := at.Port()
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	nobody := closed.Addr().(*net.TCPAddr).Port
	require.NoError(t, closed.Close())

	type want struct{ failed, notAsked string }
	cases := map[string]want{
		"localhost:" + port:                 {},
		"a.localhost:" + port:               {},
		"A.B.LOCALHOST:" + port:             {},
		"localhost.:" + port:                {},
		"127.0.0.1:" + port:                 {},
		"no-such-name.invalid:" + port:      {failed: "there is no such name"}, // RFC 6761, section 6.4
		fmt.Sprintf("localhost:%d", nobody): {failed: "it refuses connections"},
		"169.254.169.254:" + port:           {notAsked: "Tide Marker does not connect to it"},
	}
	if name := hostsName(); name != "" {
		cases[name+":"+port] = want{notAsked: "its name leads to this machine itself"}
	}
	if six, err := net.Listen("tcp6", "[::1]:"+port); err == nil {
		server := http.Server{Handler: s.Config.Handler}
		go func() { _ = server.Serve(six) }()
		t.Cleanup(func() { _ = server.Close() })
		cases["[::1]:"+port] = want{}
	}
	env := site.Environment{Name: "staging", URL: s.URL}
	var hosts []string
	for host := range cases {
		env.Hosts, hosts = append(env.Hosts, host), append(hosts, host)
	}
	l := look(t, env, "/?hosts="+url.QueryEscape(strings.Join(hosts, ",")), site.Desktop, State{})
	require.Empty(t, l.Missing)
	requests := map[string]evidence.Request{}
	for _, r := range l.Requests {
		if u, err := url.Parse(r.URL); err == nil && r.Kind == "image" {
			requests[u.Host] = r
		}
	}
	for host, want := range cases {
		r, made := requests[strings.ToLower(host)]
		require.True(t, made, "%s in %v", host, requests)
		switch {
		case want.failed != "":
			assert.Equal(t, want.failed, r.Unreachable, host)
			assert.True(t, r.Broken(), "everybody meets it: %s", host)
		case want.notAsked != "":
			assert.Contains(t, r.Unreachable, want.notAsked, host)
			assert.True(t, r.Blocked && !r.Broken(), "it says nothing of the site: %s", host)
		default:
			assert.Equal(t, 200, r.Status, "%s: %s", host, r.Failed)
		}
		assert.NotContains(t, r.Failed, "SOCKS", host)
	}
	gone, err := shared.Look(t.Context(), site.Environment{URL: "http://no-such-name.invalid"}, site.PageTask{Page: site.Page{Path: "/"}, Persona: "visitor", Device: site.Desktop}, State{}, nil, keepNothing, nil)
	require.NoError(t, err)
	assert.Contains(t, gone.Missing, "there is no such name")
	require.Len(t, gone.Earlier, 1, "the first of two attempts is kept")
	assert.Contains(t, gone.Earlier[0].Why, "there is no such name")
}
