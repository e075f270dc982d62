package post

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"tidemarker/internal/core/notice"
	"tidemarker/internal/store"
)

const (
	// answersFor is how long a webhook may take to answer (the specification suggests 15 to 30 seconds), and mostAnswer how much
	// of the answer is kept, in octets.
	answersFor, mostAnswer = 20 * time.Second, 500
	secretPrefix           = "whsec_"
)

// NewSecret makes what a webhook's deliveries are signed with: 32 octets, in the form of the Standard Webhooks specification.
func NewSecret() string {
	raw := make([]byte, 32)
	_, _ = rand.Read(raw) // never fails (crypto/rand)
	return secretPrefix + base64.StdEncoding.EncodeToString(raw)
}

// CheckAddress says what is wrong with the address of a webhook.
func CheckAddress(address string) error {
	u, err := url.Parse(address)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https":
		return errors.New("a webhook's address begins with https:// or http://")
	case u.User != nil:
		return errors.New("a webhook's address has no name and password: deliveries are signed instead")
	case len(address) > 2000:
		return errors.New("a webhook's address has 2000 characters at most")
	}
	return nil
}

// Payload is what a webhook is told.
type Payload struct {
	Type      string    `json:"type"` // "notice." and the topic
	Timestamp time.Time `json:"timestamp"`
	Data      Told      `json:"data"`
}

// Told is the notice in a payload.
type Told struct {
	Notice  int64  `json:"notice"`
	Topic   string `json:"topic"`
	Site    string `json:"site"`
	SiteID  int64  `json:"siteId"`
	Change  int64  `json:"change,omitempty"`
	Run     int64  `json:"run,omitempty"`
	Finding int64  `json:"finding,omitempty"`
	Title   string `json:"title"`
	Text    string `json:"text"`
	Who     string `json:"who"`
	Link    string `json:"link"`
}

// ask sends a notice to a webhook, signed as the Standard Webhooks specification says, and returns what it answered.
func (d *Desk) ask(ctx context.Context, address, secret, id string, n store.NoticeFor) (status int, answer string, err error) {
	or := func(p *int64) int64 {
		if p == nil {
			return 0
		}
		return *p
	}
	body, err := json.Marshal(Payload{Type: "notice." + string(n.Topic), Timestamp: n.At.UTC(), Data: Told{Notice: n.ID, Topic: string(n.Topic), Site: n.SiteName, SiteID: n.SiteID,
		Change: or(n.ChangeID), Run: or(n.RunID), Finding: or(n.FindingID), Title: notice.Title(n.Text), Text: n.Text, Who: n.Who, Link: d.Base + Link(n.Notice)}})
	if err != nil {
		return 0, "", err
	}
	asking, cancel := context.WithTimeout(ctx, answersFor)
	defer cancel()
	req, err := http.NewRequestWithContext(asking, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return 0, "", err
	}
	at := d.now()
	signer, err := standardwebhooks.NewWebhook(secret)
	if err != nil {
		return 0, "", errors.New("its secret cannot be read; give it another")
	}
	signature, err := signer.Sign(id, at, body)
	if err != nil {
		return 0, "", err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("User-Agent", "TideMarker")
	req.Header.Set(standardwebhooks.HeaderWebhookID, id)
	req.Header.Set(standardwebhooks.HeaderWebhookTimestamp, strconv.FormatInt(at.Unix(), 10))
	req.Header.Set(standardwebhooks.HeaderWebhookSignature, signature)
	res, err := d.client().Do(req)
	if err != nil {
		return 0, "", plain(err)
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, mostAnswer))
	return res.StatusCode, strings.ReplaceAll(strings.ToValidUTF8(string(raw), "�"), "\x00", ""), err
}

// plain is an error without the address, which may hold what the receiver takes for a secret.
func plain(err error) error {
	if e, is := errors.AsType[*url.Error](err); is {
		if e.Timeout() {
			return fmt.Errorf("no answer within %s", answersFor)
		}
		return e.Err
	}
	return err
}

// client follows no redirection: an answer that leads elsewhere is none.
func (d *Desk) client() *http.Client {
	if d.Client != nil {
		return d.Client
	}
	return &http.Client{Timeout: answersFor, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}
