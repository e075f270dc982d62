package survey

import (
	"bytes"
	"compress/gzip"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
)

// The limits of sitemaps.org: 50,000 addresses and 50 MB, not compressed, for each
// file.
const (
	MostAddresses = 50000
	mostBytes     = 50 << 20
)

// Sitemap is what one file of it names: pages, or further files.
type Sitemap struct {
	Pages []string
	Files []string
}

// ParseSitemap reads a sitemap or an index of sitemaps, packed with gzip or not. A
// fault names its line; what stood before it is returned with it.
func ParseSitemap(raw []byte) (Sitemap, error) {
	if len(raw) > 1 && raw[0] == 0x1f && raw[1] == 0x8b {
		z, err := gzip.NewReader(bytes.NewReader(raw))
		if err == nil {
			raw, err = io.ReadAll(io.LimitReader(z, mostBytes+1))
		}
		if err != nil {
			return Sitemap{}, fmt.Errorf("the sitemap cannot be unpacked: %w", err)
		}
	}
	if len(raw) > mostBytes {
		return Sitemap{}, fmt.Errorf("the sitemap has more than %d MB, which sitemaps.org does not allow", mostBytes>>20)
	}
	d := xml.NewDecoder(bytes.NewReader(raw))
	d.Strict = true
	var out Sitemap
	var inside []string
	line := func() int { n, _ := d.InputPos(); return n }
	for {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return out, fmt.Errorf("line %d of the sitemap is not XML: %w", line(), err)
		}
		switch x := t.(type) {
		case xml.StartElement:
			name := x.Name.Local
			if len(inside) == 0 && name != "urlset" && name != "sitemapindex" {
				return out, fmt.Errorf("line %d: a sitemap begins with <urlset> or <sitemapindex>, not <%s>", line(), name)
			}
			inside = append(inside, name)
		case xml.EndElement:
			inside = inside[:len(inside)-1]
		case xml.CharData:
			at := strings.TrimSpace(string(x))
			if at == "" || len(inside) != 3 || inside[2] != "loc" {
				continue
			}
			if len(at) > 2048 {
				return out, fmt.Errorf("line %d: an address has more than 2,048 characters", line())
			}
			switch {
			case inside[0] == "urlset" && inside[1] == "url":
				out.Pages = append(out.Pages, at)
			case inside[0] == "sitemapindex" && inside[1] == "sitemap":
				out.Files = append(out.Files, at)
			}
			if len(out.Pages)+len(out.Files) > MostAddresses {
				return out, fmt.Errorf("line %d: the sitemap has more than 50,000 addresses, which sitemaps.org does not allow", line())
			}
		}
	}
	if len(out.Pages)+len(out.Files) == 0 {
		return out, errors.New("the sitemap names no page")
	}
	return out, nil
}
