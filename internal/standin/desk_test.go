package standin

import (
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/outbox"
	"tidemarker/internal/standin/origin"
)

func withOutbox(t *testing.T, site Site) (*shopper, *outbox.Outbox) {
	t.Helper()
	o, err := outbox.Start(outbox.Options{Mail: "127.0.0.1:0", Web: "127.0.0.1:0", Key: "tide"})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, o.Close()) })
	inst, err := Start(site, Options{Environment: "staging", Addr: "127.0.0.1:0", Desk: origin.Desk{Mail: o.MailAddr, Pay: o.URL, Key: "tide"}})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, inst.Close()) })
	return (&shopper{T: t, inst: inst}).fresh(), o
}

var (
	tokenField = regexp.MustCompile(`name="token" value="([^"]+)"`)
	backField  = regexp.MustCompile(`name="(reference|amount|back)" value="([^"]+)"`)
)

// order fills the basket and places an order, up to the payment page.
func (s *shopper) order() url.Values {
	s.Helper()
	s.post("/cart", url.Values{"kit": {"pearl-oyster-box"}})
	m := tokenField.FindStringSubmatch(s.get("/checkout").body)
	require.NotNil(s, m)
	ask := s.post("/checkout", url.Values{"token": {m[1]}, "name": {"Ada"}, "address": {"1 Mill Lane"}})
	require.Contains(s, ask.body, "Nothing is charged here")
	form := url.Values{}
	for _, f := range backField.FindAllStringSubmatch(ask.body, -1) {
		form.Set(f[1], f[2])
	}
	return form
}

func TestAnOrderIsPaidAtTheStandInAndTheOwnerIsWrittenTo(t *testing.T) {
	s, o := withOutbox(t, Fernhollow())
	form := s.order()
	assert.Contains(t, form.Get("amount"), "£")
	assert.Contains(t, s.get("/cart").body, "Pearl oyster box", "nothing is bought before it is paid")

	pay := func(outcome string) visit {
		form.Set("outcome", outcome)
		res, err := s.client.PostForm(o.URL+"/pay", form)
		require.NoError(t, err)
		return s.read(res)
	}
	refused := pay(outbox.Refused)
	assert.Equal(t, http.StatusPaymentRequired, refused.status)
	assert.Contains(t, s.get("/cart").body, "Pearl oyster box", "the basket stays")
	assert.Contains(t, pay(outbox.Paid).body, "Thank you for your order")
	assert.Contains(t, s.get("/cart").body, "Your basket is empty")
	require.Len(t, o.Messages(), 1)
	assert.Contains(t, o.Messages()[0].Text, form.Get("reference"))
	assert.Len(t, o.Payments(), 2)

	made := url.Values{"reference": {form.Get("reference")}, "amount": {form.Get("amount")}, "outcome": {outbox.Paid}, "proof": {strings.Repeat("0", 64)}}
	assert.Equal(t, http.StatusPaymentRequired, s.get("/checkout/paid?"+made.Encode()).status, "an outcome that nobody signed counts for nothing")
}

func TestAMessageGoesToTheOutboxAndSaysWhenItCannot(t *testing.T) {
	s, o := withOutbox(t, Fernhollow())
	form := url.Values{"email": {"a@example.org"}, "message": {"Does the log need light?"}}
	assert.Contains(t, s.post("/contact", form).body, "on its way")
	require.Len(t, o.Messages(), 1)
	assert.Equal(t, []string{"owner@fernhollow.example"}, o.Messages()[0].To)
	assert.Contains(t, o.Messages()[0].Text, "a@example.org")

	lost, err := Start(Fernhollow(), Options{Environment: "staging", Addr: "127.0.0.1:0", Desk: origin.Desk{Mail: "127.0.0.1:1"}})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, lost.Close()) })
	unheard := (&shopper{T: t, inst: lost}).fresh()
	assert.Equal(t, http.StatusBadGateway, unheard.post("/contact", form).status)

	q, o := withOutbox(t, Quillet())
	assert.Contains(t, q.post("/write", url.Values{"email": {"a@example.org"}, "message": {"Cloudy?"}}).body, "The warden reads mail")
	require.Len(t, o.Messages(), 1)
}
