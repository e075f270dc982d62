package visual

import (
	"image"
	"image/color"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAThumbnailShowsThePlaceWithItsFrame(t *testing.T) {
	white, red, frame := color.NRGBA{255, 255, 255, 255}, color.NRGBA{200, 0, 0, 255}, color.NRGBA{0xb0, 0x1e, 0x5a, 0xff}
	page := blank(1280, 4000, white)
	for name, place := range map[string]image.Rectangle{
		"a button":            image.Rect(600, 2000, 700, 2040),
		"at the top left":     image.Rect(0, 0, 50, 20),
		"at the bottom right": image.Rect(1230, 3980, 1280, 4000),
		"the whole width":     image.Rect(0, 500, 1280, 900),
		"the whole page":      page.Rect,
		"higher than wide":    image.Rect(100, 100, 140, 3900),
		"one row":             image.Rect(0, 700, 1280, 701),
	} {
		m := blank(1280, 4000, white)
		fill(m, place, red)
		got := Thumbnail(m, place, 240, 150, frame)
		assert.LessOrEqual(t, got.Rect.Dx(), 240, name)
		assert.LessOrEqual(t, got.Rect.Dy(), 150, name)
		assert.GreaterOrEqual(t, max(got.Rect.Dx(), got.Rect.Dy()), 150, "%s: it is not shown smaller than there is room for", name)
		reds, frames := 0, 0
		for y := range got.Rect.Dy() {
			for x := range got.Rect.Dx() {
				switch c := got.NRGBAAt(x, y); {
				case c == frame:
					frames++
				case c.R > 190 && c.G < 200:
					reds++
				}
			}
		}
		assert.Positive(t, reds+frames, name)
		if place != page.Rect {
			assert.Positive(t, frames, name)
		}
	}
	assert.NotPanics(t, func() { Thumbnail(page, image.Rect(5000, 5000, 5010, 5010), 240, 150, frame) }, "outside the picture")
	small := blank(100, 60, white)
	assert.Equal(t, image.Rect(0, 0, 100, 60), Thumbnail(small, image.Rect(10, 10, 20, 20), 240, 150, frame).Rect, "nothing is enlarged")
}
