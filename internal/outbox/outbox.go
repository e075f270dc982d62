package outbox

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/emersion/go-smtp"
)

// Options say where an outbox listens and how it signs.
type Options struct {
	Mail string // address for SMTP, such as 127.0.0.1:2525; port 0 takes a free one
	Web  string // address of the payment page and the list
	Key  string // with which outcomes of payments are signed
}

// Outbox is a running mail catcher and payment stand-in.
type Outbox struct {
	MailAddr string // host and port
	URL      string // such as http://127.0.0.1:9121

	key  string
	smtp *smtp.Server
	mail net.Listener
	web  *http.Server
	work sync.WaitGroup

	mu       sync.Mutex
	messages []Message
	payments []Payment
	hooks    []Hook
}

// Start listens and returns when both answer. It fails when an address is taken.
func Start(opt Options) (*Outbox, error) {
	mailer, err := net.Listen("tcp", opt.Mail)
	if err != nil {
		return nil, fmt.Errorf("listen for mail: %w", err)
	}
	pages, err := net.Listen("tcp", opt.Web)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("listen for payments: %w", err), mailer.Close())
	}
	o := &Outbox{MailAddr: mailer.Addr().String(), URL: "http://" + pages.Addr().String(), mail: mailer, key: opt.Key}
	o.smtp = smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &session{box: o}, nil }))
	o.smtp.Domain = "outbox.invalid"
	o.smtp.MaxMessageBytes, o.smtp.MaxRecipients = mostBytes, 100
	o.smtp.ReadTimeout, o.smtp.WriteTimeout = time.Minute, time.Minute
	o.web = &http.Server{Handler: o.routes(), ReadHeaderTimeout: 10 * time.Second}
	o.work.Go(func() { _ = o.smtp.Serve(mailer) })
	o.work.Go(func() { _ = o.web.Serve(pages) })
	return o, nil
}

// Key is what outcomes of payments are signed with.
func (o *Outbox) Key() string { return o.key }

// Close stops listening and waits until all has ended.
func (o *Outbox) Close() error {
	err := errors.Join(o.smtp.Close(), o.web.Shutdown(context.Background()))
	// The mail server knows its listener only once it serves; it may not have come to that.
	if closing := o.mail.Close(); !errors.Is(closing, net.ErrClosed) {
		err = errors.Join(err, closing)
	}
	o.work.Wait()
	return err
}

// Messages are the mails that were caught, the newest first.
func (o *Outbox) Messages() []Message {
	o.mu.Lock()
	defer o.mu.Unlock()
	return newest(o.messages)
}

// Payments are the payments that were asked for, the newest first.
func (o *Outbox) Payments() []Payment {
	o.mu.Lock()
	defer o.mu.Unlock()
	return newest(o.payments)
}

func newest[T any](list []T) []T {
	out := append([]T{}, list...)
	slices.Reverse(out)
	return out
}

func (o *Outbox) keep(m Message) {
	o.mu.Lock()
	defer o.mu.Unlock()
	m.At = stamp()
	o.messages = last(append(o.messages, m))
}

// last are the newest entries, as many as are kept.
func last[T any](list []T) []T { return list[max(0, len(list)-mostKept):] }

func stamp() string { return time.Now().UTC().Format(time.RFC3339) }
