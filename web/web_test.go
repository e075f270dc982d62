package web_test

import (
	"bytes"
	"compress/gzip"
	"io/fs"
	"path"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	files "tidemarker/web"
)

// mostOfFirstLoad is how much the first view may need before it shows anything, compressed, in bytes: code, styles and the
// document. Letters come after; the system's stand in for them until then.
const mostOfFirstLoad = 250_000

var (
	named    = regexp.MustCompile(`(?:src|href)="/assets/([^"]+\.(?:js|css))"`)
	imported = regexp.MustCompile(`(?:from|import)\s*"\./([^"]+\.js)"`)
)

// firstLoad is what the list of sites needs, by file: the document, what it names, the view's own code, and what any of them
// imports before it runs.
func firstLoad(t testing.TB) map[string]int {
	t.Helper()
	sizes := map[string]int{}
	read := func(name string) string {
		raw, err := fs.ReadFile(files.Files, "dist/"+name)
		require.NoError(t, err)
		var out bytes.Buffer
		z := gzip.NewWriter(&out)
		_, err = z.Write(raw)
		require.NoError(t, err)
		require.NoError(t, z.Close())
		sizes[path.Base(name)] = out.Len()
		return string(raw)
	}
	var follow func(name string)
	follow = func(name string) {
		if _, seen := sizes[name]; seen {
			return
		}
		for _, m := range imported.FindAllStringSubmatch(read("assets/"+name), -1) {
			follow(m[1])
		}
	}
	for _, m := range named.FindAllStringSubmatch(read("index.html"), -1) {
		follow(m[1])
	}
	views, err := fs.Glob(files.Files, "dist/assets/SitesView-*")
	require.NoError(t, err)
	require.NotEmpty(t, views, "the first view was not found")
	for _, v := range views {
		follow(strings.TrimPrefix(v, "dist/assets/"))
	}
	return sizes
}

func sum(sizes map[string]int) (all int) {
	for _, n := range sizes {
		all += n
	}
	return all
}

func TestTheFirstLoadIsSmall(t *testing.T) {
	sizes := firstLoad(t)
	require.Greater(t, len(sizes), 3, "%v", sizes)
	assert.Less(t, sum(sizes), mostOfFirstLoad, "%v", sizes)
}

// BenchmarkFirstLoad says how large the first load is.
func BenchmarkFirstLoad(b *testing.B) {
	var all int
	for b.Loop() {
		all = sum(firstLoad(b))
	}
	b.ReportMetric(float64(all)/1000, "kB")
	b.ReportMetric(float64(all)/mostOfFirstLoad, "of-the-limit")
}
