package standin

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"sync"

	"github.com/PuerkitoBio/goquery"

	"tidemarker/internal/core/exclusion"
)

// madeAssets are files that the layer made itself, by path or by what they were made
// of.
type madeAssets struct {
	mu    sync.Mutex
	files map[string]madeAsset
}

type madeAsset struct {
	mediaType string
	body      []byte
}

func (m *madeAssets) get(name string) (madeAsset, bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	f, there := m.files[name]
	return f, there
}

func (m *madeAssets) put(name string, f madeAsset) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.files == nil {
		m.files = map[string]madeAsset{}
	}
	m.files[name] = f
}

// keepMade keeps a file under an address made of its content, and returns that.
func (l *Layer) keepMade(ending, mediaType string, body []byte) string {
	sum := sha256.Sum256(body)
	at := madePath + hex.EncodeToString(sum[:8]) + ending
	l.made.put(at, madeAsset{mediaType, body})
	return at
}

var fontFace = regexp.MustCompile(`@font-face\s*\{`)

// serveAsset delivers a file as the settings say.
func (l *Layer) serveAsset(w http.ResponseWriter, r *http.Request, p policy) {
	if l.faltering(r) {
		http.Error(w, "Too busy.", http.StatusServiceUnavailable)
		return
	}
	res := response{}
	if f, there := l.made.get(r.URL.Path); there && strings.HasPrefix(r.URL.Path, madePath) {
		res = response{http.StatusOK, http.Header{"Content-Type": {f.mediaType}}, f.body}
	} else {
		res = record(l.origin, r)
	}
	if res.status == http.StatusOK {
		l.transform(p, r, &res)
		if p.on("browser-cache") {
			res.header.Set("Cache-Control", fmt.Sprintf("public, max-age=%d", p.number("browser-cache-ttl")))
		}
	}
	if r.Host != "" && strings.HasPrefix(r.Host, "localhost") {
		res.header.Set("Access-Control-Allow-Origin", "*")
	}
	l.compress(p, r, &res)
	res.header.Del("Content-Length")
	res.write(w)
}

func (l *Layer) transform(p policy, r *http.Request, res *response) {
	kind, _, _ := strings.Cut(res.header.Get("Content-Type"), ";")
	named := func(x string) bool { return exclusion.MatchPart(x, r.URL.Path) }
	switch kind {
	case "text/css":
		if p.on("font-swap") && p.on("font-self-host") {
			res.body = fontFace.ReplaceAll(res.body, []byte("@font-face { font-display: swap;"))
		}
		if p.on("css-minify") && !matches(p.list("css-exclude"), named) {
			res.body = minified("text/css", res.body)
		}
	case "text/javascript":
		if p.on("js-minify") && !matches(p.list("js-exclude-minify"), named) {
			res.body = minified("text/javascript", res.body)
		}
	case "image/png":
		body, mediaType := l.picture(p, r.URL.Path, res.body)
		res.body = body
		res.header.Set("Content-Type", mediaType)
	}
}

// compress packs a text for whoever can unpack it.
func (l *Layer) compress(p policy, r *http.Request, res *response) {
	kind, _, _ := strings.Cut(res.header.Get("Content-Type"), ";")
	if p.text("compress") != "gzip" || len(res.body) < 256 || !strings.Contains(r.Header.Get("Accept-Encoding"), "gzip") {
		return
	}
	if !strings.HasPrefix(kind, "text/") && kind != "application/json" && kind != "application/xml" {
		return
	}
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	if _, err := z.Write(res.body); err != nil || z.Close() != nil {
		return
	}
	res.body = out.Bytes()
	res.header.Set("Content-Encoding", "gzip")
	res.header.Add("Vary", "Accept-Encoding")
}

var fontFile = regexp.MustCompile(`url\("?([^")]+\.woff2)"?\)`)

// fonts rewrites where lettering comes from.
func (l *Layer) fonts(p policy, page *goquery.Document) {
	other := strings.Replace(l.base, "127.0.0.1", "localhost", 1)
	sheet := page.Find("link[rel=stylesheet][href^='" + other + "/type/']")
	if sheet.Length() == 0 {
		return
	}
	at := strings.TrimPrefix(sheet.AttrOr("href", ""), other)
	host := other
	if p.on("font-self-host") {
		sheet.SetAttr("href", at)
		host = ""
	}
	if !p.on("font-preload") {
		return
	}
	body, ok := l.fetchAsset(at)
	if m := fontFile.FindSubmatch(body); ok && m != nil {
		page.Find("head").PrependNodes(element("link", "", "rel", "preload", "as", "font", "type", "font/woff2", "crossorigin", "", "href", host+string(m[1])))
	}
}
