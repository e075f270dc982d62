package standin

import (
	"net/url"
	"strings"

	"github.com/PuerkitoBio/goquery"
	"golang.org/x/net/html"
)

// scripts rewrites how scripts are delivered and when they run.
func (l *Layer) scripts(p policy, page *goquery.Document) {
	inline := p.on("js-inline")
	if p.on("js-minify") && inline {
		page.Find("script:not([src])").Each(func(_ int, s *goquery.Selection) {
			if isClassicScript(s) && !isExcluded(s, p.list("js-exclude-minify")) {
				code := &html.Node{Type: html.TextNode, Data: string(minified("text/javascript", []byte(s.Text())))} // as it is: code is not markup
				s.Empty()
				s.AppendNodes(code)
			}
		})
	}
	if p.on("js-combine") {
		l.combineScripts(page, p.list("js-exclude-combine"), inline)
	}
	if p.on("js-delay") {
		delayScripts(page, p.list("js-exclude-delay"), inline)
	}
	if p.on("js-defer") {
		deferScripts(page, p.list("js-exclude-defer"), inline)
	}
}

func isClassicScript(s *goquery.Selection) bool {
	t := strings.ToLower(s.AttrOr("type", ""))
	return t == "" || t == "text/javascript" || t == "module"
}

// combineScripts puts the site's own scripts into one file, in their order, where the
// first of them was.
func (l *Layer) combineScripts(page *goquery.Document, not []string, inline bool) {
	var all strings.Builder
	var gone []*goquery.Selection
	page.Find("script").Each(func(_ int, s *goquery.Selection) {
		src, external := s.Attr("src")
		if !isClassicScript(s) || isExcluded(s, not) || !external && !inline {
			return
		}
		text := []byte(s.Text())
		if external {
			body, own := l.fetchAsset(src)
			if !own {
				return
			}
			text = body
		}
		all.Write(text)
		all.WriteString("\n;")
		gone = append(gone, s)
	})
	if len(gone) < 2 {
		return
	}
	for _, s := range gone[1:] {
		s.Remove()
	}
	gone[0].ReplaceWithNodes(element("script", "", "src", l.keepMade(".js", "text/javascript; charset=utf-8", []byte(all.String()))))
}

func deferScripts(page *goquery.Document, not []string, inline bool) {
	page.Find("script").Each(func(_ int, s *goquery.Selection) {
		_, external := s.Attr("src")
		if !isClassicScript(s) || isExcluded(s, not) || !external && !inline {
			return
		}
		if !external {
			// Inline code cannot be deferred; as an address of its own it can.
			s.SetAttr("src", "data:text/javascript,"+url.PathEscape(s.Text()))
			s.SetText("")
		}
		s.SetAttr("defer", "")
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

func delayScripts(page *goquery.Document, not []string, inline bool) {
	found := false
	page.Find("script").Each(func(_ int, s *goquery.Selection) {
		src, external := s.Attr("src")
		if !isClassicScript(s) || isExcluded(s, not) || !external && !inline {
			return
		}
		found = true
		s.SetAttr("type", "text/waiting")
		if external {
			s.SetAttr("data-src", src)
			s.RemoveAttr("src")
		}
	})
	if found {
		page.Find("body").AppendNodes(element("script", delayLoader))
	}
}
