package evidence

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"tidemarker/internal/core/words"
)

// Renderer is what draws the pictures of a look: a browser with the fonts of its machine. The
// zero value is one of which nothing is known.
type Renderer struct {
	Browser string            `json:"browser" doc:"Its name and version."`
	Fonts   map[string]string `json:"fonts,omitempty" doc:"The font that it draws each generic family and script with."`
	Sample  string            `json:"sample" doc:"SHA-256 of the pixels of one sample of letters and controls."`
}

// RendererCause is the cause of all pictures that were not compared.
const RendererCause = "browser: pictures are drawn otherwise"

// known tells whether something is known of it.
func (r *Renderer) known() bool { return r != nil && r.Sample != "" }

// DrawsLike tells whether pictures of the two can be compared. A difference between them would
// be the browser's or the fonts', whatever the settings are. What is not known is taken to.
func (r *Renderer) DrawsLike(o *Renderer) bool {
	return !r.known() || !o.known() || r.Sample == o.Sample
}

// since says what draws otherwise now than r did.
func (r *Renderer) since(now *Renderer) string {
	var out []string
	if r.Browser != now.Browser {
		out = append(out, fmt.Sprintf("the browser was %s and is %s", r.Browser, now.Browser))
	}
	keys := slices.Sorted(maps.Keys(r.Fonts))
	for k := range now.Fonts {
		if _, ok := r.Fonts[k]; !ok {
			keys = append(keys, k)
		}
	}
	slices.Sort(keys)
	var fonts []string
	for _, k := range keys {
		if was, is := r.Fonts[k], now.Fonts[k]; was != is {
			fonts = append(fonts, fmt.Sprintf("%s was drawn with %s and is with %s", k, fontNamed(was), fontNamed(is)))
		}
	}
	if more := len(fonts) - 3; more > 0 {
		fonts = append(fonts[:3], "and "+words.Count(more, "more font"))
	}
	if out = append(out, fonts...); len(out) == 0 {
		return "the browser and the names of its fonts are the same, but letters and controls come out otherwise"
	}
	return strings.Join(out, ", ")
}

func fontNamed(font string) string {
	if font == "" {
		return "no font"
	}
	return font
}

// rendererFindings say that pictures were not compared, since they could not be.
func rendererFindings(m, p PageLook) []Finding {
	if m.Picture == nil || p.Picture == nil || m.Picture.SHA256 == p.Picture.SHA256 || m.Renderer.DrawsLike(p.Renderer) {
		return nil
	}
	why := m.Renderer.since(p.Renderer)
	return []Finding{p.about(NotCheckedKind, Unsure, "The picture was not compared: another browser or other fonts draw it than the mark's").
		with("Since the mark, %s. All else was compared. Take a new mark, so that pictures can be compared again.", why).dueTo(RendererCause)}
}

// otherVersion says beside a picture's finding that the mark's was drawn by another browser.
func otherVersion(m, p PageLook) string {
	if !m.Renderer.known() || !p.Renderer.known() || m.Renderer.Browser == p.Renderer.Browser {
		return ""
	}
	return fmt.Sprintf(" The mark's picture was drawn by %s, this one by %s; both draw a sample of letters and controls alike.", m.Renderer.Browser, p.Renderer.Browser)
}

// WantsNewMark tells whether a new mark mends what could not be checked: the mark was taken by a
// browser that draws otherwise.
func (f Finding) WantsNewMark() bool { return f.OwnCause() == RendererCause }

// NotLooked tells whether a finding says that something could not be looked at at all.
func (f Finding) NotLooked() bool { return f.Kind == NotCheckedKind && !f.WantsNewMark() }
