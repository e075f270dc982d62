package origin

import (
	"crypto/rand"
	"net/http"
	"strings"
	"sync"
	"time"
)

// Sessions keep what a visitor has gathered, by the value of a cookie.
type Sessions[T any] struct {
	Cookie string

	mu   sync.Mutex
	kept map[string]T
}

// NewSessions keeps sessions under a cookie's name.
func NewSessions[T any](cookie string) *Sessions[T] {
	return &Sessions[T]{Cookie: cookie, kept: map[string]T{}}
}

// Of is what the visitor has; ok is false for somebody without a session.
func (s *Sessions[T]) Of(r *http.Request) (value T, ok bool) {
	c, err := r.Cookie(s.Cookie)
	if err != nil {
		return value, false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	value, ok = s.kept[c.Value]
	return value, ok
}

// Change changes what a visitor has; somebody without a session gets one.
func (s *Sessions[T]) Change(w http.ResponseWriter, r *http.Request, change func(T) T) {
	id := ""
	if c, err := r.Cookie(s.Cookie); err == nil {
		id = c.Value
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	old, known := s.kept[id]
	if !known {
		id = rand.Text()
		http.SetCookie(w, &http.Cookie{Name: s.Cookie, Value: id, Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode})
	}
	s.kept[id] = change(old)
}

// Len is how many sessions there are.
func (s *Sessions[T]) Len() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.kept)
}

// Member is somebody who can sign in to an invented site.
type Member struct {
	Name, Password, Full, Mail string
	Role                       string // customer, member, editor
	Orders                     []string
}

// Members signs people in. The cookie's value begins with the role, as some sites' do.
type Members struct {
	Cookie string
	All    []Member

	mu     sync.Mutex
	signed map[string]int
}

// NewMembers lets these people sign in under a cookie's name.
func NewMembers(cookie string, all []Member) *Members {
	return &Members{Cookie: cookie, All: all, signed: map[string]int{}}
}

// Of is who is signed in.
func (m *Members) Of(r *http.Request) (Member, bool) {
	c, err := r.Cookie(m.Cookie)
	if err != nil {
		return Member{}, false
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	i, known := m.signed[c.Value]
	if !known {
		return Member{}, false
	}
	return m.All[i], true
}

// SignIn signs somebody in; ok is false when name or password are wrong.
func (m *Members) SignIn(w http.ResponseWriter, name, password string) (ok bool) {
	for i, who := range m.All {
		if !strings.EqualFold(who.Name, name) || who.Password != password {
			continue
		}
		value := who.Role + "-" + rand.Text()
		m.mu.Lock()
		m.signed[value] = i
		m.mu.Unlock()
		http.SetCookie(w, &http.Cookie{Name: m.Cookie, Value: value, Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode})
		return true
	}
	return false
}

// SignOut signs whoever asks out.
func (m *Members) SignOut(w http.ResponseWriter, r *http.Request) {
	if c, err := r.Cookie(m.Cookie); err == nil {
		m.mu.Lock()
		delete(m.signed, c.Value)
		m.mu.Unlock()
	}
	http.SetCookie(w, &http.Cookie{Name: m.Cookie, Path: "/", MaxAge: -1})
}

// Tokens are the hidden values that a form must bring back in time.
type Tokens struct {
	Lifetime time.Duration

	mu     sync.Mutex
	now    func() time.Time
	issued map[string]time.Time
}

// NewTokens issues tokens that can be used once, for so long.
func NewTokens(now func() time.Time, lifetime time.Duration) *Tokens {
	return &Tokens{Lifetime: lifetime, now: now, issued: map[string]time.Time{}}
}

// Issue returns a new token.
func (t *Tokens) Issue() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	v := rand.Text()
	t.issued[v] = t.now()
	return v
}

// Redeem takes a token once, within its lifetime.
func (t *Tokens) Redeem(v string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	at, known := t.issued[v]
	delete(t.issued, v)
	return known && t.now().Sub(at) <= t.Lifetime
}

// Expired counts the tokens that can no longer be used.
func (t *Tokens) Expired() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := 0
	for _, at := range t.issued {
		if t.now().Sub(at) > t.Lifetime {
			n++
		}
	}
	return n
}

// Sweep forgets the tokens that can no longer be used, and says how many.
func (t *Tokens) Sweep() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := 0
	for v, at := range t.issued {
		if t.now().Sub(at) > t.Lifetime {
			delete(t.issued, v)
			n++
		}
	}
	return n
}
