package browser

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"tidemarker/internal/core/site"
	"tidemarker/internal/reach"
)

// gate is the only way from a private context to the network: a SOCKS proxy (RFC 1928, CONNECT without authentication) on
// loopback, which connects to the hosts of one environment and to nothing else. What a page's requests are held for
// (network.go) is told as what the site asked for; what gets past that, such as a WebSocket, a hint or a worker's, ends here.
type gate struct {
	listener net.Listener
	env      site.Environment
	dialer   reach.Dialer
	end      context.CancelFunc
	serving  sync.WaitGroup

	mu     sync.Mutex
	failed map[string]failure // by host and port, in lower case
}

// failure is why a connection could not be made.
type failure struct {
	why  string
	ours bool // Tide Marker could not; that says nothing of the site
}

// openGate opens the way to an environment's hosts.
func openGate(env site.Environment) (*gate, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("open the way to the site: %w", err)
	}
	ctx, end := context.WithCancel(context.Background())
	g := &gate{listener: l, env: env, end: end}
	g.serving.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			g.serving.Go(func() { g.carry(ctx, c) })
		}
	})
	return g, nil
}

// address is where the browser finds it.
func (g *gate) address() string { return "socks5://" + g.listener.Addr().String() }

// close ends it, and every connection through it.
func (g *gate) close() {
	g.end()
	_ = g.listener.Close()
	g.serving.Wait()
}

// leads tells whether a host and port belong to the environment.
func (g *gate) leads(host string, port uint16) bool {
	for scheme, usual := range map[string]uint16{"http": 80, "https": 443} {
		at := net.JoinHostPort(host, strconv.Itoa(int(port)))
		if g.env.Owns(&url.URL{Scheme: scheme, Host: at}) {
			return true
		}
		if ip, err := netip.ParseAddr(host); port == usual && g.env.Owns(&url.URL{Scheme: scheme, Host: bracketed(host, err == nil && ip.Is6())}) {
			return true
		}
	}
	return false
}

func bracketed(host string, six bool) string {
	if six {
		return "[" + host + "]"
	}
	return host
}

// Replies of RFC 1928, section 6.
const (
	socksDone      = 0
	socksForbidden = 2
	socksNoRoute   = 3
	socksNoHost    = 4
	socksRefused   = 5
	socksNoCommand = 7
)

// carry carries one connection.
func (g *gate) carry(ctx context.Context, from net.Conn) {
	defer from.Close()
	stop := context.AfterFunc(ctx, func() { _ = from.Close() })
	defer stop()
	_ = from.SetDeadline(time.Now().Add(30 * time.Second))
	host, port, err := greet(from)
	if err != nil {
		return
	}
	if !g.leads(host, port) {
		g.note(host, port, failure{"it is not one of the site's hosts", true})
		reply(from, socksForbidden)
		return
	}
	onward, err := g.dialer.DialContext(ctx, "tcp", net.JoinHostPort(host, strconv.Itoa(int(port))))
	if err != nil {
		why, what := failureOf(err)
		g.note(host, port, why)
		reply(from, what)
		return
	}
	defer onward.Close()
	onStop := context.AfterFunc(ctx, func() { _ = onward.Close() })
	defer onStop()
	reply(from, socksDone)
	_ = from.SetDeadline(time.Time{})
	sent := make(chan struct{})
	go func() {
		defer close(sent)
		_, _ = io.Copy(onward, from)
		closeWrite(onward)
	}()
	_, _ = io.Copy(from, onward)
	closeWrite(from)
	// The site has said all that it will. Who still has something to say to it is not waited for.
	_ = from.Close()
	_ = onward.Close()
	<-sent
}

// failureOf is why a connection could not be made, and the reply to whoever asked for it. What the site's own host does, everybody
// meets; what Tide Marker refuses or this machine's network cannot do is ours.
func failureOf(err error) (failure, byte) {
	if refused, is := errors.AsType[*reach.Refused](err); is {
		return failure{"Tide Marker does not connect to it: " + refused.Why, true}, socksForbidden
	}
	name, isName := errors.AsType[*net.DNSError](err)
	switch {
	case isName && name.IsNotFound:
		return failure{why: "there is no such name"}, socksNoHost
	case isName:
		return failure{"the name server did not answer", true}, socksNoHost
	case errors.Is(err, syscall.ECONNREFUSED):
		return failure{why: "it refuses connections"}, socksRefused
	case errors.Is(err, syscall.EHOSTUNREACH):
		return failure{why: "there is no route to it"}, socksNoHost
	case errors.Is(err, syscall.ENETUNREACH):
		return failure{"this machine has no route to its network", true}, socksNoRoute
	}
	if timeout, is := errors.AsType[net.Error](err); is && timeout.Timeout() {
		return failure{why: "it did not answer in time"}, socksNoHost
	}
	return failure{"the connection could not be made: " + err.Error(), true}, socksNoHost
}

// note keeps why a host could not be reached.
func (g *gate) note(host string, port uint16, f failure) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.failed == nil {
		g.failed = map[string]failure{}
	}
	if len(g.failed) < 1000 {
		g.failed[strings.ToLower(net.JoinHostPort(host, strconv.Itoa(int(port))))] = f
	}
}

// failure is why the host of an address could not be reached, when it could not.
func (g *gate) failure(u *url.URL) (failure, bool) {
	port := u.Port()
	if port == "" {
		port = map[string]string{"https": "443", "wss": "443"}[u.Scheme]
	}
	if port == "" {
		port = "80"
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	f, known := g.failed[strings.ToLower(net.JoinHostPort(u.Hostname(), port))]
	return f, known
}

func closeWrite(c net.Conn) {
	if tcp, is := c.(*net.TCPConn); is {
		_ = tcp.CloseWrite()
	}
}

// greet is the beginning of a connection (RFC 1928, sections 3 and 4): where it is to lead.
func greet(c net.Conn) (host string, port uint16, err error) {
	head := make([]byte, 2)
	if _, err := io.ReadFull(c, head); err != nil || head[0] != 5 {
		return "", 0, errors.New("no SOCKS 5")
	}
	if _, err := io.ReadFull(c, make([]byte, head[1])); err != nil {
		return "", 0, err
	}
	if _, err := c.Write([]byte{5, 0}); err != nil {
		return "", 0, err
	}
	ask := make([]byte, 4)
	if _, err := io.ReadFull(c, ask); err != nil {
		return "", 0, err
	}
	if ask[1] != 1 { // CONNECT
		reply(c, socksNoCommand)
		return "", 0, errors.New("only connections are made")
	}
	length := make([]byte, 1)
	switch ask[3] {
	case 1:
		length[0] = 4
	case 4:
		length[0] = 16
	default:
		if _, err := io.ReadFull(c, length); err != nil {
			return "", 0, err
		}
	}
	rest := make([]byte, int(length[0])+2)
	if _, err := io.ReadFull(c, rest); err != nil {
		return "", 0, err
	}
	name, port := rest[:length[0]], binary.BigEndian.Uint16(rest[length[0]:])
	if ip, ok := netip.AddrFromSlice(name); ok && ask[3] != 3 {
		return ip.String(), port, nil
	}
	return string(name), port, nil
}

// reply says what becomes of a connection; the address that it is made from is not told.
func reply(c net.Conn, what byte) { _, _ = c.Write([]byte{5, what, 0, 1, 0, 0, 0, 0, 0, 0}) }
