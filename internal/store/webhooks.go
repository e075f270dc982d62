package store

import (
	"context"
	"fmt"
	"time"

	"tidemarker/internal/core/notice"
)

// Webhook is an address to which notices are sent.
type Webhook struct {
	ID      int64                `db:"id"`
	SiteID  *int64               `db:"site_id"` // nil: of all sites
	Address string               `db:"address"`
	Secret  string               `db:"secret"` // sealed
	Topics  JSON[[]notice.Topic] `db:"topics"` // none: all
	Paused  bool                 `db:"paused"`
	Version int                  `db:"version"`
	MadeBy  string               `db:"made_by"`
	MadeAt  time.Time            `db:"made_at"`
}

// Webhooks are all of them.
func (s *Store) Webhooks(ctx context.Context) ([]Webhook, error) {
	return many[Webhook](ctx, s, "the webhooks", `SELECT `+columns[Webhook]("")+` FROM webhooks ORDER BY id`)
}

// Webhook reads one.
func (s *Store) Webhook(ctx context.Context, id int64) (Webhook, error) {
	return one[Webhook](ctx, s, fmt.Sprintf("webhook %d", id), `SELECT `+columns[Webhook]("")+` FROM webhooks WHERE id = $1`, id)
}

// WebhookSecret is what a webhook's deliveries are signed with.
func (s *Store) WebhookSecret(w Webhook) (string, error) {
	secret, err := s.keys.Open(w.Secret)
	if err != nil {
		return "", fmt.Errorf("the secret of webhook %d: %w", w.ID, err)
	}
	return secret, nil
}

// NewWebhook adds one, whose secret is sealed here.
func (s *Store) NewWebhook(ctx context.Context, w Webhook) (int64, error) {
	sealed, err := s.keys.Seal(w.Secret)
	if err != nil {
		return 0, err
	}
	w.Topics.V = append([]notice.Topic{}, w.Topics.V...)
	return s.insert(ctx, "the webhook", `INSERT INTO webhooks (site_id, address, secret, topics, made_by) VALUES ($1, $2, $3, $4, $5) RETURNING id`, w.SiteID, w.Address, sealed, w.Topics, w.MadeBy)
}

// EditWebhook replaces one on condition that nobody edited it since a version; its secret stays.
func (s *Store) EditWebhook(ctx context.Context, w Webhook, version int) (ok bool, err error) {
	w.Topics.V = append([]notice.Topic{}, w.Topics.V...)
	return s.changed(ctx, "the webhook", `UPDATE webhooks SET site_id = $3, address = $4, topics = $5, paused = $6, version = version + 1 WHERE id = $1 AND version = $2`, w.ID, version, w.SiteID, w.Address, w.Topics, w.Paused)
}

// RenewWebhook gives one another secret.
func (s *Store) RenewWebhook(ctx context.Context, id int64, secret string) (ok bool, err error) {
	sealed, err := s.keys.Seal(secret)
	if err != nil {
		return false, err
	}
	return s.changed(ctx, "the webhook", `UPDATE webhooks SET secret = $2, version = version + 1 WHERE id = $1`, id, sealed)
}

// RemoveWebhook removes one with its deliveries.
func (s *Store) RemoveWebhook(ctx context.Context, id int64) (ok bool, err error) {
	return s.changed(ctx, "the webhook", `DELETE FROM webhooks WHERE id = $1`, id)
}

// Delivery is a notice that is sent to a webhook.
type Delivery struct {
	ID        int64      `db:"id"`
	WebhookID int64      `db:"webhook_id"`
	NoticeID  int64      `db:"notice_id"`
	State     string     `db:"state"`
	Tries     int        `db:"tries"`
	NextAt    time.Time  `db:"next_at"`
	Status    int        `db:"status"`
	Answer    string     `db:"answer"`
	TriedAt   *time.Time `db:"tried_at"`
}

// TakeDelivery takes one that is to be sent, for as long as that may take; [ErrNotFound] when there is none. Webhooks that are
// paused wait.
func (s *Store) TakeDelivery(ctx context.Context, now time.Time, lease time.Duration) (Delivery, error) {
	return one[Delivery](ctx, s, "a delivery to make", `UPDATE deliveries SET tries = tries + 1, next_at = $2, tried_at = $1 WHERE id = (SELECT d.id FROM deliveries d JOIN webhooks w ON w.id = d.webhook_id
		WHERE d.state = 'to send' AND d.next_at <= $1 AND NOT w.paused ORDER BY d.next_at LIMIT 1 FOR UPDATE OF d SKIP LOCKED) RETURNING `+columns[Delivery](""), now, now.Add(lease))
}

// DeliveryDone keeps what became of one.
func (s *Store) DeliveryDone(ctx context.Context, d Delivery) error {
	return s.exec(ctx, "the delivery", `UPDATE deliveries SET state = $2, next_at = $3, status = $4, answer = $5 WHERE id = $1`, d.ID, d.State, d.NextAt, d.Status, d.Answer)
}

// SendAgain has one made once more; ok is false when it is to be made anyway.
func (s *Store) SendAgain(ctx context.Context, id int64, now time.Time) (ok bool, err error) {
	return s.changed(ctx, "the delivery", `UPDATE deliveries SET state = 'to send', tries = 0, next_at = $2 WHERE id = $1 AND state <> 'to send'`, id, now)
}

// NoticeOf is the notice that a delivery is of, with the name of its site.
func (s *Store) NoticeOf(ctx context.Context, id int64) (NoticeFor, error) {
	return one[NoticeFor](ctx, s, fmt.Sprintf("notice %d", id), `SELECT `+columns[Notice]("n")+`, s.name AS site_name, '' AS how, NULL::timestamptz AS read_at FROM notices n JOIN sites s ON s.id = n.site_id WHERE n.id = $1`, id)
}

// DeliveryTo is a delivery with what it tells.
type DeliveryTo struct {
	Delivery
	Topic    notice.Topic `db:"topic"`
	Text     string       `db:"text"`
	SiteName string       `db:"site_name"`
}

// Deliveries are those of a webhook, the latest first, a page of them before a number (0 for the newest).
func (s *Store) Deliveries(ctx context.Context, webhookID, before int64, limit int) ([]DeliveryTo, error) {
	return many[DeliveryTo](ctx, s, "the deliveries", `SELECT `+columns[Delivery]("d")+`, n.topic, n.text, s.name AS site_name FROM deliveries d JOIN notices n ON n.id = d.notice_id JOIN sites s ON s.id = n.site_id
		WHERE d.webhook_id = $1 AND ($2 = 0 OR d.id < $2) ORDER BY d.id DESC LIMIT $3`, webhookID, before, limit)
}

// WebhookOf is the webhook of a delivery.
func (s *Store) WebhookOf(ctx context.Context, delivery int64) (Webhook, error) {
	return one[Webhook](ctx, s, fmt.Sprintf("delivery %d", delivery), `SELECT `+columns[Webhook]("w")+` FROM webhooks w JOIN deliveries d ON d.webhook_id = w.id WHERE d.id = $1`, delivery)
}

// Feed is somebody's secret address of a feed.
type Feed struct {
	PersonID int64      `db:"person_id"`
	MadeAt   time.Time  `db:"made_at"`
	UsedAt   *time.Time `db:"used_at"`
}

// NewFeed gives somebody's feed an address, in place of the one that it had.
func (s *Store) NewFeed(ctx context.Context, personID int64) (secret string, err error) {
	secret, hash := newSecret("feed_")
	return secret, s.exec(ctx, "the feed's address", `INSERT INTO feeds (person_id, secret) VALUES ($1, $2) ON CONFLICT (person_id) DO UPDATE SET secret = excluded.secret, made_at = now(), used_at = NULL`, personID, hash)
}

// RemoveFeed takes it away; ok is false when there is none.
func (s *Store) RemoveFeed(ctx context.Context, personID int64) (ok bool, err error) {
	return s.changed(ctx, "the feed's address", `DELETE FROM feeds WHERE person_id = $1`, personID)
}

// FeedOf is somebody's; [ErrNotFound] when they have none.
func (s *Store) FeedOf(ctx context.Context, personID int64) (Feed, error) {
	return one[Feed](ctx, s, "an address of the feed", `SELECT `+columns[Feed]("")+` FROM feeds WHERE person_id = $1`, personID)
}

// UseFeed finds whose feed a secret is; [ErrNotFound] when it is nobody's, or that of somebody who is kept out.
func (s *Store) UseFeed(ctx context.Context, secret string) (Feed, error) {
	return one[Feed](ctx, s, "a feed at this address", `UPDATE feeds f SET used_at = now() FROM people p WHERE f.secret = $1 AND p.id = f.person_id AND NOT p.disabled RETURNING `+columns[Feed]("f"), secretHash(secret))
}
