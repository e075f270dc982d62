package survey

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Side is what one environment has, as far as it matters for whether a check there
// proves something about the other.
type Side struct {
	Name      string
	Facts     map[string]string // of the host: what, and how it is here
	Catalogue map[string]string // key of each setting, and its type and role
	Settings  map[string]string // key of each setting, and its value in words
	Pages     []string          // paths that its sitemap names; nil when it has none
	Assets    map[string]string // path of each script and style that the pages of the test plan ask for, and its version
}

// Unlike is one thing in which two environments differ.
type Unlike struct {
	What   string `json:"what" enum:"host,catalogue,settings,pages,files"`
	Of     string `json:"of"`
	First  string `json:"first" doc:"How it is on the first environment."`
	Last   string `json:"last"`
	Weighs bool   `json:"weighs" doc:"A check on the first proves little of the last where this matters."`
}

// mostUnlike bounds how many differences of one kind are listed.
const mostUnlike = 60

// Parity lists in what two environments differ. Settings may differ on purpose, and do
// while something is tried; everything else weighs.
func Parity(first, last Side) []Unlike {
	out := []Unlike{}
	table := func(what string, a, b map[string]string, weighs bool) {
		keys := slices.Sorted(maps.Keys(a))
		for k := range b {
			if _, both := a[k]; !both {
				keys = append(keys, k)
			}
		}
		slices.Sort(keys)
		n := 0
		for _, k := range keys {
			x, inA := a[k]
			y, inB := b[k]
			if inA && inB && x == y || n == mostUnlike {
				continue
			}
			n++
			out = append(out, Unlike{what, k, orNone(x, inA), orNone(y, inB), weighs})
		}
	}
	table("host", first.Facts, last.Facts, true)
	table("catalogue", first.Catalogue, last.Catalogue, true)
	table("files", first.Assets, last.Assets, true)
	if first.Pages != nil && last.Pages != nil {
		table("pages", listed(first.Pages), listed(last.Pages), true)
	}
	table("settings", first.Settings, last.Settings, false)
	return out
}

// AlikeInWords says in a sentence what a parity comes to.
func AlikeInWords(first, last string, list []Unlike) string {
	n := map[string]int{}
	for _, u := range list {
		n[u.What]++
	}
	var parts []string
	for _, w := range []struct{ what, one, many string }{{"host", "fact of the host", "facts of the host"}, {"catalogue", "setting only one has", "settings only one has"},
		{"files", "script or style", "scripts and styles"}, {"pages", "page", "pages"}, {"settings", "value", "values"}} {
		switch n[w.what] {
		case 0:
		case 1:
			parts = append(parts, "1 "+w.one)
		default:
			parts = append(parts, fmt.Sprintf("%d %s", n[w.what], w.many))
		}
	}
	if len(parts) == 0 {
		return fmt.Sprintf("%s and %s are alike.", first, last)
	}
	return fmt.Sprintf("%s and %s differ in %s.", first, last, strings.Join(parts, ", "))
}

func listed(paths []string) map[string]string {
	m := make(map[string]string, len(paths))
	for _, p := range paths {
		m[p] = "there"
	}
	return m
}

func orNone(v string, there bool) string {
	if !there {
		return "not there"
	}
	return v
}
