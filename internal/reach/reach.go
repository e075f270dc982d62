// Package reach is the only way from here to sites: it resolves each host name once, keeps to what it found, and refuses
// addresses that are nobody's site.
//
// A name that changes its address in between (DNS rebinding) therefore leads nowhere else: neither to the machine's own
// services, nor to the address under which clouds tell machines their secrets.
package reach

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"
)

// Refused says that an address is not connected to.
type Refused struct {
	Host string
	Why  string
}

func (e *Refused) Error() string { return fmt.Sprintf("%s is not reached: %s", e.Host, e.Why) }

// metadata are addresses under which clouds tell machines about themselves, beside the link-local ones.
var metadata = []netip.Addr{netip.MustParseAddr("fd00:ec2::254"), netip.MustParseAddr("100.100.100.200"), netip.MustParseAddr("192.0.0.192")}

var thisNetwork = netip.MustParsePrefix("0.0.0.0/8")

// Forbidden says why an address is never connected to under a host name; "" when it may be. Loopback addresses are for those who
// name them: an address itself, or localhost (RFC 6761, 6.3).
func Forbidden(host string, ip netip.Addr) string {
	ip = ip.Unmap().WithZone("")
	switch {
	case !ip.IsValid(), ip.IsUnspecified(), thisNetwork.Contains(ip):
		return "its address is that of no machine"
	case ip.IsLinkLocalUnicast(), ip.IsLinkLocalMulticast(), ip.IsInterfaceLocalMulticast():
		return "its address is link-local, where clouds tell machines about themselves"
	case ip.IsMulticast():
		return "its address is that of many machines"
	case ip.IsLoopback() && !named(host):
		return "its name leads to this machine itself"
	}
	for _, m := range metadata {
		if ip == m {
			return "its address is that under which a cloud tells machines about themselves"
		}
	}
	return ""
}

// named reports whether a host says by itself that it is this machine.
func named(host string) bool {
	ip, err := netip.ParseAddr(strings.Trim(folded(host), "[]"))
	return err == nil && ip.Unmap().IsLoopback() || isLocalhost(host)
}

// folded is a host name as names are compared: in lower case, without the dot of the root (RFC 4343, RFC 1034 §3.1).
func folded(host string) string { return strings.ToLower(strings.TrimSuffix(host, ".")) }

// isLocalhost reports whether a name is localhost or lies below it.
func isLocalhost(host string) bool {
	return folded(host) == "localhost" || strings.HasSuffix(folded(host), ".localhost")
}

// resolve looks a name up as a browser does: localhost and all names below it are this machine's loopback addresses, whatever a name
// server or the hosts file says (RFC 6761, section 6.3, rules 2 and 3); for others it asks the system.
func resolve(ctx context.Context, host string) ([]netip.Addr, error) {
	if isLocalhost(host) {
		return []netip.Addr{netip.IPv6Loopback(), netip.AddrFrom4([4]byte{127, 0, 0, 1})}, nil
	}
	return net.DefaultResolver.LookupNetIP(ctx, "ip", host)
}

// Dialer connects to hosts by the addresses that they had when they were first asked for. It is safe for concurrent use.
type Dialer struct {
	// For is how long a name keeps its address; 0 is for as long as the dialer lives.
	For time.Duration
	// Lookup resolves a name; nil is as a browser does, by way of the system.
	Lookup func(ctx context.Context, host string) ([]netip.Addr, error)

	mu     sync.Mutex
	pinned map[string]pin
}

type pin struct {
	to []netip.Addr
	at time.Time
}

func (d *Dialer) holds(p pin) bool { return d.For == 0 || time.Since(p.at) < d.For }

// addresses are those of a host, as they were the first time.
func (d *Dialer) addresses(ctx context.Context, host string) ([]netip.Addr, error) {
	key := folded(host)
	d.mu.Lock()
	had, known := d.pinned[key]
	d.mu.Unlock()
	if known && d.holds(had) {
		return had.to, nil
	}
	lookup := d.Lookup
	if lookup == nil {
		lookup = resolve
	}
	found, err := lookup(ctx, host)
	if err != nil {
		return nil, err
	}
	if len(found) == 0 {
		return nil, &Refused{host, "it has no address"}
	}
	// One forbidden address among others is a trap, or a mistake that somebody has to mend.
	for _, ip := range found {
		if why := Forbidden(host, ip); why != "" {
			return nil, &Refused{host, why}
		}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.pinned == nil {
		d.pinned = map[string]pin{}
	}
	if had, known := d.pinned[key]; known && d.holds(had) { // somebody asked meanwhile
		return had.to, nil
	}
	d.pinned[key] = pin{found, time.Now()}
	return found, nil
}

// DialContext connects to a host and port. It fails with [*Refused] where that is not to be.
func (d *Dialer) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	found, err := d.addresses(ctx, host)
	if err != nil {
		return nil, err
	}
	var failed error
	for i, ip := range found {
		dialer := net.Dialer{Timeout: 30 * time.Second, KeepAlive: 30 * time.Second}
		if i < len(found)-1 {
			dialer.Timeout = anotherAfter
		}
		c, err := dialer.DialContext(ctx, network, net.JoinHostPort(ip.String(), port))
		if err == nil {
			return c, nil
		}
		failed = err
	}
	if ctx.Err() == nil {
		d.forget(host)
	}
	return nil, failed
}

// anotherAfter is how long one of several addresses may take to answer.
const anotherAfter = 5 * time.Second

// forget drops the addresses of a host none of which answered, where they are kept for some time only: the site may have moved. What
// a name leads to then is refused or not as it was the first time.
func (d *Dialer) forget(host string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.For > 0 {
		delete(d.pinned, folded(host))
	}
}

// pinnedFor is for how long a transport keeps to an address: longer than any run's part that asks without a browser, and short
// enough for a site that moves.
const pinnedFor = 10 * time.Minute

// Transport is an HTTP transport that goes this way only: through no proxy that the environment names.
func Transport() *http.Transport {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.Proxy = nil
	t.DialContext = (&Dialer{For: pinnedFor}).DialContext
	return t
}
