package standin

import (
	"bytes"
	"fmt"
	"image/png"
	"net/http"
	"net/url"
	"strings"
	"sync"

	"github.com/PuerkitoBio/goquery"
	"github.com/tdewolff/minify/v2"
	minhtml "github.com/tdewolff/minify/v2/html"
	"golang.org/x/net/html"

	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/settings"
)

// rewrite changes a page as the settings say.
func (l *Layer) rewrite(v settings.Values, body []byte) ([]byte, error) {
	doc, err := html.Parse(bytes.NewReader(body))
	if err != nil {
		return nil, fmt.Errorf("the page cannot be read: %w", err)
	}
	page := goquery.NewDocumentFromNode(doc)
	on := func(key string) bool { b, _ := v[key].(bool); return b }
	if on(keyDropStyles) {
		l.dropUnusedStyles(page, v.Strings(keyKeepStyles))
	}
	if on(keyDimensions) {
		l.addDimensions(page)
	}
	if on(keyLazy) {
		skip, _ := v[keyLazySkip].(float64)
		lazyImages(page, int(skip))
	}
	if on(keyDelay) {
		delayScripts(page, v.Strings(keyDelayNot))
	}
	if on(keyDefer) {
		deferScripts(page, v.Strings(keyDeferNot))
	}
	var out bytes.Buffer
	if err := html.Render(&out, doc); err != nil {
		return nil, fmt.Errorf("the page cannot be written: %w", err)
	}
	if on(keyCompact) {
		return compact(out.Bytes())
	}
	return out.Bytes(), nil
}

func compact(page []byte) ([]byte, error) {
	m := minify.New()
	m.Add("text/html", &minhtml.Minifier{KeepDocumentTags: true, KeepEndTags: true, KeepQuotes: true})
	out, err := m.Bytes("text/html", page)
	if err != nil {
		return nil, fmt.Errorf("the page cannot be compacted: %w", err)
	}
	return out, nil
}

// leftAlone tells whether a script is named by one of the patterns, by its address
// or by the text of inline code.
func leftAlone(s *goquery.Selection, patterns []string) bool {
	text := s.AttrOr("src", s.Text())
	for _, p := range patterns {
		if exclusion.MatchPart(p, text) {
			return true
		}
	}
	return false
}

func isClassicScript(s *goquery.Selection) bool {
	t := strings.ToLower(s.AttrOr("type", ""))
	return t == "" || t == "text/javascript" || t == "module"
}

func deferScripts(page *goquery.Document, not []string) {
	page.Find("script[src]").Each(func(_ int, s *goquery.Selection) {
		if isClassicScript(s) && !leftAlone(s, not) {
			s.SetAttr("defer", "")
		}
	})
}

// delayLoader starts the waiting scripts, one after the other in their order, when
// the visitor first does something.
const delayLoader = `(function () {
  var kinds = ["pointerdown", "touchstart", "keydown", "wheel", "scroll", "mousemove"];
  function start() {
    kinds.forEach(function (k) { removeEventListener(k, start, true); });
    var waiting = Array.prototype.slice.call(document.querySelectorAll('script[type="text/waiting"]'));
    (function next() {
      var old = waiting.shift();
      if (!old) return;
      var el = document.createElement("script");
      if (old.dataset.src) {
        el.src = old.dataset.src;
        el.onload = el.onerror = next;
        old.replaceWith(el);
      } else {
        el.textContent = old.textContent;
        old.replaceWith(el);
        next();
      }
    })();
  }
  kinds.forEach(function (k) { addEventListener(k, start, { capture: true, passive: true }); });
})();`

func delayScripts(page *goquery.Document, not []string) {
	found := false
	page.Find("script").Each(func(_ int, s *goquery.Selection) {
		if !isClassicScript(s) || leftAlone(s, not) {
			return
		}
		found = true
		s.SetAttr("type", "text/waiting")
		if src, ok := s.Attr("src"); ok {
			s.SetAttr("data-src", src)
			s.RemoveAttr("src")
		}
	})
	if found {
		loader := &html.Node{Type: html.ElementNode, Data: "script"}
		loader.AppendChild(&html.Node{Type: html.TextNode, Data: delayLoader})
		page.Find("body").AppendNodes(loader)
	}
}

func lazyImages(page *goquery.Document, skip int) {
	page.Find("img").Each(func(i int, s *goquery.Selection) {
		if _, set := s.Attr("loading"); i >= skip && !set {
			s.SetAttr("loading", "lazy")
		}
	})
}

// pictureSizes remembers how large the origin's pictures are.
type pictureSizes struct {
	mu    sync.Mutex
	known map[string][2]int
}

func (l *Layer) addDimensions(page *goquery.Document) {
	page.Find("img[src]").Each(func(_ int, s *goquery.Selection) {
		if _, has := s.Attr("width"); has {
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

// fetchAsset asks the origin for a file of the site's own.
func (l *Layer) fetchAsset(src string) ([]byte, bool) {
	u, err := url.Parse(src)
	if err != nil || u.Host != "" || !strings.HasPrefix(u.Path, "/") {
		return nil, false
	}
	r, err := http.NewRequest(http.MethodGet, u.RequestURI(), nil)
	if err != nil {
		return nil, false
	}
	r.RequestURI = u.RequestURI()
	res := record(l.origin, r)
	return res.body, res.status == http.StatusOK
}
