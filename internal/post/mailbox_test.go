package post_test

import (
	"bytes"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/mail"
	"strings"
	"sync"
	"testing"

	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/post"
)

// letter is a mail as a server got it.
type letter struct{ to, subject, id, text, html, raw string }

// mailbox is a real SMTP server that keeps what it gets.
type mailbox struct {
	mu      sync.Mutex
	letters []letter
	refuse  bool
	t       testing.TB
}

type session struct {
	box *mailbox
	to  string
}

func (s *session) Reset()                                    { s.to = "" }
func (s *session) Logout() error                             { return nil }
func (s *session) Mail(string, *smtp.MailOptions) error      { return nil }
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error { s.to = to; return nil }

func (s *session) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	s.box.mu.Lock()
	defer s.box.mu.Unlock()
	if s.box.refuse {
		return &smtp.SMTPError{Code: 451, Message: "Not now"}
	}
	m, err := mail.ReadMessage(bytes.NewReader(raw))
	if err != nil {
		return err
	}
	l := letter{to: s.to, id: m.Header.Get("Message-ID"), raw: string(raw)}
	l.subject, _ = new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
	_, params, _ := mime.ParseMediaType(m.Header.Get("Content-Type"))
	parts := multipart.NewReader(m.Body, params["boundary"])
	for {
		p, err := parts.NextRawPart()
		if err != nil {
			break
		}
		body, _ := io.ReadAll(quotedprintable.NewReader(p))
		if strings.HasPrefix(p.Header.Get("Content-Type"), "text/html") {
			l.html = string(body)
		} else {
			l.text = string(body)
		}
	}
	s.box.letters = append(s.box.letters, l)
	return nil
}

func (b *mailbox) NewSession(*smtp.Conn) (smtp.Session, error) { return &session{box: b}, nil }

func (b *mailbox) to(address string) (out []letter) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, l := range b.letters {
		if l.to == address {
			out = append(out, l)
		}
	}
	return out
}

func newMailbox(t testing.TB) (*mailbox, *post.Server) {
	box := &mailbox{t: t}
	server := smtp.NewServer(box)
	server.Domain = "localhost"
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = server.Serve(l) }()
	t.Cleanup(func() { _ = server.Close() })
	to, err := post.NewServer("smtp://"+l.Addr().String(), "Tide Marker <tidemarker@example.org>")
	require.NoError(t, err)
	return box, to
}
