package prediction

import (
	"bytes"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"

	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/settings"
)

func matchesName(pattern, name string) bool { return exclusion.MatchName(pattern, name) }

// pictures predicts what becomes of a page's pictures.
func (s *sight) pictures(p Page) {
	if key := s.key(s.before, "add-dimensions"); key != "" && s.key(s.after, "add-dimensions") == "" {
		s.jumps(p, key, func(img *goquery.Selection, _ int) bool {
			return has(img, "width") && !s.spared(s.before, "dimensions-exclude", img.AttrOr("src", ""))
		}, "have dimensions in the page, which this setting writes", "")
	}
	if key := s.begins("lazy-images"); key != "" && s.key(s.after, "add-dimensions") == "" {
		skip := s.number("lazy-skip-first")
		s.jumps(p, key, func(img *goquery.Selection, i int) bool {
			return i >= skip && !has(img, "width") && !has(img, "loading") && !s.spared(s.after, "lazy-exclude", img.AttrOr("src", ""))
		}, "have no dimensions in the page", "lazy-exclude")
	}
	widest := s.number("image-resize")
	if keys := s.cat.WithRole("image-resize"); len(keys) > 0 && widest > 0 && !settings.Equal(s.before[keys[0].Key], s.after[keys[0].Key]) {
		most, drawn := 0, 0
		for _, b := range p.Look.Outline {
			if (b.Role == "img" || b.Role == "image") && b.Width > widest {
				most, drawn = max(most, b.Width), drawn+1
			}
		}
		if drawn > 0 {
			s.sees(p.at(), Prediction{Key: keys[0].Key, Kind: Small, About: "pictures", Sure: true, Title: "Pictures on {pages} are drawn wider than they would be sent",
				Why: fmt.Sprintf("On %s %d pictures are wider than %d pixels, up to %d.", p.Look.Page, drawn, widest, most)})
		}
	}
}

func has(el *goquery.Selection, attribute string) bool { _, is := el.Attr(attribute); return is }

// number is the first number of a role after the change, 0 when there is none.
func (s *sight) number(role settings.Role) int {
	for _, d := range s.cat.WithRole(role) {
		switch n := s.after[d.Key].(type) {
		case int:
			return n
		case int64:
			return int(n)
		case float64:
			return int(n)
		}
	}
	return 0
}

// jumps predicts that pictures move the page when they come, where no style gives them a place.
func (s *sight) jumps(p Page, key string, which func(img *goquery.Selection, i int) bool, because string, list settings.Role) {
	var shapes []string
	for _, e := range p.Sheets {
		shapes = append(shapes, e.sheet.shapes...)
	}
	var names []string
	var mend []Exclude
	p.markup.Find("img[src]").Each(func(i int, img *goquery.Selection) {
		given := slices.ContainsFunc(shapes, func(sel string) bool {
			plain := strings.TrimSpace(dynamic.ReplaceAllString(sel, ""))
			return plain != "" && img.Is(plain)
		})
		if !which(img, i) || given || strings.Contains(img.AttrOr("style", ""), "height") {
			return
		}
		names = append(names, pathOf(img.AttrOr("src", "")))
		if list != "" {
			mend = append(mend, s.without(list, pathOf(img.AttrOr("src", "")))...)
		}
	})
	if len(names) > 0 {
		s.sees(p.at(), Prediction{Key: key, Kind: Jumps, About: "pictures", Title: "Pictures move {pages} when they come", Exclude: mend,
			Why: fmt.Sprintf("%d pictures on %s %s, and no style gives them a height: %s.", len(names), p.Look.Page, because, strings.Join(names[:min(3, len(names))], ", "))})
	}
}

func pathOf(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return address
	}
	return u.Path
}

// frames predicts that what another page shows in a frame waits until somebody asks.
func (s *sight) frames(p Page) {
	key := s.begins("lazy-frames")
	if key == "" {
		return
	}
	n := p.markup.Find("iframe[src]").FilterFunction(func(_ int, f *goquery.Selection) bool {
		return !s.spared(s.after, "lazy-exclude", f.AttrOr("src", ""))
	}).Length()
	if n > 0 {
		s.sees(p.at(), Prediction{Key: key, Kind: OnDemand, About: "frames", Sure: true, Title: "What stands in frames on {pages} is not there until somebody asks for it",
			Why: fmt.Sprintf("%s has %d.", p.Look.Page, n)})
	}
}

// hosts predicts that files which move to another host are not used: it is none of the site's, or it
// answers without the header that fonts and modules need (Fetch, 3.3; CSS Fonts 4, 4.8.2).
func (s *sight) hosts(p Page, hosts []string) {
	key := s.key(s.after, "asset-host")
	if key == "" || settings.Equal(s.before[key], s.after[key]) {
		return
	}
	said, _ := s.after[key].(string)
	base, err := url.Parse(p.Look.Address)
	if err != nil {
		return
	}
	host, err := base.Parse(said)
	if err != nil || len(p.Scripts)+len(p.Sheets) == 0 {
		return
	}
	if !strings.Contains(said, "//") {
		s.sees(p.at(), Prediction{Key: key, Kind: Host, About: said, Sure: true, Title: fmt.Sprintf("Files on {pages} would be asked for under “%s” of the site's own host", said),
			Why: "What is given has no scheme, so that browsers read it as a part of the address (RFC 3986, 4.2)."})
		return
	}
	if !slices.Contains(hosts, host.Host) && !slices.Contains(hosts, host.Hostname()) {
		s.sees(p.at(), Prediction{Key: key, Kind: Host, About: host.Host, Sure: true, Title: fmt.Sprintf("Files on {pages} would come from %s, which is not one of the site's hosts", host.Host),
			Why: "Tide Marker asks registered hosts only. Add it to the environment, or what comes of it cannot be checked."})
		return
	}
	for _, r := range p.Look.Requests {
		u, err := url.Parse(r.URL)
		if err == nil && u.Host == host.Host && r.Status == 200 && r.Shared == "" && s.needsSharing(p) {
			s.sees(p.at(), Prediction{Key: key, Kind: Host, About: host.Host, Title: fmt.Sprintf("Fonts and modules on {pages} would not be used from %s", host.Host),
				Why: fmt.Sprintf("It answered %s without Access-Control-Allow-Origin.", u.Path), Exclude: s.without("asset-host-exclude", ".woff")})
			return
		}
	}
}

// needsSharing tells whether a page has fonts or modules, which other hosts must allow.
func (s *sight) needsSharing(p Page) bool {
	return slices.ContainsFunc(p.Scripts, func(e Element) bool { return e.Crosses }) ||
		slices.ContainsFunc(p.Sheets, func(e Element) bool { return e.sheet.fonts })
}

// versioned is part of an address that changes with the file: a query, a version or a digest in its name (common practice).
var versioned = regexp.MustCompile(`\?.+|[.-][0-9a-f]{8,}\.|\d+\.\d+`)

// kept predicts that browsers use files again that have changed under the same address.
func (s *sight) kept(p Page) {
	key := s.begins("browser-cache")
	if key == "" {
		return
	}
	var names []string
	for _, e := range slices.Concat(p.Sheets, p.Scripts) {
		if !e.Inline() && e.Own && !versioned.MatchString(e.Text) {
			names = append(names, e.Path)
		}
	}
	if len(names) > 0 {
		s.sees(p.at(), Prediction{Key: key, Kind: KeptOld, About: "files", Sure: true, Title: "Returning visitors on {pages} keep old files after the next release",
			Why: fmt.Sprintf("Nothing in the address of %s says which version it is (%d such files on %s).", names[0], len(names), p.Look.Page)})
	}
}

// sameFiles predicts that two files become one when the query of their addresses goes.
func (s *sight) sameFiles(g Ground) {
	key := s.begins("query-strip")
	if key == "" {
		return
	}
	first := map[string]Element{}
	for _, p := range g.Pages {
		for _, e := range slices.Concat(p.Scripts, p.Sheets) {
			if e.Inline() || !e.Own || e.Code == nil {
				continue
			}
			was, known := first[e.Path]
			if !known {
				first[e.Path] = e
				continue
			}
			if was.Address != e.Address && !bytes.Equal(was.Code, e.Code) {
				s.sees(p.at(), Prediction{Key: key, Kind: SameFile, About: e.Path, Sure: true, Title: fmt.Sprintf("%s on {pages} is another file with each query", e.Path),
					Why: fmt.Sprintf("%s and %s brought different files.", was.Text, e.Text)})
			}
		}
	}
}
