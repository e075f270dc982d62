package browser

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/proxy"

	"tidemarker/internal/core/site"
)

// through connects by way of a gate with the client of golang.org/x/net, which speaks RFC 1928 by itself.
func through(t *testing.T, g *gate, address string) (net.Conn, error) {
	t.Helper()
	d, err := proxy.SOCKS5("tcp", g.listener.Addr().String(), nil, proxy.Direct)
	require.NoError(t, err)
	return d.(proxy.ContextDialer).DialContext(t.Context(), "tcp", address)
}

func TestAGateLeadsToTheSiteAlone(t *testing.T) {
	own := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "the site, as "+r.Host) }))
	t.Cleanup(own.Close)
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { t.Error("somebody came") }))
	t.Cleanup(other.Close)
	at, err := url.Parse(own.URL)
	require.NoError(t, err)
	port := at.Port()
	g, err := openGate(site.Environment{Name: "staging", URL: own.URL, Hosts: []string{"localhost:" + port, "metadata.example", "[::1]"}})
	require.NoError(t, err)
	defer g.close()
	client := http.Client{Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(_ context.Context, _, address string) (net.Conn, error) { return through(t, g, address) }}}
	for _, a := range []string{own.URL, "http://localhost:" + port} {
		res, err := client.Get(a)
		require.NoError(t, err, a)
		raw, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		_ = res.Body.Close()
		assert.Equal(t, "the site, as "+strings.TrimPrefix(a, "http://"), string(raw))
	}
	for _, a := range []string{other.Listener.Addr().String(), "127.0.0.1:1", "localhost:80", "other.example:80", "[::1]:9"} {
		_, err := through(t, g, a)
		require.ErrorContains(t, err, "not allowed", a)
	}

	c, err := net.Dial("tcp", g.listener.Addr().String())
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Write([]byte("GET / HTTP/1.1\r\n\r\n"))
	require.NoError(t, err)
	raw, _ := io.ReadAll(c)
	assert.Empty(t, raw, "who speaks something else is not answered")
	bind, err := net.Dial("tcp", g.listener.Addr().String())
	require.NoError(t, err)
	defer bind.Close()
	_, err = bind.Write([]byte{5, 1, 0, 5, 2, 0, 1, 127, 0, 0, 1, 0, 80})
	require.NoError(t, err)
	raw, _ = io.ReadAll(bind)
	require.Len(t, raw, 12)
	assert.EqualValues(t, socksNoCommand, raw[3], "nobody listens here for others")
}

func TestAGateThatIsClosedCutsWhatGoesThroughIt(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	g, err := openGate(site.Environment{Name: "staging", URL: "http://" + l.Addr().String()})
	require.NoError(t, err)
	c, err := through(t, g, l.Addr().String())
	require.NoError(t, err)
	g.close()
	require.NoError(t, c.SetReadDeadline(time.Now().Add(10*time.Second)))
	_, err = io.ReadAll(c)
	assert.NotErrorIs(t, err, os.ErrDeadlineExceeded, "it was cut, by an end or a reset")
	_, err = through(t, g, l.Addr().String())
	require.Error(t, err)
}
