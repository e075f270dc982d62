package evidence

import (
	"image"
	"image/color"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// drawn are two looks at one page whose pictures differ in a block of 40×40 pixels.
func drawn(was, now *Renderer) (Baseline, PageLook, Pictures) {
	key := Key{Page: "/", Persona: "visitor", Device: "desktop"}
	pics := map[string]*image.NRGBA{}
	for name, shade := range map[string]uint8{"a": 255, "b": 0} {
		img := image.NewNRGBA(image.Rect(0, 0, 200, 100))
		for i := range img.Pix {
			img.Pix[i] = 255
		}
		for y := 20; y < 60; y++ {
			for x := 20; x < 60; x++ {
				img.Set(x, y, color.Gray{shade})
			}
		}
		pics[name] = img
	}
	look := func(r *Renderer, name string) PageLook {
		return PageLook{Key: key, Status: 200, Address: "http://shop.example/", Renderer: r, Picture: &Picture{SHA256: name, Width: 200, Height: 100},
			Outline: []Box{{Path: "body", Parent: -1, Width: 200, Height: 100}}}
	}
	return NewBaseline(Look{Pages: []PageLook{look(was, "a")}}, nil), look(now, "b"), func(sha string) (*image.NRGBA, error) { return pics[sha], nil }
}

func TestPicturesOfBrowsersThatDrawOtherwiseAreNotBlamed(t *testing.T) {
	then := &Renderer{Browser: "Chromium 139", Sample: "s1", Fonts: map[string]string{"serif": "DejaVu Serif", "Greek": "DejaVu Sans"}}
	same := &Renderer{Browser: "Chromium 140", Sample: "s1", Fonts: then.Fonts}
	fonts := &Renderer{Browser: "Chromium 139", Sample: "s2", Fonts: map[string]string{"serif": "Liberation Serif", "Greek": "DejaVu Sans", "emoji": "Noto Color Emoji"}}
	silent := &Renderer{Browser: "Chromium 139", Sample: "s3", Fonts: then.Fonts}

	t.Run("another that draws the same", func(t *testing.T) {
		base, now, pics := drawn(then, same)
		found, err := ComparePage(base, now, pics)
		require.NoError(t, err)
		require.Len(t, found, 1)
		assert.Equal(t, PictureKind, found[0].Kind)
		assert.Contains(t, found[0].Detail, "The mark's picture was drawn by Chromium 139, this one by Chromium 140")
	})
	t.Run("other fonts", func(t *testing.T) {
		base, now, pics := drawn(then, fonts)
		found, err := ComparePage(base, now, pics)
		require.NoError(t, err)
		require.Len(t, found, 1)
		f := found[0]
		assert.Equal(t, NotCheckedKind, f.Kind)
		assert.Contains(t, f.Detail, "serif was drawn with DejaVu Serif and is with Liberation Serif")
		assert.Contains(t, f.Detail, "emoji was drawn with no font and is with Noto Color Emoji")
		assert.NotContains(t, f.Detail, "Greek")
		assert.True(t, f.WantsNewMark())
		assert.False(t, f.NotLooked(), "all else was looked at")
		progress := Progress{Planned: 1, Done: 1}
		assert.Equal(t, VerdictNotChecked, Judge(found, progress), "nobody compared the pictures")
		assert.Equal(t, "Not checked: pictures were not compared, since another browser or other fonts draw them than the mark's. Take a new mark.", Summarise(VerdictNotChecked, found, progress))
	})
	t.Run("neither name says why", func(t *testing.T) {
		base, now, pics := drawn(then, silent)
		found, err := ComparePage(base, now, pics)
		require.NoError(t, err)
		require.Len(t, found, 1)
		assert.Contains(t, found[0].Detail, "come out otherwise")
	})
	t.Run("a mark from before this was recorded", func(t *testing.T) {
		base, now, pics := drawn(nil, same)
		found, err := ComparePage(base, now, pics)
		require.NoError(t, err)
		require.Len(t, found, 1)
		assert.Equal(t, PictureKind, found[0].Kind)
		assert.NotContains(t, found[0].Detail, "was drawn by")
	})
}
