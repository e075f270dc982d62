package exclusion

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const document = `<!doctype html><html class="no-js"><head><style>.menu{color:red}</style><link rel="alternate" href="/feed.xml"><link rel="stylesheet" href="/s.css"><script src="/a.js"></script>
<script>window.basket = startBasket();</script><script type="application/json">{"startBasket":1}</script><script type="module">import "/m.js"</script></head>
<body id="top" class="home  wide"><a href="/kits#new">Kits</a><a href="https://elsewhere.example/x">x</a><a href="//cdn.example/y">y</a>
<img src="/pictures/a.jpg"><iframe src="/frames/mill"></iframe><p class="wide">x</p></body></html>`

func TestWhatIsInADocument(t *testing.T) {
	var in Inside
	in.Read([]byte(document))
	in.Read([]byte(document))
	assert.Equal(t, []string{"window.basket = startBasket();", `import "/m.js"`}, in.Scripts, "data is no script, and nothing is told twice")
	assert.Equal(t, []string{".menu{color:red}"}, in.Styles)
	assert.Equal(t, []string{"/pictures/a.jpg", "/frames/mill"}, in.Embedded)
	assert.Equal(t, []string{".no-js", "#top", ".home", ".wide"}, in.Selectors)
	assert.Equal(t, []string{"/feed.xml", "/kits"}, in.Links, "only the site's own")
	for role, want := range map[string][]string{"js-exclude-defer": in.Scripts, "css-exclude": in.Styles, "css-keep": in.Selectors, "lazy-exclude": in.Embedded, "data-exclude": nil, "path-exclude": nil} {
		assert.Equal(t, want, in.For(role), role)
	}
}

func TestAnEndlessDocumentIsReadToALimit(t *testing.T) {
	var in Inside
	var b strings.Builder
	for n := range mostInside + 500 {
		b.WriteString("<a href=/p" + strings.Repeat("x", n%7) + string(rune('a'+n%26)) + strings.Repeat("y", n/26) + ">")
	}
	in.Read([]byte(b.String()))
	assert.LessOrEqual(t, len(in.Links), mostInside)
}

func TestARuleForAnInlineScriptIsNotIdle(t *testing.T) {
	var in Inside
	in.Read([]byte(document))
	l := Layer{On: true, Rules: []Rule{{Key: "defer.not", Role: "js-exclude-defer", Pattern: "startBasket"}, {Key: "defer.not", Role: "js-exclude-defer", Pattern: "startCart"}}}
	k := Known{Resources: []string{"http://a/a.js"}, Inside: in}
	idle := remarks(Coverage(l, k), Idle)
	require.Len(t, idle, 1)
	assert.Equal(t, "startCart", idle[0].Rule.Pattern)
}
