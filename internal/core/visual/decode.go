package visual

import (
	"bytes"
	"fmt"
	"image"
	"image/draw"
	"image/png"

	"golang.org/x/image/webp"
)

// largest is the number of pixels above which a picture is refused, so that a hostile
// page cannot make us take unbounded memory.
const largest = 100 << 20

// Decode reads a PNG or a lossless WebP picture as pixels. It fails when the bytes are
// none, or more than 100 Mi pixels.
func Decode(raw []byte) (*image.NRGBA, error) {
	if m := decodeScreen(raw); m != nil {
		return m, nil
	}
	config, decode := png.DecodeConfig, png.Decode
	if bytes.HasPrefix(raw, []byte("RIFF")) {
		config, decode = webp.DecodeConfig, webp.Decode
	}
	cfg, err := config(bytes.NewReader(raw))
	if err != nil {
		return nil, fmt.Errorf("read a picture: %w", err)
	}
	if cfg.Width*cfg.Height > largest {
		return nil, fmt.Errorf("read a picture: %d × %d pixels are too many", cfg.Width, cfg.Height)
	}
	m, err := decode(bytes.NewReader(raw))
	if err != nil {
		return nil, fmt.Errorf("read a picture: %w", err)
	}
	switch p := m.(type) {
	case *image.NRGBA:
		return p, nil
	case *image.RGBA:
		// An opaque picture has the same bytes in both forms.
		if p.Opaque() {
			return &image.NRGBA{Pix: p.Pix, Stride: p.Stride, Rect: p.Rect}, nil
		}
	}
	out := image.NewNRGBA(m.Bounds())
	draw.Draw(out, out.Rect, m, m.Bounds().Min, draw.Src)
	return out, nil
}
