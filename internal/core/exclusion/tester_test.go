package exclusion

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAPatternSaysWhatItNarrowlyMisses(t *testing.T) {
	for name, tc := range map[string]struct {
		kind    Kind
		pattern string
		text    string
		want    string
	}{
		"a slash too many":                {Path, "/cart/", "/cart", "trailing slash"},
		"a slash missing":                 {Path, "/cart$", "/cart/", "trailing slash"},
		"another case":                    {Path, "/cart", "/Cart", "letter case"},
		"the index of a folder":           {Path, "/shop/$", "/shop/index.html", "index"},
		"the folder of an index":          {Path, "/shop/index.html", "/shop/", "index"},
		"in another language":             {Path, "/checkout", "/de/checkout", "language prefix"},
		"in a language of a country":      {Path, "/checkout", "/pt-BR/checkout", "language prefix"},
		"with a query":                    {Path, "/account$", "/account?from=mail", "query string"},
		"with encoded letters":            {Path, "/a&b", "/a%26b", "encoded letters"},
		"a page below":                    {Path, "/members$", "/members/the-long-cellar", "sub-page"},
		"a cookie with more in its name":  {Name, "session", "shop_session", "part of the name"},
		"a cookie in another case":        {Name, "Session", "session", "letter case"},
		"a role that is written larger":   {Exact, "editor", "Editor", "letter case"},
		"nothing like it":                 {Path, "/cart", "/library/cart", ""},
		"another name":                    {Name, "session", "lang", ""},
		"an empty pattern misses nothing": {Path, "", "/", ""},
	} {
		t.Run(name, func(t *testing.T) {
			got := Try(tc.kind, tc.pattern, []string{tc.text, tc.text})
			assert.Empty(t, got.Matches)
			if tc.want == "" {
				assert.Empty(t, got.Misses)
				return
			}
			assert.Equal(t, []Miss{{tc.text, tc.want}}, got.Misses)
		})
	}
	got := Try(Path, "/cart", []string{"/cart?x=1", "/", "/cart"})
	assert.Equal(t, []string{"/cart?x=1", "/cart"}, got.Matches)
}
