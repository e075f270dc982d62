// Package quillet is the origin of the invented Quillet Observatory: evenings under
// the dome, tickets for them, and a log that members read. It renders pages as a
// small site's server does and knows nothing of the speed layer in front of it.
//
// [New] returns one instance with a state of its own; all names, dates and pictures
// are made up.
package quillet

import (
	"bytes"
	"embed"
	"fmt"
	"html/template"
	"io/fs"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"tidemarker/internal/standin/origin"
)

//go:embed templates files
var files embed.FS

// MemberCookie is the cookie of whoever is signed in; its value begins with the role.
const MemberCookie = "quill_member"

// Observatory is one instance of the site.
type Observatory struct {
	base    string
	desk    origin.Desk
	pages   map[string]*template.Template
	tickets *origin.Sessions[[]ticket]
	members *origin.Members
	tokens  *origin.Tokens
	records origin.Records
	router  chi.Router
}

type evening struct {
	Slug, Name, Month, What string
	Pence                   int
}

type ticket struct {
	Evening evening
	Count   int
}

var evenings = []evening{
	{"rings-in-january", "Rings in January", "january", "The rings stand wide open; we look until the dome freezes shut.", 1400},
	{"the-double-cluster", "The double cluster", "january", "Two heaps of stars in one field of view.", 1200},
	{"moon-at-first-quarter", "Moon at first quarter", "february", "Shadows in the craters, an hour of them.", 900},
	{"the-dark-lane", "The dark lane", "march", "A galaxy on edge, for patient eyes.", 1200},
	{"comet-if-it-holds", "Comet, if it holds", "march", "Nobody promises anything.", 1600},
}

var log = []struct{ Slug, Title, Text string }{
	{"mirror-day", "Mirror day", "The mirror came out of the tank at noon. Nobody spoke until it was back in its cell."},
	{"the-owl", "The owl", "She sits on the slit and turns her head with the dome."},
}

// New returns an instance that is reached under base, such as http://127.0.0.1:9111.
func New(base string, now func() time.Time, desk origin.Desk) (*Observatory, error) {
	o := &Observatory{base: base, desk: desk, tickets: origin.NewSessions[[]ticket]("quill_session"), tokens: origin.NewTokens(now, 2*time.Hour),
		members: origin.NewMembers(MemberCookie, []origin.Member{
			{Name: "hale", Password: "dark adapted", Full: "Hale Quillet", Mail: "hale@example.org", Role: "member"},
		})}
	for n := range 9 {
		o.records.Add(origin.Drafts, fmt.Sprintf("evening that never was, %d", n))
	}
	var err error
	if o.pages, err = origin.Pages(files, "frame.html"); err != nil {
		return nil, fmt.Errorf("quillet's templates: %w", err)
	}
	own, err := fs.Sub(files, "files")
	if err != nil {
		return nil, fmt.Errorf("quillet's files: %w", err)
	}
	r := chi.NewRouter()
	r.Get("/", func(w http.ResponseWriter, r *http.Request) {
		o.answer(w, r, http.StatusOK, "home", "Evenings under the dome", map[string]any{"Evenings": evenings[:3]})
	})
	r.Get("/evenings", o.listing)
	r.Get("/evenings/{slug}", o.evening)
	r.Get("/tickets", o.basket)
	r.Post("/tickets", o.add)
	r.Get("/tickets/pay", func(w http.ResponseWriter, r *http.Request) {
		o.answer(w, r, http.StatusOK, "pay", "Pay", map[string]any{"Token": o.tokens.Issue()})
	})
	r.Post("/tickets/pay", o.order)
	r.Get("/members", o.signInForm)
	r.Post("/members", o.signIn)
	r.Get("/members/log/{slug}", o.logEntry)
	r.Get("/visit", func(w http.ResponseWriter, r *http.Request) {
		o.answer(w, r, http.StatusOK, "visit", "How to find us", nil)
	})
	r.Get("/write", func(w http.ResponseWriter, r *http.Request) {
		o.answer(w, r, http.StatusOK, "write", "Write to the warden", nil)
	})
	r.Post("/write", o.message)
	r.Get("/frames/hill", hill)
	r.Get("/sky/{name}", sky)
	r.Get("/sitemap.xml", o.index)
	r.Get("/sitemap-{part}.xml", o.sitemap)
	r.Get("/favicon.ico", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) })
	r.Handle("/files/*", http.StripPrefix("/files/", http.FileServerFS(own)))
	r.NotFound(o.missing)
	o.router = r
	return o, nil
}

func (o *Observatory) ServeHTTP(w http.ResponseWriter, r *http.Request) { o.router.ServeHTTP(w, r) }

// Count is how many records of a kind have gathered.
func (o *Observatory) Count(kind string) int { return o.records.Count(kind) }

// Gather adds records of a kind.
func (o *Observatory) Gather(kind string, n int) { o.records.Gather(kind, n) }

// Tidy deletes all but the newest records of a kind, and says how many.
func (o *Observatory) Tidy(kind string, newest int) int { return o.records.Keep(kind, newest) }

func (o *Observatory) answer(w http.ResponseWriter, r *http.Request, status int, name, title string, data any) {
	who, _ := o.members.Of(r)
	var body bytes.Buffer
	if err := o.pages[name].Execute(&body, map[string]any{"Title": title, "Path": r.URL.Path, "Who": who.Full, "Data": data}); err != nil {
		http.Error(w, "the page could not be rendered", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_, _ = body.WriteTo(w)
}

func (o *Observatory) say(w http.ResponseWriter, r *http.Request, status int, heading, text string) {
	o.answer(w, r, status, "said", heading, map[string]any{"Heading": heading, "Text": text})
}

func (o *Observatory) missing(w http.ResponseWriter, r *http.Request) {
	o.say(w, r, http.StatusNotFound, "Only dark here", "There is no page of that name.")
}

func (o *Observatory) listing(w http.ResponseWriter, r *http.Request) {
	month := r.URL.Query().Get("month")
	list := slices.DeleteFunc(slices.Clone(evenings), func(e evening) bool { return month != "" && e.Month != month })
	o.answer(w, r, http.StatusOK, "evenings", "Evenings", map[string]any{"Month": month, "Months": []string{"january", "february", "march"}, "Evenings": list})
}

func find(slug string) (evening, bool) {
	i := slices.IndexFunc(evenings, func(e evening) bool { return e.Slug == slug })
	if i < 0 {
		return evening{}, false
	}
	return evenings[i], true
}

func (o *Observatory) evening(w http.ResponseWriter, r *http.Request) {
	e, there := find(chi.URLParam(r, "slug"))
	if !there {
		o.missing(w, r)
		return
	}
	o.answer(w, r, http.StatusOK, "evening", e.Name, e)
}

func (o *Observatory) basket(w http.ResponseWriter, r *http.Request) {
	lines, _ := o.tickets.Of(r)
	o.answer(w, r, http.StatusOK, "tickets", "Your tickets", lines)
}

func (o *Observatory) add(w http.ResponseWriter, r *http.Request) {
	e, there := find(r.FormValue("evening"))
	if !there {
		http.Error(w, "There is no such evening.", http.StatusUnprocessableEntity)
		return
	}
	o.tickets.Change(w, r, func(lines []ticket) []ticket { return append(slices.Clone(lines), ticket{e, 1}) })
	http.Redirect(w, r, "/tickets", http.StatusSeeOther)
}

func (o *Observatory) order(w http.ResponseWriter, r *http.Request) {
	if !o.tokens.Redeem(r.FormValue("token")) {
		o.say(w, r, http.StatusForbidden, "Too late", "This form has expired. Please begin again.")
		return
	}
	if _, there := o.tickets.Of(r); there {
		o.tickets.Change(w, r, func([]ticket) []ticket { return nil })
	}
	if err := o.desk.Write("quillet", "Tickets were taken", "By: "+r.FormValue("name"), "Mail: "+r.FormValue("email")); err != nil {
		o.say(w, r, http.StatusBadGateway, "Nobody could be told", "Your tickets are kept. Please call us.")
		return
	}
	o.say(w, r, http.StatusOK, "See you in the dark", "Your tickets are on their way.")
}

func (o *Observatory) signInForm(w http.ResponseWriter, r *http.Request) {
	who, in := o.members.Of(r)
	o.answer(w, r, http.StatusOK, "members", "Members", map[string]any{"In": in, "Who": who, "Log": log})
}

func (o *Observatory) signIn(w http.ResponseWriter, r *http.Request) {
	if !o.members.SignIn(w, r.FormValue("name"), r.FormValue("password")) {
		o.say(w, r, http.StatusForbidden, "Not known here", "The name or the password is not right.")
		return
	}
	http.Redirect(w, r, "/members", http.StatusSeeOther)
}

func (o *Observatory) logEntry(w http.ResponseWriter, r *http.Request) {
	_, in := o.members.Of(r)
	for _, e := range log {
		if e.Slug == chi.URLParam(r, "slug") {
			text := e.Text
			if !in {
				text = "The log is for members. Sign in to read it."
			}
			o.say(w, r, http.StatusOK, e.Title, text)
			return
		}
	}
	o.missing(w, r)
}

func (o *Observatory) message(w http.ResponseWriter, r *http.Request) {
	if !strings.Contains(r.FormValue("email"), "@") {
		o.say(w, r, http.StatusUnprocessableEntity, "Something is missing", "We need an address to answer to.")
		return
	}
	if err := o.desk.Write("quillet", "A message for the warden", "From: "+r.FormValue("email"), r.FormValue("message")); err != nil {
		o.say(w, r, http.StatusBadGateway, "Not sent", "The warden could not be reached. Please try again later.")
		return
	}
	o.say(w, r, http.StatusOK, "Thank you", "The warden reads mail when it is cloudy.")
}

func hill(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	fmt.Fprint(w, `<!doctype html><html lang="en"><title>The hill</title><body style="margin:0;background:#dfe4ea"><svg viewBox="0 0 600 200" width="100%" height="200"><path d="M0 200 L200 90 L330 150 L600 60 L600 200Z" fill="#7c8794"/><circle cx="208" cy="80" r="22" fill="#3d4654"/></svg></body></html>`)
}

// sky draws a picture of stars, the same for the same name.
func sky(w http.ResponseWriter, r *http.Request) {
	raw, err := drawSky(strings.TrimSuffix(chi.URLParam(r, "name"), ".png"))
	if err != nil {
		http.NotFound(w, r)
		return
	}
	w.Header().Set("Content-Type", "image/png")
	_, _ = w.Write(raw)
}

// index names the two sitemaps that the site has.
func (o *Observatory) index(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "application/xml; charset=utf-8")
	fmt.Fprintf(w, `<?xml version="1.0" encoding="UTF-8"?>
<sitemapindex xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">
  <sitemap><loc>%[1]s/sitemap-pages.xml</loc></sitemap>
  <sitemap><loc>%[1]s/sitemap-evenings.xml</loc></sitemap>
</sitemapindex>
`, o.base)
}

func (o *Observatory) sitemap(w http.ResponseWriter, r *http.Request) {
	var paths []string
	switch chi.URLParam(r, "part") {
	case "pages":
		paths = []string{"/", "/evenings", "/evenings?month=january", "/evenings?month=march", "/visit", "/write", "/members", "/tickets"}
		for _, e := range log {
			paths = append(paths, "/members/log/"+e.Slug)
		}
	case "evenings":
		for _, e := range evenings {
			paths = append(paths, "/evenings/"+e.Slug)
		}
	default:
		o.missing(w, r)
		return
	}
	w.Header().Set("Content-Type", "application/xml; charset=utf-8")
	fmt.Fprint(w, `<?xml version="1.0" encoding="UTF-8"?>`+"\n"+`<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">`+"\n")
	for _, p := range paths {
		fmt.Fprintf(w, "  <url><loc>%s%s</loc></url>\n", o.base, template.HTMLEscapeString(p))
	}
	fmt.Fprintln(w, "</urlset>")
}
