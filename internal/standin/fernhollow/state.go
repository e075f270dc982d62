package fernhollow

import (
	"crypto/rand"
	"net/http"
	"sync"
	"time"
)

const sessionCookie = "fern_session"

type cartLine struct {
	Kit   kit
	Count int
}

// sessions holds the baskets, by the value of the session cookie.
type sessions struct {
	mu    sync.Mutex
	carts map[string][]cartLine
}

func newSessions() *sessions { return &sessions{carts: map[string][]cartLine{}} }

func (s *sessions) id(r *http.Request) (string, bool) {
	c, err := r.Cookie(sessionCookie)
	if err != nil {
		return "", false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	_, known := s.carts[c.Value]
	return c.Value, known
}

func (s *sessions) ensure(w http.ResponseWriter, r *http.Request) string {
	if id, ok := s.id(r); ok {
		return id
	}
	id := rand.Text()
	s.mu.Lock()
	s.carts[id] = nil
	s.mu.Unlock()
	http.SetCookie(w, &http.Cookie{Name: sessionCookie, Value: id, Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode})
	return id
}

func (s *sessions) add(id string, k kit) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i, l := range s.carts[id] {
		if l.Kit.Slug == k.Slug {
			s.carts[id][i].Count++
			return
		}
	}
	s.carts[id] = append(s.carts[id], cartLine{k, 1})
}

func (s *sessions) lines(id string) []cartLine {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]cartLine(nil), s.carts[id]...)
}

func (s *sessions) clear(id string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.carts[id] = nil
}

// tokens are the hidden values that a checkout form must bring back in time.
type tokens struct {
	mu     sync.Mutex
	now    func() time.Time
	issued map[string]time.Time
}

func newTokens(now func() time.Time) *tokens {
	return &tokens{now: now, issued: map[string]time.Time{}}
}

func (t *tokens) issue() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	for k, at := range t.issued {
		if t.now().Sub(at) > TokenLifetime {
			delete(t.issued, k)
		}
	}
	v := rand.Text()
	t.issued[v] = t.now()
	return v
}

// redeem takes a token once, within its lifetime.
func (t *tokens) redeem(v string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	at, known := t.issued[v]
	delete(t.issued, v)
	return known && t.now().Sub(at) <= TokenLifetime
}
