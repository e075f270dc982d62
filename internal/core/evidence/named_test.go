package evidence

import (
	"image"
	"testing"

	"github.com/stretchr/testify/assert"

	"tidemarker/internal/core/visual"
)

func TestAChangedPartIsNamedByWhatHappened(t *testing.T) {
	page := func(boxes ...Box) PageLook {
		p := PageLook{Picture: &Picture{Width: 400, Height: 1000}, Outline: []Box{{Path: "body", Name: "body", Parent: -1, Width: 400, Height: 1000}}}
		p.Outline = append(p.Outline, boxes...)
		return p
	}
	head := Box{Path: "#h", Name: "h1#h", X: 20, Y: 20, Width: 300, Height: 40}
	pay := Box{Path: "#pay", Name: "button#pay", X: 20, Y: 200, Width: 120, Height: 40}
	note := Box{Path: "#note", Name: "p#note", X: 20, Y: 200, Width: 120, Height: 40}
	photo := Box{Path: "#photo", Name: "img#photo", X: 20, Y: 200, Width: 200, Height: 100}
	other := func(b Box, change func(*Box)) Box { change(&b); return b }
	was := page(head, pay)
	was.Lines = []Line{{"Pay now", 2}}
	read := func(p PageLook) PageLook { p.Lines = []Line{{"Pay now", 2}}; return p }
	lost := page(head, photo)
	lost.Requests = []Request{{URL: "/a.png", Kind: "image", Status: 404}}
	plainly, dressed := Style{"16px \"Times New Roman\"", "rgb(0, 0, 0)", "nothing"}, Style{"18px Source Sans", "rgb(30, 40, 50)", "rgb(70, 110, 60)"}
	styled := func(p PageLook, styles ...Style) PageLook {
		p.Styles = styles
		for i := range styles {
			p.Outline[i+1].Style = i + 1
		}
		return p
	}
	drawn := func(change func(*Style)) PageLook {
		s := dressed
		change(&s)
		return styled(read(page(head, pay)), dressed, s)
	}
	wasStyled := styled(read(page(head, pay)), dressed, dressed)
	below := Box{Path: "#below", Name: "p#below", X: 20, Y: 260, Width: 120, Height: 40, Parent: 0}
	lines := func(p PageLook) PageLook { p.Lines = []Line{{"Pay now", 2}, {"Free parcels", 3}}; return p }
	for name, tc := range map[string]struct {
		m, p   PageLook
		region image.Rectangle
		want   string
	}{
		"missing":           {was, page(head), image.Rect(20, 200, 140, 240), "button#pay “Pay now” is missing"},
		"new":               {page(head), read(page(head, pay)), image.Rect(20, 200, 140, 240), "button#pay “Pay now” is new"},
		"replaced":          {was, page(head, note), image.Rect(20, 200, 140, 240), "p#note is in the place of button#pay “Pay now”"},
		"of another size":   {was, read(page(head, other(pay, func(b *Box) { b.Width = 260 }))), image.Rect(30, 205, 260, 235), "button#pay “Pay now” is 260 × 40 px, was 120 × 40"},
		"moved":             {was, read(page(head, other(pay, func(b *Box) { b.X, b.Y = 60, 190 }))), image.Rect(70, 200, 150, 225), "button#pay “Pay now” is 40 px further right and 10 px further up"},
		"drawn otherwise":   {was, read(page(head, pay)), image.Rect(30, 205, 100, 235), "button#pay “Pay now” is drawn otherwise"},
		"no picture":        {page(head, photo), lost, image.Rect(30, 210, 200, 280), "img#photo shows no picture"},
		"without its style": {wasStyled, styled(read(page(head, pay)), dressed, plainly), image.Rect(10, 190, 150, 250), "button#pay “Pay now” has lost its style"},
		"all without style": {wasStyled, styled(read(page(head, pay)), plainly, plainly), image.Rect(0, 0, 400, 900), "h1#h and 1 more have lost their style"},
		"in another font":   {wasStyled, drawn(func(s *Style) { s.Font = "18px Arial" }), image.Rect(30, 205, 100, 235), "button#pay “Pay now” is set in 18px Arial, was 18px Source Sans"},
		"in the same font":  {wasStyled, drawn(func(s *Style) { s.Font = `18px "source sans"` }), image.Rect(30, 205, 100, 235), "button#pay “Pay now” is drawn otherwise"},
		"recoloured":        {wasStyled, drawn(func(s *Style) { s.Colour = "rgb(200, 0, 0)" }), image.Rect(30, 205, 100, 235), "button#pay “Pay now” is rgb(200, 0, 0), was rgb(30, 40, 50)"},
		"on another ground": {wasStyled, drawn(func(s *Style) { s.Background = "nothing" }), image.Rect(30, 205, 100, 235), "button#pay “Pay now” is on nothing, was on rgb(70, 110, 60)"},
		"cut off":           {was, read(page(head, other(pay, func(b *Box) { b.Cut = true }))), image.Rect(30, 205, 100, 235), "button#pay “Pay now” is cut off"},
		"overlapped":        {lines(page(head, pay, below)), lines(page(head, pay, other(below, func(b *Box) { b.Y = 210 }))), image.Rect(25, 215, 130, 245), "p#below “Free parcels” lies over button#pay “Pay now”"},
		"all over":          {was, read(page(head, pay)), image.Rect(0, 0, 400, 900), "Looks different at the page as a whole"},
	} {
		t.Run(name, func(t *testing.T) {
			r := visual.Region{X: tc.region.Min.X, Y: tc.region.Min.Y, Width: tc.region.Dx(), Height: tc.region.Dy(), Was: tc.region.Min.Y}
			what, _ := whatHappened(tc.m, tc.p, r)
			assert.Equal(t, tc.want, what)
		})
	}
}

func TestABlockThatChangedPlacesIsNamed(t *testing.T) {
	at := func(y int) PageLook {
		return PageLook{Outline: []Box{{Path: "body", Name: "body", Parent: -1, Width: 400, Height: 1000}, {Path: "#news", Name: "section#news", X: 20, Y: y, Width: 300, Height: 80}}}
	}
	what, path := whatHappened(at(100), at(500), visual.Region{X: 0, Y: 490, Width: 400, Height: 100, Changed: 30000, Happened: visual.Moved, Was: 90, Rows: 100})
	assert.Equal(t, "section#news is 400 px further down: it has changed places", what)
	assert.Equal(t, "#news", path)
}

func TestEachPartOfAPictureIsAFindingAndWhatMovedBelowIsNone(t *testing.T) {
	notice, offer := block{"div.notice", "Free parcels", 150}, block{"div.offer", "Two for one", 180}
	named := func(p PageLook) PageLook { // elements known by what they are, wherever they stand
		for i := range p.Outline[1:] {
			p.Outline[i+1].Path = p.Outline[i+1].Name
		}
		return p
	}
	base := learn(t, Look{Pages: []PageLook{named(page("/", "desktop", head, kits, saying(1), foot))}}, Look{Pages: []PageLook{named(page("/", "desktop", head, kits, saying(1), foot))}})
	var titles []string
	for _, f := range compare(t, base, named(page("/", "desktop", head, notice, kits, saying(1), offer, foot))) {
		if f.Kind == PictureKind {
			titles = append(titles, f.Title)
		}
	}
	assert.ElementsMatch(t, []string{"div.notice “Free parcels” is new", "div.offer “Two for one” is new"}, titles)
}

func TestAPayButtonWeighsMoreThanAFooter(t *testing.T) {
	at := func(role string, changed int) Severity {
		p := PageLook{Outline: []Box{{Path: "body", Parent: -1, Width: 400, Height: 1000}, {Path: "#x", Name: "x", Parent: 0, X: 20, Y: 20, Width: 40, Height: 40, Role: role}}}
		parts := partsOf(p, p, visual.Result{Changed: changed, Regions: []visual.Region{{X: 20, Y: 20, Width: 40, Height: 40, Was: 20, Changed: changed}}})
		return parts[0].severity()
	}
	assert.Equal(t, Broken, at("button", 120))
	assert.Equal(t, Unsure, at("", 120), "of content that is little")
	assert.Equal(t, Broken, at("", 900))
	assert.Equal(t, Unsure, at("contentinfo", 900), "in a footer a person is to say")
	assert.Equal(t, Broken, at("contentinfo", 3000))
}
