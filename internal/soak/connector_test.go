package soak_test

import (
	"io"
	"log"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/settings"
	"tidemarker/internal/standin"
)

// mood is how a connector answers.
type mood string

const (
	well        mood = "answers"
	slow        mood = "is slow"
	half        mood = "answers half"
	fails       mood = "applies and answers 500"
	busy        mood = "answers 503, with Retry-After"
	hangsUp     mood = "applies and hangs up"
	hangsBefore mood = "hangs up before it applies"
	gone        mood = "is gone"
)

var moods = []mood{slow, half, fails, busy, hangsUp, hangsBefore, gone}

// write is one time that an environment's settings were written.
type write struct {
	at       time.Time
	from, to string // fingerprints
	ours     bool   // by way of the connector; otherwise by somebody in the site's own administration
}

// environment is a stand-in's environment with a connector that fails, and the truth about its settings.
type environment struct {
	inst      *standin.Instance
	connector string // its address

	mu     sync.Mutex
	mood   mood
	until  time.Time // the mood passes by itself
	writes []write
}

func newEnvironment(t *testing.T, name string) *environment {
	t.Helper()
	inst, err := standin.StartFernhollow(standin.Options{Environment: name, Addr: "127.0.0.1:0", Token: token})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, inst.Close()) })
	e := &environment{inst: inst, mood: well}
	behind, err := url.Parse(inst.URL)
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(behind)
	proxy.ErrorLog = log.New(io.Discard, "", 0) // whoever asked was killed
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.Host = behind.Host
		e.answer(w, r, proxy)
	}))
	t.Cleanup(server.Close)
	e.connector = server.URL + standin.ConnectorPath
	return e
}

// take puts the connector in a mood for a while.
func (e *environment) take(m mood, for_ time.Duration) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.mood, e.until = m, time.Now().Add(for_)
}

func (e *environment) now() mood {
	e.mu.Lock()
	defer e.mu.Unlock()
	if time.Now().After(e.until) {
		return well
	}
	return e.mood
}

func hangUp() { panic(http.ErrAbortHandler) }

func (e *environment) answer(w http.ResponseWriter, r *http.Request, proxy http.Handler) {
	m := e.now()
	switch m {
	case gone:
		hangUp()
	case slow:
		select {
		case <-time.After(1500 * time.Millisecond):
		case <-r.Context().Done():
			return
		}
	case busy:
		if r.Method != http.MethodPut {
			w.Header().Set("Retry-After", "1")
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
	}
	if r.Method != http.MethodPut {
		proxy.ServeHTTP(w, r)
		return
	}
	if m == hangsBefore {
		hangUp()
	}
	said := e.write(r, proxy)
	switch m {
	case hangsUp:
		hangUp()
	case fails:
		http.Error(w, "out of memory", http.StatusInternalServerError)
		return
	}
	for k, v := range said.Header() {
		w.Header()[k] = v
	}
	body := said.Body.Bytes()
	if m == half {
		body = body[:len(body)/2] // the length that was announced stays
		w.Header().Set("Content-Length", "100000")
	}
	w.WriteHeader(said.Code)
	_, _ = w.Write(body)
}

// write lets the site take what it is sent and notes what came of it.
func (e *environment) write(r *http.Request, proxy http.Handler) *httptest.ResponseRecorder {
	said := httptest.NewRecorder()
	body, err := io.ReadAll(r.Body)
	if err != nil {
		hangUp()
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	before, tag := e.inst.Layer.Settings()
	in, err := http.NewRequest(r.Method, r.URL.String(), nil)
	if err != nil {
		hangUp()
	}
	in.Header, in.Host = r.Header.Clone(), r.Host
	in.Body, in.ContentLength = io.NopCloser(newReader(body)), int64(len(body))
	proxy.ServeHTTP(said, in)
	after, now := e.inst.Layer.Settings()
	if now != tag {
		e.writes = append(e.writes, write{time.Now(), fingerprint(before), fingerprint(after), true})
	}
	return said
}

// behindBacks changes a setting as somebody would in the site's own administration.
func (e *environment) behindBacks(random *rand.Rand) {
	e.mu.Lock()
	defer e.mu.Unlock()
	before, tag := e.inst.Layer.Settings()
	key := switches[random.IntN(len(switches))]
	on, _ := before[key].(bool)
	after := before.With(settings.Values{key: !on})
	if _, did := e.inst.Layer.Replace(after, tag); did {
		e.writes = append(e.writes, write{time.Now(), fingerprint(before), fingerprint(after), false})
	}
}

// truth is what was written so far, and what is in force.
func (e *environment) truth() (writes []write, inForce string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	v, _ := e.inst.Layer.Settings()
	return slices.Clone(e.writes), fingerprint(v)
}

func fingerprint(v settings.Values) string {
	fp, err := v.Fingerprint()
	if err != nil {
		panic(err) // settings of a stand-in always have one
	}
	return fp
}
