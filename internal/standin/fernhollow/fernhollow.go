// Package fernhollow is the origin of the invented shop Fernhollow: mushroom-growing
// kits, a basket, a checkout and a field library. It renders pages as a real shop's
// server does and knows nothing of the speed layer in front of it.
//
// [New] returns one instance with a state of its own; all prices, names and
// pictures are made up.
package fernhollow

import (
	"bytes"
	"embed"
	"encoding/json"
	"fmt"
	"html/template"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-chi/chi/v5"

	"tidemarker/internal/outbox"
	"tidemarker/internal/standin/origin"
)

//go:embed templates assets
var files embed.FS

// Shop is one instance of Fernhollow.
type Shop struct {
	base     string // address under which the site is reached, for the sitemap
	now      func() time.Time
	desk     origin.Desk
	pages    map[string]*template.Template
	sessions *origin.Sessions[[]cartLine]
	members  *origin.Members
	tokens   *origin.Tokens
	records  origin.Records
	router   chi.Router
	orders   atomic.Int64 // how many were placed

	mu     sync.Mutex
	quotes map[string]int    // how often a page was made, for each kind of device
	leads  map[string]string // of articles that were edited, by slug
	notes  map[string]string // for the carrier, by the cookie of whoever is signed in
}

// MemberCookie is the cookie of whoever is signed in; its value begins with the role.
const MemberCookie = "fern_member"

// TokenLifetime is how long a checkout form may stay open before its token is
// refused.
const TokenLifetime = time.Hour

// New returns an instance that is reached under base, such as http://127.0.0.1:9101.
func New(base string, now func() time.Time, desk origin.Desk) (*Shop, error) {
	s := &Shop{base: base, now: now, desk: desk, sessions: origin.NewSessions[[]cartLine]("fern_session"), members: origin.NewMembers(MemberCookie, members),
		tokens: origin.NewTokens(now, TokenLifetime), leads: map[string]string{}, notes: map[string]string{}, quotes: map[string]int{}}
	for _, a := range articles {
		for n := range 12 {
			s.records.Add(origin.Revisions, fmt.Sprintf("%s, as it was %d edits ago", a.Title, 12-n))
		}
		s.records.Add(origin.Drafts, "Notes for "+a.Title)
	}
	for n := range 31 {
		s.records.Add(origin.Spam, fmt.Sprintf("offer %d", n))
	}
	var err error
	if s.pages, err = origin.Pages(files, "layout.html"); err != nil {
		return nil, fmt.Errorf("fernhollow's templates: %w", err)
	}
	assets, err := fs.Sub(files, "assets")
	if err != nil {
		return nil, fmt.Errorf("fernhollow's assets: %w", err)
	}
	r := chi.NewRouter()
	r.Get("/", s.home)
	r.Get("/kits", s.listing)
	r.Get("/kits/{slug}", s.product)
	r.Get("/search", s.search)
	r.Get("/cart", s.cart)
	r.Post("/cart", s.addToCart)
	r.Get("/checkout", s.checkout)
	r.Post("/checkout", s.order)
	r.Get("/checkout/paid", s.paid)
	r.Get("/library/{slug}", s.article)
	r.Get("/library/{slug}/edit", s.editing)
	r.Post("/library/{slug}/edit", s.editing)
	r.Get("/library/members/{slug}", s.memberArticle)
	r.Get("/account", s.account)
	r.Post("/account/sign-in", s.signIn)
	r.Post("/account/sign-out", s.signOut)
	r.Post("/account/note", s.note)
	r.Get("/frames/mill", s.mill)
	r.Get("/api/pulse", s.pulse)
	r.Get("/feed.xml", s.feed)
	r.Get("/contact", s.contact)
	r.Post("/contact", s.message)
	r.Get("/api/cart", s.cartCount)
	r.Get("/pictures/{name}", servePicture)
	r.Get("/sitemap.xml", s.sitemap)
	r.Get("/favicon.ico", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) })
	r.Get("/type/*", serveType(assets))
	r.Handle("/assets/*", http.StripPrefix("/assets/", http.FileServerFS(assets)))
	r.NotFound(s.missing)
	s.router = r
	return s, nil
}

// OtherHost is the second name under which an instance is reached, as a host for
// lettering or assets; with its port, as a browser sees it: another host.
func OtherHost(base string) string { return strings.Replace(base, "127.0.0.1", "localhost", 1) }

// serveType delivers the lettering to every site, as a type service does.
func serveType(assets fs.FS) http.HandlerFunc {
	server := http.FileServerFS(assets)
	return func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Access-Control-Allow-Origin", "*")
		server.ServeHTTP(w, r)
	}
}

func (s *Shop) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.router.ServeHTTP(w, r) }

// page is what every template gets.
type page struct {
	Title string
	Path  string
	Quote quotation
	Made  string
	Who   string // whoever is signed in
	Phone bool
	// TypeHost is the host that delivers the lettering; it is not the site's own.
	TypeHost string
	Data     any
}

func (s *Shop) render(w http.ResponseWriter, r *http.Request, name, title string, data any) {
	s.answer(w, r, http.StatusOK, name, title, data)
}

func (s *Shop) answer(w http.ResponseWriter, r *http.Request, status int, name, title string, data any) {
	n := s.nextQuote(r)
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	who, _ := s.members.Of(r)
	p := page{Title: title, Path: r.URL.Path, Quote: quotations[n%len(quotations)], Made: s.now().UTC().Format("15:04:05.000"), Who: who.Full,
		Phone: strings.Contains(r.UserAgent(), "Mobile"), TypeHost: OtherHost(s.base), Data: data}
	var body bytes.Buffer
	if err := s.pages[name].Execute(&body, p); err != nil {
		http.Error(w, "the page could not be rendered", http.StatusInternalServerError)
		return
	}
	w.WriteHeader(status)
	_, _ = body.WriteTo(w)
}

// nextQuote turns the quotations for each page by itself, so that a page that is made
// anew never has the one it had.
func (s *Shop) nextQuote(r *http.Request) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	key := fmt.Sprint(r.URL.Path, strings.Contains(r.UserAgent(), "Mobile"))
	s.quotes[key]++
	return s.quotes[key]
}

func (s *Shop) missing(w http.ResponseWriter, r *http.Request) {
	s.answer(w, r, http.StatusNotFound, "missing", "Not found", nil)
}

func (s *Shop) home(w http.ResponseWriter, r *http.Request) {
	picks := append([]kit(nil), kits[2:6]...)
	rand.Shuffle(len(picks), func(i, j int) { picks[i], picks[j] = picks[j], picks[i] })
	s.render(w, r, "home", "Grow something strange", map[string]any{"Slides": slides, "Picks": picks, "Articles": s.library(), "Sent": 1204 + s.orders.Load()})
}

func (s *Shop) listing(w http.ResponseWriter, r *http.Request) {
	kind := r.URL.Query().Get("kind")
	list := origin.Lookup(r, "kits of the kind "+kind, func() []kit {
		var list []kit
		for _, k := range kits {
			if kind == "" || k.Kind == kind {
				list = append(list, k)
			}
		}
		return list
	})
	s.render(w, r, "listing", "Growing kits", map[string]any{"Kind": kind, "Kinds": kinds, "Kits": list})
}

func (s *Shop) search(w http.ResponseWriter, r *http.Request) {
	q := strings.TrimSpace(r.URL.Query().Get("q"))
	var found []kit
	for _, k := range kits {
		if q != "" && strings.Contains(strings.ToLower(k.Name+" "+k.Kind+" "+k.Note), strings.ToLower(q)) {
			found = append(found, k)
		}
	}
	s.render(w, r, "search", "Search", map[string]any{"Query": q, "Kits": found})
}

func (s *Shop) product(w http.ResponseWriter, r *http.Request) {
	k, ok := kitBySlug(chi.URLParam(r, "slug"))
	if !ok {
		s.missing(w, r)
		return
	}
	s.render(w, r, "product", k.Name, batch{k, max(0, 400-s.orders.Load())})
}

func (s *Shop) article(w http.ResponseWriter, r *http.Request) {
	for _, a := range articles {
		if a.Slug == chi.URLParam(r, "slug") {
			s.render(w, r, "article", a.Title, s.asEdited(a))
			return
		}
	}
	s.missing(w, r)
}

func (s *Shop) cart(w http.ResponseWriter, r *http.Request) {
	lines := s.basket(r)
	total := 0
	for _, l := range lines {
		total += l.Kit.Pence * l.Count
	}
	s.render(w, r, "cart", "Your basket", map[string]any{"Lines": lines, "Total": total})
}

func (s *Shop) addToCart(w http.ResponseWriter, r *http.Request) {
	k, ok := kitBySlug(r.FormValue("kit"))
	if !ok {
		http.Error(w, "There is no such kit.", http.StatusUnprocessableEntity)
		return
	}
	s.sessions.Change(w, r, func(lines []cartLine) []cartLine {
		for i, l := range lines {
			if l.Kit.Slug == k.Slug {
				lines[i].Count++
				return lines
			}
		}
		return append(lines, cartLine{k, 1})
	})
	http.Redirect(w, r, "/cart", http.StatusSeeOther)
}

func (s *Shop) cartCount(w http.ResponseWriter, r *http.Request) {
	n := 0
	for _, l := range s.basket(r) {
		n += l.Count
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	_ = json.NewEncoder(w).Encode(map[string]int{"count": n})
}

func (s *Shop) checkout(w http.ResponseWriter, r *http.Request) {
	s.render(w, r, "checkout", "Checkout", map[string]any{"Token": s.tokens.Issue()})
}

func (s *Shop) order(w http.ResponseWriter, r *http.Request) {
	if !s.tokens.Redeem(r.FormValue("token")) {
		s.answer(w, r, http.StatusForbidden, "message", "Checkout", map[string]any{"Heading": "This form has expired", "Text": "Please open the checkout again."})
		return
	}
	pence := 0
	for _, l := range s.basket(r) {
		pence += l.Kit.Pence * l.Count
	}
	reference := fmt.Sprintf("FH-%d", 30000+s.orders.Add(1))
	if to := s.desk.AskToPay(reference, fmt.Sprintf("£%d.%02d", pence/100, pence%100), s.base+"/checkout/paid"); to != "" {
		http.Redirect(w, r, to, http.StatusSeeOther)
		return
	}
	s.thank(w, r, reference)
}

// paid is where somebody comes back to from paying.
func (s *Shop) paid(w http.ResponseWriter, r *http.Request) {
	if s.desk.Outcome(r) != outbox.Paid {
		s.answer(w, r, http.StatusPaymentRequired, "message", "Checkout", map[string]any{"Heading": "It was not paid", "Text": "Your basket is as it was. Try again when you like."})
		return
	}
	s.thank(w, r, r.URL.Query().Get("reference"))
}

// thank ends an order: the basket is emptied, the shop's owner is written to.
func (s *Shop) thank(w http.ResponseWriter, r *http.Request, reference string) {
	if _, there := s.sessions.Of(r); there {
		s.sessions.Change(w, r, func([]cartLine) []cartLine { return nil })
	}
	if err := s.desk.Write("fernhollow", "An order", "To be packed: "+reference); err != nil {
		s.answer(w, r, http.StatusBadGateway, "message", "Checkout", map[string]any{"Heading": "Your order was taken, but nobody could be told", "Text": "Please call us."})
		return
	}
	s.render(w, r, "message", "Checkout", map[string]any{"Heading": "Thank you for your order", "Text": "We start packing when the payment arrives."})
}

func (s *Shop) contact(w http.ResponseWriter, r *http.Request) {
	s.render(w, r, "contact", "Write to us", nil)
}

func (s *Shop) message(w http.ResponseWriter, r *http.Request) {
	if !strings.Contains(r.FormValue("email"), "@") || strings.TrimSpace(r.FormValue("message")) == "" {
		s.answer(w, r, http.StatusUnprocessableEntity, "message", "Write to us", map[string]any{"Heading": "Something is missing", "Text": "We need an address to answer to, and a message."})
		return
	}
	if err := s.desk.Write("fernhollow", "A message from the site", "From: "+r.FormValue("email"), r.FormValue("message")); err != nil {
		s.answer(w, r, http.StatusBadGateway, "message", "Write to us", map[string]any{"Heading": "Your message could not be sent", "Text": "Please try again later."})
		return
	}
	s.render(w, r, "message", "Write to us", map[string]any{"Heading": "Your message is on its way", "Text": "Somebody reads it within two days."})
}

func (s *Shop) sitemap(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "application/xml; charset=utf-8")
	fmt.Fprint(w, `<?xml version="1.0" encoding="UTF-8"?>`+"\n"+`<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">`+"\n")
	paths := []string{"/", "/kits", "/contact"}
	for _, k := range kinds {
		paths = append(paths, "/kits?kind="+url.QueryEscape(k))
	}
	for _, k := range kits {
		paths = append(paths, "/kits/"+k.Slug)
	}
	for _, a := range articles {
		paths = append(paths, "/library/"+a.Slug)
	}
	for _, p := range paths {
		fmt.Fprintf(w, "  <url><loc>%s%s</loc></url>\n", s.base, template.HTMLEscapeString(p))
	}
	fmt.Fprintln(w, "</urlset>")
}
