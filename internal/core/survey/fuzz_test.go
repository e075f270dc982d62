package survey

import (
	"net/url"
	"testing"
)

// FuzzPage reads pages and feeds of a site that nobody has seen.
func FuzzPage(f *testing.F) {
	f.Add("/", "no-store", []byte(`<title>t</title><form method=post action="/in"><input name=u><input type=password name=p><button>Sign in</button></form><a href="/out">Sign out</a>`))
	f.Add("/feed", "", []byte(`<rss><channel><item><link>https://e.example/a</link></item></channel></rss>`))
	f.Add("//[", "max-age=x", []byte("<a href='//[::1'><form action='%zz'>"))
	base, err := url.Parse("https://e.example")
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, path, cacheControl string, body []byte) {
		o := Observe(base, path, 200, cacheControl, body)
		if s := Classify(o); s.Class == "" {
			t.Fatal("a page without a class")
		}
		WayOut(body)
		_, _, _ = Entries(body)
	})
}
