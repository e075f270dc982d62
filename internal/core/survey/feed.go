package survey

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
)

// Entries are the addresses that a sitemap, an index of sitemaps (sitemaps.org), an RSS 2.0
// feed or an Atom feed (RFC 4287) leads to, in order. what is "" for a document of another
// kind. It fails when one of these kinds cannot be read to its end.
func Entries(raw []byte) (what string, addresses []string, err error) {
	head := bytes.TrimLeft(raw, "\ufeff \t\r\n")
	if !bytes.HasPrefix(head, []byte("<?xml")) && !bytes.HasPrefix(head, []byte("<urlset")) && !bytes.HasPrefix(head, []byte("<rss")) && !bytes.HasPrefix(head, []byte("<feed")) {
		return "", nil, nil
	}
	d := xml.NewDecoder(bytes.NewReader(head))
	var inside []string
	var text strings.Builder
	add := func(address string) {
		if address = strings.TrimSpace(address); address != "" && len(addresses) < MostAddresses {
			addresses = append(addresses, address)
		}
	}
	for {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			line, _ := d.InputPos()
			return what, addresses, fmt.Errorf("line %d is not XML: %w", line, err)
		}
		switch x := t.(type) {
		case xml.StartElement:
			if len(inside) == 0 {
				what = map[string]string{"urlset": "sitemap", "sitemapindex": "sitemap", "rss": "feed", "feed": "feed"}[x.Name.Local]
				if what == "" {
					return "", nil, nil // XML of another kind
				}
			}
			inside = append(inside, x.Name.Local)
			text.Reset()
			if x.Name.Local == "link" && within(inside, "entry") {
				add(alternate(x.Attr))
			}
		case xml.CharData:
			text.Write(x)
		case xml.EndElement:
			if x.Name.Local == "loc" || x.Name.Local == "link" && within(inside, "item") {
				add(text.String())
			}
			inside = inside[:len(inside)-1]
		}
	}
	if what == "" {
		return "", nil, nil
	}
	return what, addresses, nil
}

func within(inside []string, parent string) bool {
	return len(inside) >= 2 && inside[len(inside)-2] == parent
}

// alternate is where an entry of an Atom feed is on the web (RFC 4287 §4.2.7.2: a link without
// a relation is one).
func alternate(attrs []xml.Attr) string {
	href := ""
	for _, a := range attrs {
		switch {
		case a.Name.Local == "href":
			href = a.Value
		case a.Name.Local == "rel" && a.Value != "alternate":
			return ""
		}
	}
	return href
}
