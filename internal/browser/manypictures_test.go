package browser

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/site"
)

// manyPictures serves a page of 30 pictures with six scripts and style sheets before, between and after them, each
// answer after a delay.
func manyPictures(t testing.TB, delay time.Duration) site.Environment {
	t.Helper()
	var raw bytes.Buffer
	m := image.NewNRGBA(image.Rect(0, 0, 320, 200))
	for i := range m.Pix {
		m.Pix[i] = uint8(i * 7)
	}
	m.Set(0, 0, color.White)
	require.NoError(t, png.Encode(&raw, m))
	var page strings.Builder
	page.WriteString(`<!doctype html><meta name=viewport content="width=device-width"><title>Thirty</title><link rel=stylesheet href="/a.css"><script src="/a.js"></script>`)
	for i := range 30 {
		switch i {
		case 10:
			page.WriteString(`<link rel=stylesheet href="/b.css"><script src="/b.js"></script>`)
		case 20:
			page.WriteString(`<script src="/c.js" async></script>`)
		}
		fmt.Fprintf(&page, `<figure><img src="/p%d.png" alt=""><figcaption>Picture %d</figcaption></figure>`, i, i)
	}
	page.WriteString(`<script src="/d.js"></script>`)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		time.Sleep(delay)
		switch {
		case r.URL.Path == "/":
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			_, _ = w.Write([]byte(page.String()))
		case strings.HasSuffix(r.URL.Path, ".css"):
			w.Header().Set("Content-Type", "text/css")
			_, _ = w.Write([]byte(`figure { margin: 8px; }`))
		case strings.HasSuffix(r.URL.Path, ".js"):
			w.Header().Set("Content-Type", "text/javascript")
			_, _ = w.Write([]byte(`document.documentElement.dataset.` + strings.Trim(r.URL.Path, "/.js") + ` = "ran";`))
		default:
			w.Header().Set("Content-Type", "image/png")
			_, _ = w.Write(raw.Bytes())
		}
	}))
	t.Cleanup(s.Close)
	return site.Environment{Name: "staging", URL: s.URL}
}
