package browser

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"tidemarker/internal/core/journey"
)

const (
	// outboxPatience is how long the outbox may take to answer.
	outboxPatience = 5 * time.Second
	// mostListed is how much of what it answers is read.
	mostListed = 8 << 20
)

// delivery is a mail or a payment as an outbox lists it. What it says is asked for a text and
// not kept.
type delivery struct {
	At        string   `json:"at"`
	To        []string `json:"to"`
	Subject   string   `json:"subject"`
	Text      string   `json:"text"`
	Reference string   `json:"reference"`
	Amount    string   `json:"amount"`
	Outcome   string   `json:"outcome"`
}

// whole is all that is said of it, a line each.
func (d delivery) whole() string {
	return strings.Join(append(d.To, d.Subject, d.Text, d.Reference, d.Amount, d.Outcome), "\n")
}

// deliveries is what an environment's outbox had before the steps began, so that only what came
// of them counts, whatever its clock says.
type deliveries struct {
	base   string // address of the outbox
	before map[string]map[string]int
}

// lists are the names of an outbox's lists.
const (
	mailList    = "messages.json"
	paymentList = "payments.json"
)

// watchOutbox notes what the outbox has, when a step will ask for what was delivered.
func watchOutbox(ctx context.Context, base string, steps []journey.Step) (*deliveries, error) {
	d := &deliveries{base: strings.TrimSuffix(base, "/"), before: map[string]map[string]int{}}
	for _, s := range steps {
		if s.Expect == nil {
			continue
		}
		for list, wanted := range map[string]string{mailList: s.Expect.Mail, paymentList: s.Expect.Payment} {
			if wanted == "" || d.before[list] != nil {
				continue
			}
			if base == "" {
				return nil, fmt.Errorf("the environment has no outbox to ask whether something was delivered: name its address in the site file")
			}
			all, err := d.list(ctx, list)
			if err != nil {
				return nil, err
			}
			d.before[list] = map[string]int{}
			for _, x := range all {
				d.before[list][x.At+"\n"+x.whole()]++
			}
		}
	}
	return d, nil
}

// list asks the outbox; nothing that it answers leads anywhere else.
func (d *deliveries) list(ctx context.Context, name string) ([]delivery, error) {
	ctx, cancel := context.WithTimeout(ctx, outboxPatience)
	defer cancel()
	at, err := url.JoinPath(d.base, name)
	if err != nil {
		return nil, fmt.Errorf("the outbox's address %q is none: %w", d.base, err)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
	if err != nil {
		return nil, fmt.Errorf("ask the outbox: %w", err)
	}
	client := http.Client{Transport: way, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	res, err := client.Do(req)
	if err != nil {
		return nil, fmt.Errorf("ask the outbox: %w", err)
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the outbox answered %s with status %d", name, res.StatusCode)
	}
	var out []delivery
	if err := json.NewDecoder(io.LimitReader(res.Body, mostListed)).Decode(&out); err != nil {
		return nil, fmt.Errorf("the outbox's %s cannot be read: %w", name, err)
	}
	return out, nil
}

// lacks says what was expected to be delivered since the steps began and was not, or "".
func (d *deliveries) lacks(ctx context.Context, e journey.Expect) (string, error) {
	for _, w := range []struct{ list, want, what string }{{mailList, e.Mail, "mail"}, {paymentList, e.Payment, "payment"}} {
		if w.want == "" {
			continue
		}
		all, err := d.list(ctx, w.list)
		if err != nil {
			return "", err
		}
		left := map[string]int{}
		for k, n := range d.before[w.list] {
			left[k] = n
		}
		came, found := 0, false
		for _, x := range all {
			k := x.At + "\n" + x.whole()
			if left[k] > 0 {
				left[k]--
				continue
			}
			came++
			found = found || strings.Contains(fold(x.whole()), fold(w.want))
		}
		if !found {
			return fmt.Sprintf("no %s with “%s” was delivered, of %d that came since the first step", w.what, w.want, came), nil
		}
	}
	return "", nil
}
