package evidence

import (
	"image"
	"testing"

	"github.com/stretchr/testify/assert"
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
	for name, tc := range map[string]struct {
		m, p   PageLook
		region image.Rectangle
		want   string
	}{
		"missing":         {was, page(head), image.Rect(20, 200, 140, 240), "button#pay “Pay now” is missing"},
		"new":             {page(head), read(page(head, pay)), image.Rect(20, 200, 140, 240), "button#pay “Pay now” is new"},
		"replaced":        {was, page(head, note), image.Rect(20, 200, 140, 240), "p#note is in the place of button#pay “Pay now”"},
		"of another size": {was, read(page(head, other(pay, func(b *Box) { b.Width = 260 }))), image.Rect(30, 205, 260, 235), "button#pay “Pay now” is 260 × 40 px, was 120 × 40"},
		"moved":           {was, read(page(head, other(pay, func(b *Box) { b.X, b.Y = 60, 190 }))), image.Rect(70, 200, 150, 225), "button#pay “Pay now” is 40 px further right and 10 px further up"},
		"drawn otherwise": {was, read(page(head, pay)), image.Rect(30, 205, 100, 235), "button#pay “Pay now” is drawn otherwise"},
		"no picture":      {page(head, photo), lost, image.Rect(30, 210, 200, 280), "img#photo shows no picture"},
		"all over":        {was, read(page(head, pay)), image.Rect(0, 0, 400, 900), "Looks different at the page as a whole"},
	} {
		t.Run(name, func(t *testing.T) { assert.Equal(t, tc.want, whatHappened(tc.m, tc.p, tc.region)) })
	}
}
