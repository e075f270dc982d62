package survey

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestEntriesOfFeedsAndSitemaps(t *testing.T) {
	for name, tc := range map[string]struct {
		raw, what string
		want      []string
		fails     string
	}{
		"a sitemap":         {`<?xml version="1.0"?><urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"><url><loc> http://s.test/a </loc><lastmod>2026</lastmod></url><url><loc>http://s.test/b?x=1&amp;y=2</loc></url></urlset>`, "sitemap", []string{"http://s.test/a", "http://s.test/b?x=1&y=2"}, ""},
		"an index":          {`<?xml version="1.0"?><sitemapindex><sitemap><loc>http://s.test/1.xml</loc></sitemap></sitemapindex>`, "sitemap", []string{"http://s.test/1.xml"}, ""},
		"RSS":               {`<rss version="2.0"><channel><link>http://s.test/</link><item><title>A</title><link>http://s.test/a</link></item></channel></rss>`, "feed", []string{"http://s.test/a"}, ""},
		"Atom, RFC 4287 §1": {`<?xml version="1.0" encoding="utf-8"?><feed xmlns="http://www.w3.org/2005/Atom"><link href="http://example.org/"/><entry><link href="http://example.org/2003/12/13/atom03"/><link rel="enclosure" href="http://example.org/x.mp3"/></entry></feed>`, "feed", []string{"http://example.org/2003/12/13/atom03"}, ""},
		"cut off":           {`<?xml version="1.0"?><urlset><url><loc>http://s.test/a</loc></url>`, "sitemap", []string{"http://s.test/a"}, "not XML"},
		"a page":            {`<!doctype html><title>A</title>`, "", nil, ""},
		"other XML":         {`<?xml version="1.0"?><svg><loc>http://s.test/a</loc></svg>`, "", nil, ""},
		"nothing":           {"", "", nil, ""},
	} {
		what, got, err := Entries([]byte(tc.raw))
		assert.Equal(t, tc.what, what, name)
		assert.Equal(t, tc.want, got, name)
		if tc.fails != "" {
			assert.ErrorContains(t, err, tc.fails, name)
		} else {
			assert.NoError(t, err, name)
		}
	}
}
