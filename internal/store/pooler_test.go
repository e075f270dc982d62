package store_test

import (
	"net"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/secret"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

// pooler hands one connection of a server to many programs, transaction by transaction.
type pooler struct {
	mu     sync.Mutex
	server *pgconn.HijackedConn
}

func (p *pooler) serve(c net.Conn) {
	defer func() { _ = c.Close() }()
	client := pgproto3.NewBackend(c, c)
	for asked := true; asked; {
		switch m, err := client.ReceiveStartupMessage(); {
		case err != nil:
			return
		default:
			_, ssl := m.(*pgproto3.SSLRequest)
			if asked = ssl; ssl {
				_, _ = c.Write([]byte("N"))
			}
		}
	}
	client.Send(&pgproto3.AuthenticationOk{})
	for name, value := range p.server.ParameterStatuses {
		client.Send(&pgproto3.ParameterStatus{Name: name, Value: value})
	}
	client.Send(&pgproto3.BackendKeyData{ProcessID: 1, SecretKey: []byte{0, 0, 0, 2}})
	client.Send(&pgproto3.ReadyForQuery{TxStatus: 'I'})
	if client.Flush() != nil {
		return
	}
	holds := false
	for {
		m, err := client.Receive()
		if _, ends := m.(*pgproto3.Terminate); err != nil || ends {
			if holds {
				p.mu.Unlock()
			}
			return
		}
		if !holds {
			p.mu.Lock()
			holds = true
		}
		p.server.Frontend.Send(m)
		if p.server.Frontend.Flush() != nil {
			return
		}
		for {
			back, err := p.server.Frontend.Receive()
			if err != nil {
				return
			}
			client.Send(back)
			if err := client.Flush(); err != nil {
				return
			}
			if ready, is := back.(*pgproto3.ReadyForQuery); is {
				if ready.TxStatus == 'I' {
					p.mu.Unlock()
					holds = false
				}
				break
			}
		}
	}
}

// TestAPoolerByTransactionIsRefused: behind one, locks would be somebody else's with the next statement.
func TestAPoolerByTransactionIsRefused(t *testing.T) {
	_, url := testdb.New(t)
	cfg, err := pgconn.ParseConfig(url)
	require.NoError(t, err)
	server, err := pgconn.ConnectConfig(t.Context(), cfg)
	require.NoError(t, err)
	p := &pooler{}
	p.server, err = server.Hijack()
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close(); _ = p.server.Conn.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go p.serve(c)
		}
	}()
	_, err = store.Open(t.Context(), "postgres://"+cfg.User+"@"+l.Addr().String()+"/"+cfg.Database+"?sslmode=disable", secret.Keys{})
	require.ErrorContains(t, err, "shares its connections among programs")
	assert.ErrorContains(t, err, "DATABASE_URL")
}

// TestLocksKeepNobodyFromWorking takes more locks than there are connections for statements.
func TestLocksKeepNobodyFromWorking(t *testing.T) {
	s, _ := testdb.New(t)
	for id := range int64(40) {
		l, ok, err := s.TryLockRun(t.Context(), id)
		require.NoError(t, err)
		require.True(t, ok)
		t.Cleanup(l.Unlock)
	}
	done := make(chan error, 1)
	go func() { _, _, err := s.Sites(t.Context(), "", 1, 0); done <- err }()
	select {
	case err := <-done:
		require.NoError(t, err)
	case <-time.After(time.Minute):
		require.Fail(t, "locks have taken all connections")
	}
}
