package outbox

import (
	"bytes"
	"errors"
	"io"
	"mime"
	"mime/multipart"
	"net/mail"
	"strings"

	"github.com/emersion/go-smtp"
)

// Message is one mail that was caught.
type Message struct {
	At      string   `json:"at"` // RFC 3339, UTC
	From    string   `json:"from"`
	To      []string `json:"to"`
	Subject string   `json:"subject"`
	Text    string   `json:"text"` // header fields left out, at most 64 KiB
}

const (
	mostKept  = 500
	mostBytes = 10 << 20 // of one message
	mostShown = 64 << 10
)

// session takes the messages of one connection. It asks for no name and password, and
// takes whatever it is given.
type session struct {
	box *Outbox
	now Message
}

func (s *session) Reset()        { s.now = Message{} }
func (s *session) Logout() error { return nil }

func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	s.now = Message{From: from, To: []string{}}
	return nil
}

func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.now.To = append(s.now.To, to)
	return nil
}

func (s *session) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	m := s.now
	m.Subject, m.Text = read(raw)
	s.box.keep(m)
	return nil
}

// read takes a message apart (RFC 5322); what is not one is kept as it is.
func read(raw []byte) (subject, text string) {
	m, err := mail.ReadMessage(bytes.NewReader(raw))
	if err != nil {
		return "", shown(string(raw))
	}
	subject = m.Header.Get("Subject")
	if plain, err := new(mime.WordDecoder).DecodeHeader(subject); err == nil {
		subject = plain
	}
	if kind, params, err := mime.ParseMediaType(m.Header.Get("Content-Type")); err == nil && strings.HasPrefix(kind, "multipart/") {
		if text, there := plainPart(multipart.NewReader(m.Body, params["boundary"])); there {
			return subject, shown(text)
		}
		return subject, "(It has no plain text.)"
	}
	body, err := io.ReadAll(m.Body)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
		return subject, ""
	}
	return subject, shown(string(body))
}

// plainPart is the first part of a message that is plain text.
func plainPart(parts *multipart.Reader) (string, bool) {
	for {
		p, err := parts.NextPart() // takes quoted-printable off
		if err != nil {
			return "", false
		}
		kind, _, _ := mime.ParseMediaType(p.Header.Get("Content-Type"))
		if kind != "text/plain" && kind != "" {
			continue
		}
		body, err := io.ReadAll(io.LimitReader(p, mostShown))
		return string(body), err == nil
	}
}

func shown(s string) string {
	s = strings.ReplaceAll(s, "\r\n", "\n")
	if len(s) > mostShown {
		s = s[:mostShown] + "…"
	}
	return strings.ToValidUTF8(s, "�")
}
