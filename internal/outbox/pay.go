package outbox

import (
	"crypto/hmac"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"encoding/json"
	"html/template"
	"net/http"
	"net/url"

	"github.com/go-chi/chi/v5"
)

// Payment is one that a shop asked for. Nothing is charged.
type Payment struct {
	At        string `json:"at"` // RFC 3339, UTC
	Reference string `json:"reference"`
	Amount    string `json:"amount"`
	Outcome   string `json:"outcome"` // paid, refused
}

// The outcomes of a payment.
const (
	Paid    = "paid"
	Refused = "refused"
)

// Sign is the proof of an outcome that a shop can check: the HMAC-SHA-256 of reference,
// amount and outcome, a line each, as hex.
func Sign(key, reference, amount, outcome string) string {
	h := hmac.New(sha256.New, []byte(key))
	h.Write([]byte(reference + "\n" + amount + "\n" + outcome))
	return hex.EncodeToString(h.Sum(nil))
}

// AskURL is where a shop sends somebody to pay; back is the shop's own address, to
// which reference, amount, outcome and proof are added.
func AskURL(base, reference, amount, back string) string {
	return base + "/pay?" + url.Values{"reference": {reference}, "amount": {amount}, "back": {back}}.Encode()
}

//go:embed *.html
var pages embed.FS

var templates = template.Must(template.ParseFS(pages, "*.html"))

func (o *Outbox) routes() http.Handler {
	r := chi.NewRouter()
	r.Use(func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Cache-Control", "no-store")
			w.Header().Set("X-Content-Type-Options", "nosniff")
			w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'; base-uri 'none'")
			next.ServeHTTP(w, r)
		})
	})
	r.Get("/", func(w http.ResponseWriter, _ *http.Request) {
		draw(w, "list.html", map[string]any{"Messages": o.Messages(), "Payments": o.Payments(), "Hooks": o.Hooks(), "Mail": o.MailAddr})
	})
	r.Get("/messages.json", func(w http.ResponseWriter, _ *http.Request) { list(w, o.Messages()) })
	r.Get("/payments.json", func(w http.ResponseWriter, _ *http.Request) { list(w, o.Payments()) })
	r.Get("/hooks.json", func(w http.ResponseWriter, _ *http.Request) { list(w, o.Hooks()) })
	r.Post("/hooks/{name}", o.hook)
	r.Get("/pay", o.ask)
	r.Post("/pay", o.pay)
	return r
}

func list(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v)
}

func draw(w http.ResponseWriter, name string, data any) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = templates.ExecuteTemplate(w, name, data)
}

// ask shows what would be paid.
func (o *Outbox) ask(w http.ResponseWriter, r *http.Request) {
	back, ok := backTo(r)
	if !ok {
		http.Error(w, "Give reference, amount, and in back the address of the shop to come back to.", http.StatusBadRequest)
		return
	}
	draw(w, "pay.html", map[string]any{"Reference": r.FormValue("reference"), "Amount": r.FormValue("amount"), "Back": back.String(), "Shop": back.Host})
}

// pay notes the outcome and leads back with it.
func (o *Outbox) pay(w http.ResponseWriter, r *http.Request) {
	back, ok := backTo(r)
	outcome := r.FormValue("outcome")
	if !ok || outcome != Paid && outcome != Refused {
		http.Error(w, "Give reference, amount, back, and as outcome paid or refused.", http.StatusBadRequest)
		return
	}
	p := Payment{At: stamp(), Reference: r.FormValue("reference"), Amount: r.FormValue("amount"), Outcome: outcome}
	o.mu.Lock()
	o.payments = last(append(o.payments, p))
	o.mu.Unlock()
	q := back.Query()
	q.Set("reference", p.Reference)
	q.Set("amount", p.Amount)
	q.Set("outcome", outcome)
	q.Set("proof", Sign(o.key, p.Reference, p.Amount, outcome))
	back.RawQuery = q.Encode()
	http.Redirect(w, r, back.String(), http.StatusSeeOther)
}

func backTo(r *http.Request) (*url.URL, bool) {
	u, err := url.Parse(r.FormValue("back"))
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || r.FormValue("reference") == "" || r.FormValue("amount") == "" {
		return nil, false
	}
	return u, true
}
