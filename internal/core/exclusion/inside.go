package exclusion

import (
	"bytes"
	"slices"
	"strings"

	"golang.org/x/net/html"
)

// Inside is what a document has in it that rules may exclude: it comes from a watched
// site and is only ever compared, never carried out.
type Inside struct {
	Scripts   []string // texts of inline scripts
	Styles    []string // texts of inline styles
	Embedded  []string // addresses of pictures, frames and players
	Selectors []string // ".class" and "#id" of its elements
	Links     []string // paths with query of links to the site itself
}

const mostInside = 2000 // texts of a kind

// Read takes in another document.
func (in *Inside) Read(document []byte) {
	doc, err := html.Parse(bytes.NewReader(document))
	if err != nil {
		return
	}
	for n := range doc.Descendants() {
		if n.Type != html.ElementNode {
			continue
		}
		attr := map[string]string{}
		for _, a := range n.Attr {
			attr[a.Key] = strings.TrimSpace(a.Val)
		}
		switch n.Data {
		case "script":
			if kind := attr["type"]; attr["src"] == "" && (kind == "" || kind == "module" || strings.HasSuffix(kind, "javascript")) {
				put(&in.Scripts, text(n))
			}
		case "style":
			put(&in.Styles, text(n))
		case "img", "iframe", "video", "audio", "embed", "source":
			put(&in.Embedded, attr["src"])
		case "a", "link":
			if rel := attr["rel"]; n.Data == "link" && rel != "alternate" && rel != "next" && rel != "prev" {
				break // what it loads, or what it prepares to
			}
			if href := attr["href"]; strings.HasPrefix(href, "/") && !strings.HasPrefix(href, "//") {
				path, _, _ := strings.Cut(href, "#")
				put(&in.Links, path)
			}
		}
		if id := attr["id"]; id != "" {
			put(&in.Selectors, "#"+id)
		}
		for _, class := range strings.Fields(attr["class"]) {
			put(&in.Selectors, "."+class)
		}
	}
}

// For are the texts that patterns of a role are compared with.
func (in Inside) For(role string) []string {
	switch {
	case role == "css-keep":
		return in.Selectors
	case strings.HasPrefix(role, "js-"):
		return in.Scripts
	case strings.HasPrefix(role, "css-"):
		return in.Styles
	case role == "lazy-exclude" || role == "dimensions-exclude":
		return in.Embedded
	}
	return nil
}

func put(list *[]string, s string) {
	if s != "" && len(*list) < mostInside && !slices.Contains(*list, s) {
		*list = append(*list, s)
	}
}

func text(n *html.Node) string {
	var b strings.Builder
	for c := n.FirstChild; c != nil; c = c.NextSibling {
		b.WriteString(c.Data)
	}
	return strings.TrimSpace(b.String())
}
