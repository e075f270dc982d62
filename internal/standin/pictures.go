package standin

import (
	"bytes"
	"fmt"
	"image"
	"image/jpeg"
	"image/png"
	"net/http"
	"net/url"
	"strings"
	"sync"

	"github.com/PuerkitoBio/goquery"
	"golang.org/x/image/draw"
)

// pictures rewrites how pictures are loaded.
func (l *Layer) pictures(p policy, page *goquery.Document) {
	if p.on("add-dimensions") {
		l.addDimensions(page, p.list("dimensions-exclude"))
	}
	if p.on("lazy-images") {
		lazyImages(page, p.number("lazy-skip-first"), p.list("lazy-exclude"))
	}
	if p.on("preload-key-image") {
		if first := page.Find("main img[src]").First(); first.Length() > 0 {
			first.SetAttr("fetchpriority", "high").RemoveAttr("loading")
			page.Find("head").PrependNodes(element("link", "", "rel", "preload", "as", "image", "href", first.AttrOr("src", "")))
		}
	}
}

func lazyImages(page *goquery.Document, skip int, not []string) {
	page.Find("img").Each(func(i int, s *goquery.Selection) {
		if _, set := s.Attr("loading"); i >= skip && !set && !isExcluded(s, not) {
			s.SetAttr("loading", "lazy")
		}
	})
}

// pictureSizes remembers how large the origin's pictures are.
type pictureSizes struct {
	mu    sync.Mutex
	known map[string][2]int
}

func (l *Layer) addDimensions(page *goquery.Document, not []string) {
	page.Find("img[src]").Each(func(_ int, s *goquery.Selection) {
		if _, has := s.Attr("width"); has || isExcluded(s, not) {
			return
		}
		if w, h, ok := l.pictureSize(s.AttrOr("src", "")); ok {
			s.SetAttr("width", fmt.Sprint(w))
			s.SetAttr("height", fmt.Sprint(h))
		}
	})
}

func (l *Layer) pictureSize(src string) (w, h int, ok bool) {
	l.sizes.mu.Lock()
	defer l.sizes.mu.Unlock()
	if wh, known := l.sizes.known[src]; known {
		return wh[0], wh[1], wh[0] > 0
	}
	body, ok := l.fetchAsset(src)
	if !ok {
		return 0, 0, false
	}
	cfg, err := png.DecodeConfig(bytes.NewReader(body))
	if err != nil {
		return 0, 0, false
	}
	if l.sizes.known == nil {
		l.sizes.known = map[string][2]int{}
	}
	l.sizes.known[src] = [2]int{cfg.Width, cfg.Height}
	return cfg.Width, cfg.Height, true
}

// picture is a picture as the settings have it delivered: no wider than a limit, in
// another format. Each is made once.
func (l *Layer) picture(p policy, at string, raw []byte) (body []byte, mediaType string) {
	widest, format := p.number("image-resize"), p.text("image-convert")
	if widest == 0 && format != "jpeg" {
		return raw, "image/png"
	}
	name := fmt.Sprintf("%d %s %s", widest, format, at)
	if f, there := l.made.get(name); there {
		return f.body, f.mediaType
	}
	m, err := png.Decode(bytes.NewReader(raw))
	if err != nil {
		return raw, "image/png"
	}
	if b := m.Bounds(); widest > 0 && b.Dx() > widest {
		small := image.NewRGBA(image.Rect(0, 0, widest, max(1, b.Dy()*widest/b.Dx())))
		draw.CatmullRom.Scale(small, small.Bounds(), m, b, draw.Src, nil)
		m = small
	}
	var out bytes.Buffer
	mediaType = "image/png"
	if format == "jpeg" {
		mediaType = "image/jpeg"
		err = jpeg.Encode(&out, m, &jpeg.Options{Quality: 88})
	} else {
		err = png.Encode(&out, m)
	}
	if err != nil {
		return raw, "image/png"
	}
	l.made.put(name, madeAsset{mediaType, out.Bytes()})
	return out.Bytes(), mediaType
}

// fetchAsset asks the origin for a file of the site's own.
func (l *Layer) fetchAsset(src string) ([]byte, bool) {
	u, err := url.Parse(src)
	if err != nil || u.Host != "" || !strings.HasPrefix(u.Path, "/") {
		return nil, false
	}
	if f, there := l.made.get(u.Path); there {
		return f.body, true
	}
	r, err := http.NewRequest(http.MethodGet, u.RequestURI(), nil)
	if err != nil {
		return nil, false
	}
	r.RequestURI = u.RequestURI()
	res := record(l.origin, r)
	return res.body, res.status == http.StatusOK
}
