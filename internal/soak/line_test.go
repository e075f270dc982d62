package soak_test

import (
	"io"
	"net"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// line is the way from one process to the database, which can be cut.
type line struct {
	listener net.Listener

	mu   sync.Mutex
	to   string // host and port of the database
	dead bool   // new connections are refused
	open map[net.Conn]bool
}

func newLine(t *testing.T, to string) *line {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	w := &line{listener: l, to: to, open: map[net.Conn]bool{}}
	var serving sync.WaitGroup
	serving.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			serving.Go(func() { w.carry(c) })
		}
	})
	t.Cleanup(func() { _ = l.Close(); w.cut(); serving.Wait() })
	return w
}

func (w *line) addr() string { return w.listener.Addr().String() }

// leadTo says where the database is now.
func (w *line) leadTo(to string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.to = to
}

// cut ends all connections; new ones may come at once.
func (w *line) cut() {
	w.mu.Lock()
	defer w.mu.Unlock()
	for c := range w.open {
		_ = c.Close()
	}
}

// refuse refuses new connections, or lets them in again.
func (w *line) refuse(dead bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.dead = dead
}

func (w *line) hold(c net.Conn, open bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if open {
		w.open[c] = true
	} else {
		delete(w.open, c)
	}
}

func (w *line) carry(from net.Conn) {
	defer from.Close()
	w.mu.Lock()
	to, dead := w.to, w.dead
	w.mu.Unlock()
	if dead {
		return
	}
	onward, err := net.Dial("tcp", to)
	if err != nil {
		return
	}
	defer onward.Close()
	w.hold(from, true)
	w.hold(onward, true)
	defer w.hold(from, false)
	defer w.hold(onward, false)
	over := make(chan struct{}, 2)
	pass := func(to, from net.Conn) { _, _ = io.Copy(to, from); over <- struct{}{} }
	go pass(onward, from)
	go pass(from, onward)
	<-over
	_ = from.Close()
	_ = onward.Close()
	<-over
}
