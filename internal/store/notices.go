package store

import (
	"context"
	"fmt"
	"time"

	"tidemarker/internal/core/notice"
	"tidemarker/internal/core/people"
)

// Notice is something that people are told.
type Notice struct {
	ID        int64          `db:"id"`
	SiteID    int64          `db:"site_id"`
	ChangeID  *int64         `db:"change_id"`
	RunID     *int64         `db:"run_id"`
	FindingID *int64         `db:"finding_id"`
	Topic     notice.Topic   `db:"topic"`
	Text      string         `db:"text"`
	Who       string         `db:"who"`
	People    JSON[[]string] `db:"people"`
	At        time.Time      `db:"at"`
}

// Notify records what people are told, in the transaction in which it happens. What stands in the history, too, is recorded by
// [Store.Record].
func (s *Store) Notify(ctx context.Context, e Event) error {
	var names any
	if e.For != nil {
		names = JSON[[]string]{V: e.For}
	}
	return s.exec(ctx, "the notice", `INSERT INTO notices (site_id, change_id, run_id, finding_id, topic, text, who, people) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`,
		e.SiteID, e.ChangeID, e.RunID, e.FindingID, e.Topic, e.Text, e.Who, names)
}

// handToPeople gives the notices $1 to those whom they concern, by the topics in $2, each in the way they chose: for the site, for all
// sites, or as it is by default; whoever has said no mail address, in the application. Nobody is told of what they did themselves.
const handToPeople = `INSERT INTO notice_for (person_id, notice_id, how)
	SELECT p.id, n.id, CASE WHEN p.mail = '' AND chosen.how IN ('at once', 'daily') THEN 'here' ELSE chosen.how END FROM notices n
	JOIN jsonb_each($2::jsonb) AS t(topic, about) ON t.topic = n.topic
	JOIN people p ON NOT p.disabled AND CASE WHEN n.people IS NULL THEN NOT (t.about->>'named')::boolean AND t.about->'roles' ? p.role ELSE n.people ? p.name END
		AND p.name <> split_part(n.who, ' (token ', 1)
	LEFT JOIN notice_choices here ON here.person_id = p.id AND here.site_id = n.site_id AND here.topic = n.topic
	LEFT JOIN notice_choices everywhere ON everywhere.person_id = p.id AND everywhere.site_id IS NULL AND everywhere.topic = n.topic
	CROSS JOIN LATERAL (SELECT coalesce(here.how, everywhere.how, t.about->>'how') AS how) chosen
	WHERE n.id = ANY($1) AND chosen.how <> 'never'
	ON CONFLICT DO NOTHING`

// handToWebhooks has them delivered, from $2 on.
const handToWebhooks = `INSERT INTO deliveries (webhook_id, notice_id, next_at)
	SELECT w.id, n.id, $2 FROM notices n JOIN webhooks w ON NOT w.paused AND (w.site_id IS NULL OR w.site_id = n.site_id) AND (w.topics = '[]' OR w.topics ? n.topic)
	WHERE n.id = ANY($1) ON CONFLICT DO NOTHING`

// mostHanded is how many notices are handed out in one transaction.
const mostHanded = 500

// HandOut gives notices that are new to the people who get them, each in the way that they chose, and to webhooks. It returns how
// many those were; several processes may do it at once.
func (s *Store) HandOut(ctx context.Context, now time.Time) (n int, err error) {
	topics := map[string]map[string]any{}
	for _, t := range notice.Topics {
		roles := []people.Role{}
		for _, r := range people.Roles {
			if r.May(t.Who) {
				roles = append(roles, r)
			}
		}
		topics[string(t.Topic)] = map[string]any{"how": t.Default, "roles": roles, "named": t.Named}
	}
	err = s.Within(ctx, func(s *Store) error {
		ids, err := many[int64](ctx, s, "the notices", `SELECT id FROM notices WHERE NOT handed ORDER BY id LIMIT $1 FOR UPDATE SKIP LOCKED`, mostHanded)
		if err != nil || len(ids) == 0 {
			return err
		}
		n = len(ids)
		if _, err := s.changed(ctx, "the notices", handToPeople, ids, JSON[any]{V: topics}); err != nil {
			return err
		}
		if _, err := s.changed(ctx, "the deliveries", handToWebhooks, ids, now); err != nil {
			return err
		}
		if err := s.exec(ctx, "the notices", `UPDATE notices SET handed = true WHERE id = ANY($1)`, ids); err != nil {
			return err
		}
		return s.Tell(ctx, Signal{Notices: true})
	})
	return n, err
}

// Waiting is somebody for whom notices wait to be mailed.
type Waiting struct {
	PersonID  int64      `db:"person_id"`
	Mail      string     `db:"mail"`
	Daily     bool       `db:"daily"` // these go with the mail of the day
	Oldest    time.Time  `db:"oldest"`
	Last      *time.Time `db:"last"` // when their last mail at once was made
	DailyAt   string     `db:"daily_at"`
	Zone      string     `db:"zone"`
	DailyDone time.Time  `db:"daily_done"`
}

// WaitingForMail lists for whom notices wait to be mailed, who have said an address.
func (s *Store) WaitingForMail(ctx context.Context) ([]Waiting, error) {
	return many[Waiting](ctx, s, "who waits for mail", `SELECT f.person_id, p.mail, f.how = 'daily' AS daily, min(n.at) AS oldest, p.daily_at, p.zone, p.daily_done,
		(SELECT max(m.made_at) FROM mails m WHERE m.person_id = f.person_id AND NOT m.daily) AS last
		FROM notice_for f JOIN notices n ON n.id = f.notice_id JOIN people p ON p.id = f.person_id
		WHERE f.mail_id IS NULL AND f.how IN ('at once', 'daily') AND p.mail <> '' AND NOT p.disabled GROUP BY f.person_id, f.how, p.id`)
}

// Mail is what is sent to somebody.
type Mail struct {
	ID       int64      `db:"id"`
	PersonID int64      `db:"person_id"`
	Daily    bool       `db:"daily"`
	State    string     `db:"state"`
	Tries    int        `db:"tries"`
	NextAt   time.Time  `db:"next_at"`
	Why      string     `db:"why"`
	Notices  int        `db:"notices"`
	MadeAt   time.Time  `db:"made_at"`
	SentAt   *time.Time `db:"sent_at"`
}

// MakeMail makes one mail of all that waits for somebody, in one way; ok is false when nothing does, or somebody else made it.
func (s *Store) MakeMail(ctx context.Context, personID int64, daily bool, now time.Time) (ok bool, err error) {
	how := notice.AtOnce
	if daily {
		how = notice.Daily
	}
	err = s.Within(ctx, func(s *Store) error {
		if _, err := one[int64](ctx, s, "the person", `SELECT id FROM people WHERE id = $1 FOR UPDATE`, personID); err != nil {
			return err
		}
		if daily {
			if err := s.exec(ctx, "the person", `UPDATE people SET daily_done = $2 WHERE id = $1`, personID, now); err != nil {
				return err
			}
		}
		waiting, err := one[int](ctx, s, "the notices", `SELECT count(*) FROM notice_for WHERE person_id = $1 AND how = $2 AND mail_id IS NULL`, personID, how)
		if err != nil || waiting == 0 {
			return err
		}
		id, err := s.insert(ctx, "the mail", `INSERT INTO mails (person_id, daily, next_at, notices, made_at) VALUES ($1, $2, $3, $4, $3) RETURNING id`, personID, daily, now, waiting)
		if err != nil {
			return err
		}
		ok = true
		return s.exec(ctx, "the notices", `UPDATE notice_for SET mail_id = $3 WHERE person_id = $1 AND how = $2 AND mail_id IS NULL`, personID, how, id)
	})
	return ok, err
}

// TakeMail takes a mail that is to be sent, for as long as sending may take: whoever is killed meanwhile leaves it to others then.
// [ErrNotFound] when there is none.
func (s *Store) TakeMail(ctx context.Context, now time.Time, lease time.Duration) (Mail, error) {
	return one[Mail](ctx, s, "a mail to send", `UPDATE mails SET tries = tries + 1, next_at = $2 WHERE id = (SELECT id FROM mails WHERE state = 'to send' AND next_at <= $1 ORDER BY next_at LIMIT 1 FOR UPDATE SKIP LOCKED)
		RETURNING `+columns[Mail](""), now, now.Add(lease))
}

// MailDone keeps what became of a mail.
func (s *Store) MailDone(ctx context.Context, m Mail) error {
	return s.exec(ctx, "the mail", `UPDATE mails SET state = $2, next_at = $3, why = $4, sent_at = $5 WHERE id = $1`, m.ID, m.State, m.NextAt, m.Why, m.SentAt)
}

// MailsOf are the latest mails to somebody.
func (s *Store) MailsOf(ctx context.Context, personID int64, limit int) ([]Mail, error) {
	return many[Mail](ctx, s, "the mails", `SELECT `+columns[Mail]("")+` FROM mails WHERE person_id = $1 ORDER BY id DESC LIMIT $2`, personID, limit)
}

// NoticeFor is a notice as somebody has it.
type NoticeFor struct {
	Notice
	SiteName string     `db:"site_name"`
	How      notice.How `db:"how"`
	ReadAt   *time.Time `db:"read_at"`
}

const noticeForSQL = `, s.name AS site_name, f.how, f.read_at FROM notice_for f JOIN notices n ON n.id = f.notice_id JOIN sites s ON s.id = n.site_id `

// NoticesIn are the notices of a mail.
func (s *Store) NoticesIn(ctx context.Context, mailID int64) ([]NoticeFor, error) {
	return many[NoticeFor](ctx, s, "the notices", `SELECT `+columns[Notice]("n")+noticeForSQL+`WHERE f.mail_id = $1 ORDER BY n.id`, mailID)
}

// NoticesOf are somebody's notices, the latest first, a page of them before a number (0 for the newest).
func (s *Store) NoticesOf(ctx context.Context, personID, before int64, unread bool, limit int) ([]NoticeFor, error) {
	return many[NoticeFor](ctx, s, "the notices", `SELECT `+columns[Notice]("n")+noticeForSQL+`WHERE f.person_id = $1 AND ($2 = 0 OR n.id < $2) AND (NOT $3 OR f.read_at IS NULL) ORDER BY n.id DESC LIMIT $4`, personID, before, unread, limit)
}

// Unread counts somebody's notices that they have not read.
func (s *Store) Unread(ctx context.Context, personID int64) (int, error) {
	return one[int](ctx, s, "the notices", `SELECT count(*) FROM notice_for WHERE person_id = $1 AND read_at IS NULL`, personID)
}

// ReadNotices says that somebody has read notices up to a number, or one of them.
func (s *Store) ReadNotices(ctx context.Context, personID, upTo, only int64) error {
	_, err := s.changed(ctx, "the notices", `UPDATE notice_for SET read_at = now() WHERE person_id = $1 AND read_at IS NULL AND CASE WHEN $3 > 0 THEN notice_id = $3 ELSE notice_id <= $2 END`, personID, upTo, only)
	return err
}

// Choice is how a topic reaches somebody.
type Choice struct {
	SiteID *int64       `db:"site_id"`
	Topic  notice.Topic `db:"topic"`
	How    notice.How   `db:"how"`
}

// Choices are what somebody has chosen.
func (s *Store) Choices(ctx context.Context, personID int64) ([]Choice, error) {
	return many[Choice](ctx, s, "the choices", `SELECT site_id, topic, how FROM notice_choices WHERE person_id = $1 ORDER BY site_id NULLS FIRST, topic`, personID)
}

// Choose keeps how a topic reaches somebody; "" takes what is said elsewhere.
func (s *Store) Choose(ctx context.Context, personID int64, c Choice) error {
	if c.How == "" {
		_, err := s.changed(ctx, "the choice", `DELETE FROM notice_choices WHERE person_id = $1 AND site_id IS NOT DISTINCT FROM $2 AND topic = $3`, personID, c.SiteID, c.Topic)
		return err
	}
	return s.exec(ctx, "the choice", `INSERT INTO notice_choices (person_id, site_id, topic, how) VALUES ($1, $2, $3, $4) ON CONFLICT (person_id, site_id, topic) DO UPDATE SET how = excluded.how`, personID, c.SiteID, c.Topic, c.How)
}

// Reach is where mail reaches somebody, and when that of the day.
type Reach struct {
	Mail    string `db:"mail"`
	DailyAt string `db:"daily_at"`
	Zone    string `db:"zone"`
}

// ReachOf is somebody's.
func (s *Store) ReachOf(ctx context.Context, personID int64) (Reach, error) {
	return one[Reach](ctx, s, fmt.Sprintf("person %d", personID), `SELECT mail, daily_at, zone FROM people WHERE id = $1`, personID)
}

// SaveReach keeps it.
func (s *Store) SaveReach(ctx context.Context, personID int64, r Reach) error {
	return s.exec(ctx, "the person", `UPDATE people SET mail = $2, daily_at = $3, zone = $4 WHERE id = $1`, personID, r.Mail, r.DailyAt, r.Zone)
}
