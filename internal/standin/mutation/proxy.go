package mutation

import (
	"bytes"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httputil"
	"net/url"
	"strconv"
	"strings"
	"sync"

	"github.com/PuerkitoBio/goquery"
)

// Mutation is one way to change answers, with the seed by which it picks what it changes.
type Mutation struct {
	Class
	Seed uint64
}

// Proxy passes a site on, changed by one mutation or by none. It is an http.Handler and safe
// for concurrent use.
type Proxy struct {
	forward *httputil.ReverseProxy

	mu      sync.Mutex
	now     *Mutation
	pages   map[string]*goquery.Document // as they were last passed on unchanged
	chosen  string                       // the one answer, no document, that is changed
	applied int
}

// NewProxy passes on what is at an address.
func NewProxy(to string) (*Proxy, error) {
	u, err := url.Parse(to)
	if err != nil {
		return nil, err
	}
	p := &Proxy{pages: map[string]*goquery.Document{}}
	p.forward = &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(u)
			r.Out.Header.Del("Accept-Encoding")
		},
		ModifyResponse: p.change,
	}
	return p, nil
}

func (p *Proxy) ServeHTTP(w http.ResponseWriter, r *http.Request) { p.forward.ServeHTTP(w, r) }

// Set says what is changed from now on; nil for nothing.
func (p *Proxy) Set(m *Mutation) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.now, p.chosen, p.applied = m, "", 0
}

// Applied is how many answers were changed since the last [Proxy.Set].
func (p *Proxy) Applied() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.applied
}

func (p *Proxy) change(res *http.Response) error {
	body, err := io.ReadAll(res.Body)
	if err != nil {
		return err
	}
	if err := res.Body.Close(); err != nil {
		return err
	}
	mediaType := res.Header.Get("Content-Type")
	a := &Answer{Path: res.Request.URL.RequestURI(), Status: res.StatusCode, MediaType: mediaType, Body: body, Header: map[string]string{}}
	if res.StatusCode == http.StatusOK && res.Request.Method == http.MethodGet {
		p.mutate(a)
	}
	res.StatusCode, res.Status = a.Status, strconv.Itoa(a.Status)+" "+http.StatusText(a.Status)
	res.Header.Set("Content-Type", a.MediaType)
	for k, v := range a.Header {
		res.Header.Set(k, v)
	}
	res.Header.Set("Content-Length", strconv.Itoa(len(a.Body)))
	res.ContentLength = int64(len(a.Body))
	res.Body = io.NopCloser(bytes.NewReader(a.Body))
	return nil
}

// mutate applies what is set; what it picks on a page is the same each time.
func (p *Proxy) mutate(a *Answer) {
	p.mu.Lock()
	defer p.mu.Unlock()
	isPage := strings.HasPrefix(a.MediaType, "text/html")
	var doc *goquery.Document
	if isPage {
		var err error
		if doc, err = goquery.NewDocumentFromReader(bytes.NewReader(a.Body)); err != nil {
			return
		}
	}
	if p.now == nil {
		if isPage {
			p.pages[a.Path] = doc
		}
		return
	}
	r := rand.New(rand.NewPCG(p.now.Seed, 7))
	switch {
	case isPage && p.now.page != nil:
		if p.now.page(r, doc) {
			if s, err := doc.Html(); err == nil {
				a.Body = []byte(s)
				p.applied++
			}
		}
	case p.now.other != nil && p.now.picks(a.Path, a.MediaType) && (p.chosen == "" || p.chosen == a.Path):
		var all []*goquery.Document
		for _, d := range p.pages {
			all = append(all, d)
		}
		if p.now.other(r, a, all) {
			p.chosen = a.Path
			p.applied++
		}
	}
}
