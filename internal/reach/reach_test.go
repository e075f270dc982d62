package reach_test

import (
	"context"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/reach"
)

// Which addresses are which stands in the IANA special-purpose registries (RFC 6890) and in RFC 3927, 4291, 6761.
func TestWhichAddressesAreNobodysSite(t *testing.T) {
	for _, tc := range []struct {
		host, ip string
		may      bool
	}{
		{"shop.example", "203.0.113.9", true},
		{"shop.example", "2001:db8::1", true},
		{"staging.intern", "10.1.2.3", true}, // a staging site is often in a private network
		{"shop.example", "169.254.169.254", false},
		{"169.254.169.254", "169.254.169.254", false},
		{"shop.example", "::ffff:169.254.169.254", false},
		{"shop.example", "fe80::1", false},
		{"shop.example", "fd00:ec2::254", false},
		{"shop.example", "0.0.0.0", false},
		{"shop.example", "0.1.2.3", false},
		{"shop.example", "::", false},
		{"shop.example", "224.0.0.1", false},
		{"shop.example", "127.0.0.1", false},
		{"shop.example", "::ffff:127.0.0.1", false},
		{"shop.example", "::1", false},
		{"127.0.0.1", "127.0.0.1", true},
		{"localhost", "127.0.0.1", true},
		{"LOCALHOST.", "::1", true},
		{"shop.localhost", "::1", true},
		{"localhost.example", "127.0.0.1", false},
		{"[::1]", "::1", true},
	} {
		assert.Equal(t, tc.may, reach.Forbidden(tc.host, netip.MustParseAddr(tc.ip)) == "", "%s at %s", tc.host, tc.ip)
	}
}

// TestANameThatChangesItsAddressLeadsNowhereElse is DNS rebinding: the first answer is harmless, the next one is this machine.
func TestANameThatChangesItsAddressLeadsNowhereElse(t *testing.T) {
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("the site")) }))
	t.Cleanup(site.Close)
	port := site.URL[strings.LastIndex(site.URL, ":"):]
	asked := atomic.Int64{}
	answers := map[string][]netip.Addr{"one.localhost": {netip.MustParseAddr("127.0.0.1")}}
	d := &reach.Dialer{Lookup: func(context.Context, string) ([]netip.Addr, error) {
		if asked.Add(1) == 1 {
			return answers["one.localhost"], nil
		}
		return []netip.Addr{netip.MustParseAddr("169.254.169.254")}, nil
	}}
	for range 3 {
		c, err := d.DialContext(t.Context(), "tcp", "one.localhost"+port)
		require.NoError(t, err)
		assert.Equal(t, "127.0.0.1", c.RemoteAddr().(*net.TCPAddr).IP.String())
		require.NoError(t, c.Close())
	}
	assert.EqualValues(t, 1, asked.Load(), "it is asked for once")
	_, err := d.DialContext(t.Context(), "tcp", "two.example:80")
	require.ErrorAs(t, err, new(*reach.Refused), "another name with such an address")

	mixed := &reach.Dialer{Lookup: func(context.Context, string) ([]netip.Addr, error) {
		return []netip.Addr{netip.MustParseAddr("203.0.113.9"), netip.MustParseAddr("127.0.0.1")}, nil
	}}
	_, err = mixed.DialContext(t.Context(), "tcp", "shop.example"+port)
	require.ErrorAs(t, err, new(*reach.Refused), "a good address beside it does not help")
	none := &reach.Dialer{Lookup: func(context.Context, string) ([]netip.Addr, error) { return nil, nil }}
	_, err = none.DialContext(t.Context(), "tcp", "shop.example:80")
	require.ErrorContains(t, err, "has no address")
}

func TestRequestsGoThisWay(t *testing.T) {
	t.Setenv("HTTP_PROXY", "http://127.0.0.1:1")
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("the site")) }))
	t.Cleanup(site.Close)
	client := http.Client{Transport: reach.Transport()}
	res, err := client.Get(site.URL)
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	_, err = client.Get("http://169.254.169.254/latest/meta-data")
	require.ErrorAs(t, err, new(*reach.Refused))
}

// RFC 6761, section 6.3: localhost and what lies below it is this machine, whatever a name server says; browsers do so on their own.
func TestLocalhostIsThisMachineWithoutAskingAnybody(t *testing.T) {
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("the site")) }))
	t.Cleanup(site.Close)
	port := site.URL[strings.LastIndex(site.URL, ":"):]
	d := &reach.Dialer{}
	for _, host := range []string{"localhost", "LocalHost", "localhost.", "files.localhost", "a.b.LOCALHOST.", "127.0.0.1"} {
		c, err := d.DialContext(t.Context(), "tcp", host+port)
		require.NoError(t, err, host)
		assert.Equal(t, "127.0.0.1", c.RemoteAddr().(*net.TCPAddr).IP.String(), host)
		require.NoError(t, c.Close())
	}
	six, err := net.Listen("tcp6", "[::1]:0")
	if err != nil {
		t.Skip("this machine has no IPv6")
	}
	t.Cleanup(func() { _ = six.Close() })
	for _, host := range []string{"localhost", "files.localhost", "::1"} {
		c, err := d.DialContext(t.Context(), "tcp", net.JoinHostPort(host, strconv.Itoa(six.Addr().(*net.TCPAddr).Port)))
		require.NoError(t, err, host)
		assert.Equal(t, "::1", c.RemoteAddr().(*net.TCPAddr).IP.String(), host)
		require.NoError(t, c.Close())
	}
}

// A name keeps its address while that answers. One that answers no more is asked for again, where addresses are kept for some time only.
func TestASiteThatMovesIsFoundAgain(t *testing.T) {
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("the site")) }))
	t.Cleanup(site.Close)
	port := site.URL[strings.LastIndex(site.URL, ":"):]
	asked := 0
	lookup := func(context.Context, string) ([]netip.Addr, error) {
		asked++
		if asked == 1 {
			return []netip.Addr{netip.MustParseAddr("127.0.0.2")}, nil // where nobody listens
		}
		return []netip.Addr{netip.MustParseAddr("127.0.0.1")}, nil
	}
	moved := &reach.Dialer{For: time.Hour, Lookup: lookup}
	_, err := moved.DialContext(t.Context(), "tcp", "shop.localhost"+port)
	require.ErrorIs(t, err, syscall.ECONNREFUSED)
	c, err := moved.DialContext(t.Context(), "tcp", "shop.localhost"+port)
	require.NoError(t, err)
	require.NoError(t, c.Close())
	asked = 0
	kept := &reach.Dialer{Lookup: lookup}
	for range 2 {
		_, err = kept.DialContext(t.Context(), "tcp", "shop.localhost"+port)
		require.ErrorIs(t, err, syscall.ECONNREFUSED, "within one look a name leads to one place")
	}
}
