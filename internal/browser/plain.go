package browser

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"time"

	"github.com/go-rod/rod/lib/proto"
	"golang.org/x/net/html"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/site"
	"tidemarker/internal/reach"
)

// way is how sites are asked without a browser.
var way = reach.Transport()

// Plain asks for pages without a browser, one answer at a time.
type Plain struct {
	Env    site.Environment
	Reader *httpcache.Reader // tells how a page was served; one by the environment's signal when nil
	Keep   Keep
}

const bodyLimit = 8 << 20

// Ask gets a path as a device and with a persona's cookies, and notes which of these
// marks stand in the answer. Redirects are not followed: where a page sends somebody
// is part of its answer.
func (p Plain) Ask(ctx context.Context, path, deviceName string, state State, marks []string) (evidence.Answer, error) {
	address := p.Env.Address(path)
	u, err := url.Parse(address)
	if err != nil || !p.Env.Owns(u) {
		return evidence.Answer{}, fmt.Errorf("%s is not on one of the site's hosts", address)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return evidence.Answer{}, err
	}
	req.Header.Set("User-Agent", devices[deviceName].agent)
	req.Header.Set("Accept", "text/html,application/xhtml+xml")
	for _, c := range cookiesFor(state.Cookies, u) {
		req.AddCookie(c)
	}
	client := http.Client{Transport: way, Timeout: 20 * time.Second, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	res, err := client.Do(req)
	if err != nil {
		return evidence.Answer{}, fmt.Errorf("ask for %s: %w", address, err)
	}
	defer res.Body.Close()
	body, err := io.ReadAll(io.LimitReader(res.Body, bodyLimit))
	if err != nil {
		return evidence.Answer{}, fmt.Errorf("ask for %s: %w", address, err)
	}
	if p.Reader == nil {
		p.Reader = httpcache.NewReader(p.Env.Signal())
	}
	facts := p.Reader.Read(VariantOf(path, deviceName), res.Header.Values, body)
	a := evidence.Answer{Status: res.StatusCode, Received: time.Now().UTC(), Served: facts.Served, CacheNote: clip(facts.Note), Lines: TextLines(body), Fields: cachingFields(res)}
	a.Shape, a.Tokens = build(body)
	for _, m := range marks {
		if m != "" && bytes.Contains(body, []byte(html.EscapeString(m))) || m != "" && bytes.Contains(body, []byte(m)) {
			a.PrivateTexts = append(a.PrivateTexts, m)
		}
	}
	if p.Keep != nil {
		if a.Body, err = p.Keep(ctx, "text/html", body); err != nil {
			return evidence.Answer{}, fmt.Errorf("keep the answer of %s: %w", address, err)
		}
	}
	return a, nil
}

// cachingFields are the fields of a response that are about caching. Of cookies only
// the names are kept.
func cachingFields(res *http.Response) map[string][]string {
	out := map[string][]string{}
	for _, name := range []string{"Age", "Cache-Control", "Date", "Expires", "Last-Modified", "Vary"} {
		for _, v := range res.Header.Values(name) {
			key := strings.ToLower(name)
			out[key] = append(out[key], clip(v))
		}
	}
	for _, c := range res.Cookies() {
		out["set-cookie"] = append(out["set-cookie"], clip(c.Name))
	}
	return out
}

// build is how a document is built: the SHA-256 of its elements and their classes in
// order, and one of each value that its forms hide.
func build(body []byte) (shape string, tokens []string) {
	doc, err := html.Parse(bytes.NewReader(body))
	if err != nil {
		return "", nil
	}
	elements := sha256.New()
	for n := range doc.Descendants() {
		if n.Type != html.ElementNode {
			continue
		}
		attr := map[string]string{}
		for _, a := range n.Attr {
			attr[a.Key] = a.Val
		}
		fmt.Fprintf(elements, "%s.%s\n", n.Data, attr["class"])
		if n.Data == "input" && strings.EqualFold(attr["type"], "hidden") && len(attr["value"]) >= 8 && len(tokens) < 20 {
			sum := sha256.Sum256([]byte(attr["name"] + "=" + attr["value"]))
			tokens = append(tokens, hex.EncodeToString(sum[:]))
		}
	}
	return hex.EncodeToString(elements.Sum(nil)), tokens
}

// cookiesFor are the cookies that go to an address (RFC 6265 §5.4). A domain that begins
// with a dot is one that the site named; without, the cookie is its host's alone.
func cookiesFor(cookies []*proto.NetworkCookieParam, u *url.URL) []*http.Cookie {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil
	}
	for _, c := range cookies {
		host, domain := c.Domain, ""
		if named, is := strings.CutPrefix(c.Domain, "."); is {
			host, domain = named, named
		}
		if host == "" {
			host = u.Hostname()
		}
		scheme := "http"
		if c.Secure {
			scheme = "https"
		}
		jar.SetCookies(&url.URL{Scheme: scheme, Host: host, Path: "/"}, []*http.Cookie{{Name: c.Name, Value: c.Value, Domain: domain, Path: c.Path, Secure: c.Secure}})
	}
	return jar.Cookies(u)
}

// TextLines are the pieces of text of an HTML document, one for each block element,
// white space folded. At most 1,500.
func TextLines(body []byte) []string {
	doc, err := html.Parse(bytes.NewReader(body))
	if err != nil {
		return nil
	}
	var out []string
	var line strings.Builder
	flush := func() {
		if s := fold(line.String()); s != "" && len(out) < 1500 {
			out = append(out, clip(s))
		}
		line.Reset()
	}
	var walk func(*html.Node)
	walk = func(n *html.Node) {
		switch {
		case n.Type == html.TextNode:
			line.WriteString(n.Data)
		case n.Type == html.ElementNode && (n.Data == "script" || n.Data == "style" || n.Data == "noscript" || n.Data == "template" || n.Data == "head"):
			return
		}
		block := n.Type == html.ElementNode && !inlineElements[n.Data]
		if block {
			flush()
		}
		for c := n.FirstChild; c != nil; c = c.NextSibling {
			walk(c)
		}
		if block {
			flush()
		}
	}
	walk(doc)
	flush()
	return out
}

var inlineElements = map[string]bool{"a": true, "abbr": true, "b": true, "bdi": true, "bdo": true, "cite": true, "code": true,
	"data": true, "dfn": true, "em": true, "i": true, "kbd": true, "mark": true, "q": true, "s": true, "samp": true, "small": true,
	"span": true, "strong": true, "sub": true, "sup": true, "time": true, "u": true, "var": true}
