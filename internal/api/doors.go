package api

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"github.com/alexedwards/argon2id"
	"github.com/danielgtaylor/huma/v2"
	"golang.org/x/sync/semaphore"
	"golang.org/x/time/rate"
)

const (
	// hashesAtOnce is how many passwords a process hashes at once: each takes 64 MiB.
	hashesAtOnce = 4
	// hashWaits is how long somebody waits for their turn.
	hashWaits = 10 * time.Second
	// triesEach and triesAtOnce limit what one address may try that takes a secret: one try every so often, and so many at
	// once. (Common practice; several people may share an address.)
	triesEach, triesAtOnce = 5 * time.Second, 30
	// mostAddresses is how many addresses are remembered.
	mostAddresses = 10_000
)

var hashing = semaphore.NewWeighted(hashesAtOnce)

// hashed does something that hashes a password, when it is its turn.
func hashed[T any](ctx context.Context, do func() (T, error)) (out T, err error) {
	wait, cancel := context.WithTimeout(ctx, hashWaits)
	defer cancel()
	if err := hashing.Acquire(wait, 1); err != nil {
		return out, huma.Error503ServiceUnavailable("Too many people sign in at this moment. Try again in a minute.")
	}
	defer hashing.Release(1)
	return do()
}

// rightPassword tells whether a password is the one that was hashed.
func rightPassword(ctx context.Context, password, hash string) (bool, error) {
	return hashed(ctx, func() (bool, error) { return argon2id.ComparePasswordAndHash(password, hash) })
}

// addresses limits how often somebody tries, by where they come from. The zero value is ready.
type addresses struct {
	mu sync.Mutex
	of map[string]*rate.Limiter
}

// allow tells whether one more try may come from an address.
func (a *addresses) allow(address string, now time.Time) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	l, known := a.of[address]
	if !known {
		if a.of == nil || len(a.of) >= mostAddresses {
			a.forget(now)
		}
		l = rate.NewLimiter(rate.Every(triesEach), triesAtOnce)
		a.of[address] = l
	}
	return l.AllowN(now, 1)
}

// forget makes room: those that have not tried for long are as good as new, and when there are none all are forgotten.
func (a *addresses) forget(now time.Time) {
	kept := map[string]*rate.Limiter{}
	for address, l := range a.of {
		if l.TokensAt(now) < triesAtOnce {
			kept[address] = l
		}
	}
	if len(kept) >= mostAddresses {
		kept = map[string]*rate.Limiter{}
	}
	a.of = kept
}

// addressOf is where a request comes from: the other end of the line, or what the proxy in front says when there is one. Of
// IPv6 it is the network, since each has as many addresses as they like.
func (s *Server) addressOf(r *http.Request) string {
	text, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		text = r.RemoteAddr
	}
	if s.Public != nil {
		if hops := strings.Split(r.Header.Get("X-Forwarded-For"), ","); strings.TrimSpace(hops[len(hops)-1]) != "" {
			text = strings.TrimSpace(hops[len(hops)-1]) // the last is the proxy's own word
		}
	}
	ip, err := netip.ParseAddr(text)
	if err != nil {
		return text
	}
	if ip = ip.Unmap().WithZone(""); ip.Is6() {
		if network, err := ip.Prefix(64); err == nil {
			return network.String()
		}
	}
	return ip.String()
}

// limited is nil when one more try with a secret may come from where the caller is.
func (s *Server) limited(ctx context.Context) error {
	if s.tries.allow(callerOf(ctx).address, time.Now()) {
		return nil
	}
	return huma.Error429TooManyRequests("Too many tries came from your address. Try again in a few minutes.")
}
