// Package post brings notices to people: by mail, at once or once a day, and to webhooks. What the history records with a topic
// becomes a notice in the same transaction ([store.Store.Record]); [Desk.Run] hands notices out, mails them and calls
// webhooks, each by itself: a mail server or an address that does not answer keeps nobody else waiting.
//
// Every notice is in one mail to each who asked for it. A mail whose sending was cut off is sent again under the same Message-ID,
// and a delivery under the same webhook-id: whether they arrived before nobody knows, and receivers can tell that they are the same.
package post

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strings"
	"sync"
	"time"

	"tidemarker/internal/core/notice"
	"tidemarker/internal/store"
)

// Desk is where notices go out.
type Desk struct {
	Store *store.Store
	Log   *slog.Logger
	// Mail is how mail is sent; nil when nobody said how, so that mails wait.
	Mail *Server
	// Base is the address under which people reach Tide Marker, for links, without a slash at its end.
	Base string
	// Client asks webhooks; one that follows nothing when nil.
	Client *http.Client
	// Clock is what time it is; time.Now when nil.
	Clock func() time.Time
}

func (d *Desk) now() time.Time {
	if d.Clock == nil {
		return time.Now().UTC()
	}
	return d.Clock().UTC()
}

// every is how often it is looked what is to go out.
const every = 2 * time.Second

// Run brings notices to people and to webhooks, until ctx ends.
func (d *Desk) Run(ctx context.Context) {
	var all sync.WaitGroup
	for _, do := range []func(context.Context) error{d.HandOut, d.SendMail, d.Deliver} {
		all.Go(func() {
			tick := time.NewTicker(every)
			defer tick.Stop()
			for {
				if err := do(ctx); err != nil && ctx.Err() == nil {
					d.Log.Warn("notices could not go out", "why", err)
				}
				select {
				case <-ctx.Done():
					return
				case <-tick.C:
				}
			}
		})
	}
	all.Wait()
}

const (
	// mostTurns bounds how often one call hands out and sends, so that a storm does not keep it for ever.
	mostTurns = 200
	// lease is for how long a mail or a delivery is taken: more than sending takes.
	lease = 2 * time.Minute
	// deliveriesAtOnce is how many webhooks are asked at once.
	deliveriesAtOnce = 8
)

// HandOut gives what is new to those who get it.
func (d *Desk) HandOut(ctx context.Context) error {
	for range mostTurns {
		n, err := d.Store.HandOut(ctx, d.now())
		if err != nil {
			return err
		}
		if n == 0 {
			return nil
		}
	}
	return nil
}

// SendMail makes the mails that are due, and sends them.
func (d *Desk) SendMail(ctx context.Context) error {
	if d.Mail == nil {
		return nil
	}
	if err := d.make(ctx); err != nil {
		return err
	}
	for range mostTurns {
		m, err := d.Store.TakeMail(ctx, d.now(), lease)
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		if err := d.send(ctx, m); err != nil {
			return err
		}
	}
	return nil
}

// make makes a mail for each for whom something waits long enough.
func (d *Desk) make(ctx context.Context) error {
	waiting, err := d.Store.WaitingForMail(ctx)
	if err != nil {
		return err
	}
	for _, w := range waiting {
		var last time.Time
		if w.Last != nil {
			last = *w.Last
		}
		due := notice.Due(w.Oldest, last, d.now())
		if w.Daily {
			zone, err := time.LoadLocation(w.Zone)
			if err != nil {
				zone = time.UTC
			}
			due = notice.DailyDue(w.DailyAt, zone, w.DailyDone, d.now())
		}
		if !due {
			continue
		}
		if _, err := d.Store.MakeMail(ctx, w.PersonID, w.Daily, d.now()); err != nil {
			return err
		}
	}
	return nil
}

// send sends a mail that was taken, and keeps what became of it.
func (d *Desk) send(ctx context.Context, m store.Mail) error {
	p, err := d.Store.ReachOf(ctx, m.PersonID)
	if err != nil {
		return err
	}
	rows, err := d.Store.NoticesIn(ctx, m.ID)
	if err != nil {
		return err
	}
	var items []notice.Item
	for _, r := range rows {
		items = append(items, d.Item(r))
	}
	now := d.now()
	switch err = d.Mail.Send(ctx, p.Mail, fmt.Sprintf("mail-%d-%d", m.ID, m.MadeAt.Unix()), notice.Compose(items, m.Daily), d.Base); {
	case err == nil:
		m.State, m.SentAt, m.Why = "sent", &now, ""
	case ctx.Err() != nil:
		return ctx.Err()
	default:
		m.Why = notice.Line(err.Error())
		pause, more := notice.Retry(m.Tries)
		m.NextAt = now.Add(pause)
		if !more || p.Mail == "" {
			m.State = "failed"
		}
		d.Log.Warn("a mail could not be sent", "mail", m.ID, "tries", m.Tries, "why", err)
	}
	return d.Store.MailDone(ctx, m)
}

// Item is a notice as it is read: with its title, and the address of what it tells of.
func (d *Desk) Item(n store.NoticeFor) notice.Item {
	return notice.Item{Site: n.SiteName, Topic: n.Topic, Title: notice.Title(n.Text), Text: n.Text, Link: d.Base + Link(n.Notice), At: n.At, Number: n.ID}
}

// Link is where in the application that is which a notice tells of: the very finding where there is one.
func Link(n store.Notice) string {
	switch {
	case n.RunID != nil && n.FindingID != nil:
		return fmt.Sprintf("/runs/%d?finding=%d", *n.RunID, *n.FindingID)
	case n.ChangeID != nil && (n.Topic != notice.Finished && n.Topic != notice.Broken || n.RunID == nil):
		return fmt.Sprintf("/changes/%d", *n.ChangeID)
	case n.RunID != nil:
		return fmt.Sprintf("/runs/%d", *n.RunID)
	}
	return fmt.Sprintf("/sites/%d", n.SiteID)
}

// Deliver makes the deliveries that are due, several at once.
func (d *Desk) Deliver(ctx context.Context) error {
	var mu sync.Mutex
	var all sync.WaitGroup
	var failed error
	for range deliveriesAtOnce {
		all.Go(func() {
			for range mostTurns {
				x, err := d.Store.TakeDelivery(ctx, d.now(), lease)
				if errors.Is(err, store.ErrNotFound) {
					return
				}
				if err == nil {
					err = d.deliver(ctx, x)
				}
				if err != nil {
					mu.Lock()
					failed = errors.Join(failed, err)
					mu.Unlock()
					return
				}
			}
		})
	}
	all.Wait()
	return failed
}

// deliver asks a webhook, and keeps what it answered.
func (d *Desk) deliver(ctx context.Context, x store.Delivery) error {
	w, err := d.Store.Webhook(ctx, x.WebhookID)
	if err != nil {
		return err
	}
	n, err := d.Store.NoticeOf(ctx, x.NoticeID)
	if err != nil {
		return err
	}
	secret, err := d.Store.WebhookSecret(w)
	if err != nil {
		return err
	}
	x.Status, x.Answer, err = d.ask(ctx, w.Address, secret, fmt.Sprintf("notice-%d-%d", x.NoticeID, x.WebhookID), n)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	now := d.now()
	switch {
	case err == nil && x.Status/100 == 2:
		x.State = "delivered"
	case x.Status == http.StatusGone: // the specification: the receiver wants no more
		x.State = "failed"
		now := w
		now.Paused = true
		if _, err := d.Store.EditWebhook(ctx, now, w.Version); err != nil {
			return err
		}
	default:
		if err != nil {
			x.Answer = notice.Line(strings.TrimSpace(err.Error()))
		}
		pause, more := notice.Retry(x.Tries)
		x.NextAt = now.Add(pause)
		if !more {
			x.State = "failed"
		}
	}
	return d.Store.DeliveryDone(ctx, x)
}
