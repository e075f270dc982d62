package prediction

import (
	"bytes"
	"net/url"
	"strings"

	"github.com/PuerkitoBio/goquery"

	"tidemarker/internal/core/evidence"
)

// Ground is what is known of a site from its mark.
type Ground struct {
	Pages []Page
	Hosts []string // the environment's, which may be asked
}

// Page is one look of the mark with what the page was made of.
type Page struct {
	Look    evidence.PageLook
	Scripts []Element // in the order of the document; those that browsers do not run are left out
	Sheets  []Element // linked style sheets, in order
	Own     int       // how many style rules stand in the page itself
	markup  *goquery.Document
	adds    *additions // what its scripts may give to it
}

// Element is a script or a style sheet of a page.
type Element struct {
	Address string // "" when it stands in the page
	Path    string // of its address
	Text    string // by which a pattern knows it: its address as it is written, or its code
	Code    []byte // nil when what it loads is not known
	Own     bool   // of one of the site's hosts
	Module  bool
	Defer   bool
	Async   bool
	Media   string
	Crosses bool // asks another host with CORS (HTML, 2.4.4): modules and what has a crossorigin attribute
	script  *Script
	sheet   sheet
}

// Inline tells whether it stands in the page.
func (e Element) Inline() bool { return e.Address == "" }

// Reading is what is known of the files that pages load, each read once.
type Reading struct {
	scripts map[string]*Script // by code
	sheets  map[string]sheet
}

// Page reads one look. files gives what an address brought when the look was taken, nil when
// that was not kept.
func (r *Reading) Page(look evidence.PageLook, document []byte, files func(address string) []byte, owns func(*url.URL) bool) (Page, error) {
	doc, err := goquery.NewDocumentFromReader(bytes.NewReader(document))
	if err != nil {
		return Page{}, err
	}
	if r.scripts == nil {
		r.scripts, r.sheets = map[string]*Script{}, map[string]sheet{}
	}
	p := Page{Look: look, markup: doc}
	base, err := url.Parse(look.Address)
	if err != nil {
		return Page{}, err
	}
	doc.Find("script").Each(func(_ int, s *goquery.Selection) {
		kind := strings.ToLower(strings.TrimSpace(s.AttrOr("type", "")))
		if kind != "" && kind != "module" && !strings.HasSuffix(kind, "javascript") {
			return
		}
		e := element(s, "src", base, files, owns)
		e.Module = kind == "module"
		_, e.Defer = s.Attr("defer")
		_, e.Async = s.Attr("async")
		_, crosses := s.Attr("crossorigin")
		e.Crosses = e.Module || crosses
		e.Defer = e.Defer && !e.Inline() || e.Module
		e.Async = e.Async && !e.Inline()
		if e.Code != nil {
			e.script = r.script(e.Code)
		}
		p.Scripts = append(p.Scripts, e)
	})
	doc.Find("link[href]").Each(func(_ int, s *goquery.Selection) {
		if !strings.EqualFold(s.AttrOr("rel", ""), "stylesheet") {
			return
		}
		e := element(s, "href", base, files, owns)
		e.Media = s.AttrOr("media", "")
		known, is := r.sheets[string(e.Code)]
		if !is {
			known = readSheet(e.Code)
			r.sheets[string(e.Code)] = known
		}
		e.sheet = known
		p.Sheets = append(p.Sheets, e)
	})
	doc.Find("style").Each(func(_ int, s *goquery.Selection) { p.Own += strings.Count(s.Text(), "{") })
	p.adds = additionsOf(p.Scripts)
	return p, nil
}

// script reads a script once.
func (r *Reading) script(code []byte) *Script {
	known, is := r.scripts[string(code)]
	if !is {
		read := ReadScript(code)
		known = &read
		r.scripts[string(code)] = known
	}
	return known
}

// element is a script or a link as it stands in a page, with what it loads.
func element(s *goquery.Selection, attribute string, base *url.URL, files func(address string) []byte, owns func(*url.URL) bool) Element {
	e := Element{Text: s.Text()}
	at, linked := s.Attr(attribute)
	if !linked {
		e.Code, e.Own = []byte(e.Text), true
		return e
	}
	e.Text = at
	if u, err := base.Parse(at); err == nil {
		e.Address, e.Path, e.Own = u.String(), u.Path, owns(u)
		e.Code = files(e.Address)
	}
	return e
}

// at is where a prediction about this page is.
func (p Page) at() Place { return Place{p.Look.Page, p.Look.Persona, p.Look.Device} }
