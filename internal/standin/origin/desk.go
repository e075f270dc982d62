package origin

import (
	"crypto/hmac"
	"fmt"
	"net/http"
	"net/smtp"
	"strings"

	"tidemarker/internal/outbox"
)

// Desk is where a site's mail and its payments go. The zero value goes nowhere: mail
// counts as sent, orders as paid.
type Desk struct {
	Mail string // address of the mail server, host and port
	Pay  string // base address of the payment page
	Key  string // with which that signs what came of a payment
}

// Write sends a mail to the site's owner. Its subject is the site's own; what visitors
// wrote goes into the text.
func (d Desk) Write(site, subject string, lines ...string) error {
	if d.Mail == "" {
		return nil
	}
	from, to := "site@"+site+".example", "owner@"+site+".example"
	text := fmt.Sprintf("From: %s\r\nTo: %s\r\nSubject: %s\r\n\r\n%s\r\n", from, to, subject, strings.Join(lines, "\r\n"))
	return smtp.SendMail(d.Mail, nil, from, []string{to}, []byte(text))
}

// AskToPay is where somebody is sent to pay, and to come back from to an address of the
// site; "" when orders count as paid.
func (d Desk) AskToPay(reference, amount, back string) string {
	if d.Pay == "" {
		return ""
	}
	return outbox.AskURL(d.Pay, reference, amount, back)
}

// Outcome is what came of a payment, "" when somebody made it up.
func (d Desk) Outcome(r *http.Request) string {
	q := r.URL.Query()
	want := outbox.Sign(d.Key, q.Get("reference"), q.Get("amount"), q.Get("outcome"))
	if d.Pay == "" || !hmac.Equal([]byte(want), []byte(q.Get("proof"))) {
		return ""
	}
	return q.Get("outcome")
}
