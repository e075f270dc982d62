package mutation

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/PuerkitoBio/goquery"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const sample = `<!doctype html><html><head><title>T</title><link rel="stylesheet" href="/site.css"><script src="/lib.js"></script><script src="/app.js"></script></head>
<body><header class="top"><a class="button" href="/kits">All kits</a></header><main><section class="intro"><h1>Grow   something</h1><p>Kits for a shelf</p></section>
<section><h2>More of it</h2><img src="/a.png" width="10" height="10"></section><p>The last words here</p></main><footer>Foot of it</footer></body></html>`

// served is what comes through a proxy: the page, its styles and a picture.
func served(t *testing.T, p *Proxy, url string) map[string]string {
	t.Helper()
	front := httptest.NewServer(p)
	defer front.Close()
	out := map[string]string{}
	for _, path := range []string{"/", "/site.css", "/a.png"} {
		res, err := http.Get(front.URL + path)
		require.NoError(t, err)
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		out[path] = strings.Join([]string{res.Status, res.Header.Get("Content-Type"), string(body)}, "\n")
	}
	return out
}

func TestEachClassChangesSomethingAndTheSameEachTime(t *testing.T) {
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/site.css":
			w.Header().Set("Content-Type", "text/css")
			_, _ = w.Write([]byte("h1 { color: #224466 }\n.nowhere { color: #000 }"))
		case "/a.png":
			w.Header().Set("Content-Type", "image/png")
			_, _ = w.Write([]byte(strings.Repeat("png", 40)))
		default:
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			_, _ = w.Write([]byte(sample))
		}
	}))
	defer site.Close()
	p, err := NewProxy(site.URL)
	require.NoError(t, err)
	was := served(t, p, site.URL)
	for _, c := range Classes() {
		t.Run(c.Name, func(t *testing.T) {
			p.Set(&Mutation{Class: c, Seed: 3})
			now := served(t, p, site.URL)
			require.Positive(t, p.Applied())
			p.Set(&Mutation{Class: c, Seed: 3})
			assert.Equal(t, now, served(t, p, site.URL), "a seed picks the same")
			if c.Harmful {
				assert.NotEqual(t, was, now)
				return
			}
			text := func(answers map[string]string) string {
				doc, err := goquery.NewDocumentFromReader(strings.NewReader(answers["/"]))
				require.NoError(t, err)
				return strings.Join(strings.Fields(doc.Find("body").Text()), " ")
			}
			assert.Equal(t, text(was), text(now), "nobody reads anything else")
		})
	}
	p.Set(nil)
	assert.Equal(t, was, served(t, p, site.URL))
}
