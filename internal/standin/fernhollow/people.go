package fernhollow

import (
	"encoding/json"
	"fmt"
	"html/template"
	"net/http"
	"slices"
	"strings"

	"github.com/go-chi/chi/v5"

	"tidemarker/internal/standin/origin"
)

type cartLine struct {
	Kit   kit
	Count int
}

// members are who can sign in. All are invented.
var members = []origin.Member{
	{Name: "wren", Password: "harvest moon", Full: "Wren Oakham", Mail: "wren@example.org", Role: "member", Orders: []string{"FH-20417", "FH-20988"}},
	{Name: "tom", Password: "pruning day", Full: "Tom Harrow", Mail: "tom@example.org", Role: "customer", Orders: []string{"FH-21102"}},
	{Name: "ida", Password: "second edition", Full: "Ida Mill", Mail: "ida@example.org", Role: "editor"},
}

// basket is what the visitor has gathered. Its look-up is by the session alone, which
// a data cache must know of.
func (s *Shop) basket(r *http.Request) []cartLine {
	return origin.Lookup(r, "basket of this session", func() []cartLine {
		lines, _ := s.sessions.Of(r)
		return slices.Clone(lines)
	})
}

func (s *Shop) account(w http.ResponseWriter, r *http.Request) {
	who, in := s.members.Of(r)
	s.render(w, r, "account", "Your account", map[string]any{"In": in, "Who": who, "Note": s.noteOf(r), "Token": s.tokens.Issue()})
}

func (s *Shop) signIn(w http.ResponseWriter, r *http.Request) {
	if !s.tokens.Redeem(r.FormValue("token")) {
		s.answer(w, r, http.StatusForbidden, "message", "Your account", map[string]any{"Heading": "This form has expired", "Text": "Please open your account again."})
		return
	}
	if !s.members.SignIn(w, r.FormValue("name"), r.FormValue("password")) {
		s.answer(w, r, http.StatusForbidden, "message", "Your account", map[string]any{"Heading": "Not known here", "Text": "The name or the password is not right."})
		return
	}
	http.Redirect(w, r, "/account", http.StatusSeeOther)
}

func (s *Shop) signOut(w http.ResponseWriter, r *http.Request) {
	s.members.SignOut(w, r)
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

// memberArticle is for members; others see that there is one.
func (s *Shop) memberArticle(w http.ResponseWriter, r *http.Request) {
	who, _ := s.members.Of(r)
	for _, a := range memberArticles {
		if a.Slug == chi.URLParam(r, "slug") {
			s.render(w, r, "member", a.Title, map[string]any{"Article": a, "In": who.Role == "member" || who.Role == "editor", "Who": who})
			return
		}
	}
	s.missing(w, r)
}

// mill is the small page that the contact page has in a frame.
func (s *Shop) mill(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	fmt.Fprint(w, `<!doctype html><html lang="en"><title>Where the mill is</title><body style="margin:0;background:#e8ead8;font:15px sans-serif"><svg viewBox="0 0 600 220" width="100%" height="220"><path d="M0 150 C150 60 300 210 600 90" fill="none" stroke="#7d9b8a" stroke-width="26"/><rect x="270" y="70" width="60" height="50" fill="#8a4b1f"/><path d="M262 70 L300 40 L338 70Z" fill="#5d4a1f"/></svg></body></html>`)
}

func (s *Shop) pulse(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	_ = json.NewEncoder(w).Encode(map[string]int{"sessions": s.sessions.Len()})
}

func (s *Shop) feed(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "application/rss+xml; charset=utf-8")
	fmt.Fprint(w, `<?xml version="1.0" encoding="UTF-8"?>`+"\n"+`<rss version="2.0"><channel><title>Fernhollow library</title><link>`+template.HTMLEscapeString(s.base)+`/</link><description>New in the field library</description>`)
	for _, a := range articles {
		fmt.Fprintf(w, `<item><title>%s</title><link>%s/library/%s</link></item>`, template.HTMLEscapeString(a.Title), template.HTMLEscapeString(s.base), a.Slug)
	}
	fmt.Fprint(w, "</channel></rss>\n")
}

// asEdited is an article with its lead as an editor last published it.
func (s *Shop) asEdited(a article) article {
	s.mu.Lock()
	defer s.mu.Unlock()
	if lead, edited := s.leads[a.Slug]; edited {
		a.Lead = lead
	}
	return a
}

func (s *Shop) library() []article {
	out := make([]article, len(articles))
	for i, a := range articles {
		out[i] = s.asEdited(a)
	}
	return out
}

// editing lets an editor publish another lead for an article, or take that back.
func (s *Shop) editing(w http.ResponseWriter, r *http.Request) {
	if who, _ := s.members.Of(r); who.Role != "editor" {
		s.answer(w, r, http.StatusForbidden, "message", "Library", map[string]any{"Heading": "Only editors write here", "Text": "Sign in as one of them."})
		return
	}
	slug := chi.URLParam(r, "slug")
	i := slices.IndexFunc(articles, func(a article) bool { return a.Slug == slug })
	if i < 0 {
		s.missing(w, r)
		return
	}
	if r.Method == http.MethodGet {
		s.render(w, r, "edit", "Edit "+articles[i].Title, s.asEdited(articles[i]))
		return
	}
	s.mu.Lock()
	if lead := strings.TrimSpace(r.FormValue("lead")); lead != "" && r.FormValue("back") == "" {
		s.leads[slug] = lead
	} else {
		delete(s.leads, slug)
	}
	s.mu.Unlock()
	s.records.Add(origin.Revisions, articles[i].Title)
	if r.FormValue("quietly") == "" {
		w.Header().Set(origin.Published, "/library/"+slug)
	}
	s.render(w, r, "message", "Library", map[string]any{"Heading": "It is published", "Text": "Whoever opens the article sees it."})
}

// note keeps what somebody who is signed in wants the carrier to know.
func (s *Shop) note(w http.ResponseWriter, r *http.Request) {
	if c, err := r.Cookie(MemberCookie); err == nil {
		s.mu.Lock()
		s.notes[c.Value] = strings.TrimSpace(r.FormValue("note"))
		s.mu.Unlock()
	}
	http.Redirect(w, r, "/account", http.StatusSeeOther)
}

func (s *Shop) noteOf(r *http.Request) string {
	c, err := r.Cookie(MemberCookie)
	if err != nil {
		return ""
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.notes[c.Value]
}

// Count is how many records of a kind have gathered.
func (s *Shop) Count(kind string) int {
	if kind == origin.Expired {
		return s.tokens.Expired()
	}
	return s.records.Count(kind)
}

// Gather adds records of a kind.
func (s *Shop) Gather(kind string, n int) { s.records.Gather(kind, n) }

// Tidy deletes all but the newest records of a kind, and says how many.
func (s *Shop) Tidy(kind string, newest int) int {
	if kind == origin.Expired {
		return s.tokens.Sweep()
	}
	return s.records.Keep(kind, newest)
}
