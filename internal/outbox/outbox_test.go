package outbox_test

import (
	"encoding/json"
	"io"
	"net/http"
	"net/smtp"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/outbox"
)

func start(t *testing.T) *outbox.Outbox {
	t.Helper()
	o, err := outbox.Start(outbox.Options{Mail: "127.0.0.1:0", Web: "127.0.0.1:0", Key: "tide"})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, o.Close()) })
	return o
}

func TestMailIsKeptAndShownAsText(t *testing.T) {
	o := start(t)
	body := "From: shop@example.org\r\nTo: ada@example.org\r\nSubject: =?utf-8?q?Your_order_=E2=80=93_thanks?=\r\n\r\n<script>alert(1)</script>\r\nTwo boxes.\r\n"
	require.NoError(t, smtp.SendMail(o.MailAddr, nil, "shop@example.org", []string{"ada@example.org", "owner@example.org"}, []byte(body)))
	got := o.Messages()
	require.Len(t, got, 1)
	assert.Equal(t, "Your order – thanks", got[0].Subject, "RFC 2047")
	assert.Equal(t, []string{"ada@example.org", "owner@example.org"}, got[0].To)
	assert.Contains(t, got[0].Text, "Two boxes.")

	res, err := http.Get(o.URL + "/")
	require.NoError(t, err)
	defer res.Body.Close()
	page, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	assert.NotContains(t, string(page), "<script>", "what a site sends is hostile")
	assert.Contains(t, string(page), "&lt;script&gt;")
	assert.Contains(t, res.Header.Get("Content-Security-Policy"), "default-src 'none'")
}

func TestOnlyTheNewestMailIsKept(t *testing.T) {
	o := start(t)
	c, err := smtp.Dial(o.MailAddr)
	require.NoError(t, err)
	defer c.Close()
	for n := range 510 {
		require.NoError(t, c.Mail("a@example.org"))
		require.NoError(t, c.Rcpt("b@example.org"))
		w, err := c.Data()
		require.NoError(t, err)
		_, err = io.WriteString(w, "Subject: "+strings.Repeat("x", n%7)+"\r\n\r\nbody\r\n")
		require.NoError(t, err)
		require.NoError(t, w.Close())
	}
	assert.Len(t, o.Messages(), 500)
}

func TestAPaymentLeadsBackSigned(t *testing.T) {
	o := start(t)
	stay := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	for outcome, want := range map[string]int{outbox.Paid: http.StatusSeeOther, outbox.Refused: http.StatusSeeOther, "stolen": http.StatusBadRequest} {
		res, err := stay.PostForm(o.URL+"/pay", url.Values{"reference": {"FH-1"}, "amount": {"£12.00"}, "back": {"http://shop.example/paid?x=1"}, "outcome": {outcome}})
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		require.Equal(t, want, res.StatusCode, outcome)
		if want != http.StatusSeeOther {
			continue
		}
		to, err := res.Location()
		require.NoError(t, err)
		assert.Equal(t, "shop.example", to.Host)
		assert.Equal(t, "1", to.Query().Get("x"))
		assert.Equal(t, outcome, to.Query().Get("outcome"))
		assert.Equal(t, outbox.Sign("tide", "FH-1", "£12.00", outcome), to.Query().Get("proof"))
	}
	res, err := http.Get(o.URL + "/payments.json")
	require.NoError(t, err)
	defer res.Body.Close()
	var list []outbox.Payment
	require.NoError(t, json.NewDecoder(res.Body).Decode(&list))
	assert.Len(t, list, 2)
}

func TestAPaymentWithoutAWayBackIsRefused(t *testing.T) {
	o := start(t)
	for _, ask := range []string{"/pay", "/pay?reference=1&amount=2", "/pay?reference=1&amount=2&back=javascript:alert(1)", "/pay?reference=1&amount=2&back=/local"} {
		res, err := http.Get(o.URL + ask)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		assert.Equal(t, http.StatusBadRequest, res.StatusCode, ask)
	}
}

func TestAnAddressThatIsTakenIsSaid(t *testing.T) {
	o := start(t)
	_, err := outbox.Start(outbox.Options{Mail: "127.0.0.1:0", Web: strings.TrimPrefix(o.URL, "http://")})
	assert.ErrorContains(t, err, "listen for payments")
	_, err = outbox.Start(outbox.Options{Mail: o.MailAddr, Web: "127.0.0.1:0"})
	assert.ErrorContains(t, err, "listen for mail")
}

func TestCallsOfWebhooksAreKept(t *testing.T) {
	o := start(t)
	for n, body := range []string{`{"type":"notice.broken"}`, strings.Repeat("x", 65<<10)} {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, o.HookURL("team"), strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("webhook-id", "notice-1")
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		assert.Equal(t, []int{http.StatusNoContent, http.StatusRequestEntityTooLarge}[n], res.StatusCode)
	}
	got := o.Hooks()
	require.Len(t, got, 1)
	assert.Equal(t, "team", got[0].Name)
	assert.Equal(t, "notice-1", got[0].ID)
	assert.Contains(t, got[0].Body, "notice.broken")
}

func TestOfAMailInSeveralPartsThePlainTextIsShown(t *testing.T) {
	o := start(t)
	body := "From: a@example.org\r\nTo: b@example.org\r\nSubject: Two\r\nMIME-Version: 1.0\r\nContent-Type: multipart/alternative; boundary=edge\r\n\r\n" +
		"--edge\r\nContent-Type: text/html\r\n\r\n<p>as HTML</p>\r\n--edge\r\nContent-Type: text/plain; charset=UTF-8\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\nas =E2=80=9Ctext=E2=80=9D\r\n--edge--\r\n"
	require.NoError(t, smtp.SendMail(o.MailAddr, nil, "a@example.org", []string{"b@example.org"}, []byte(body)))
	assert.Equal(t, "as “text”", o.Messages()[0].Text)
}
