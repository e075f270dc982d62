package visual

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"testing"
)

// FuzzDecode reads pictures as a hostile page could have them: what is no picture is said, and what is one equals itself.
func FuzzDecode(f *testing.F) {
	for _, m := range []image.Image{image.NewNRGBA(image.Rect(0, 0, 3, 2)), image.NewPaletted(image.Rect(0, 0, 9, 9), color.Palette{color.Black, color.White}), image.NewGray16(image.Rect(0, 0, 2, 5))} {
		var raw bytes.Buffer
		if err := png.Encode(&raw, m); err != nil {
			f.Fatal(err)
		}
		f.Add(raw.Bytes())
	}
	f.Add([]byte("RIFF\x1a\x00\x00\x00WEBPVP8L\x0d\x00\x00\x00\x2f\x00\x00\x00\x10\x07\x10\x11\x11\x88\x88\xfe\x07\x00"))
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, raw []byte) {
		m, err := Decode(raw)
		if err != nil {
			return
		}
		if b := m.Bounds(); b.Dx()*b.Dy() > largest || len(m.Pix) < 4*b.Dx()*b.Dy() {
			t.Fatalf("%v has %d bytes", b, len(m.Pix))
		}
		if m.Bounds().Dx()*m.Bounds().Dy() < 1<<16 && len(Compare(m, m, Options{}).Regions) > 0 {
			t.Fatal("a picture differs from itself")
		}
	})
}
