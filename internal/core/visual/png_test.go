package visual

import (
	"bytes"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"testing"

	"github.com/HugoSmits86/nativewebp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// general is what the standard library's image/png reads.
func general(t require.TestingT, raw []byte) *image.NRGBA {
	m, err := png.Decode(bytes.NewReader(raw))
	require.NoError(t, err)
	out := image.NewNRGBA(m.Bounds())
	draw.Draw(out, out.Rect, m, m.Bounds().Min, draw.Src)
	return out
}

func TestPicturesAreReadAsTheGeneralReaderReadsThem(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		w, h := rapid.IntRange(1, 40).Draw(rt, "width"), rapid.IntRange(1, 40).Draw(rt, "height")
		opaque := rapid.Bool().Draw(rt, "opaque")
		m := image.NewNRGBA(image.Rect(0, 0, w, h))
		base := rapid.SliceOfN(rapid.Byte(), 4, 4).Draw(rt, "base")
		for i := range w * h {
			for c := range 4 {
				// Slopes and noise make the writer choose different filters.
				m.Pix[4*i+c] = base[c] + uint8(i*(c+1)%w) + uint8(i/w)
			}
			if opaque {
				m.Pix[4*i+3] = 255
			} else {
				m.Pix[4*i+3] |= 1
			}
		}
		level := rapid.SampledFrom([]png.CompressionLevel{png.NoCompression, png.BestSpeed, png.DefaultCompression, png.BestCompression}).Draw(rt, "level")
		var raw bytes.Buffer
		require.NoError(rt, (&png.Encoder{CompressionLevel: level}).Encode(&raw, m))
		fast := decodeScreen(raw.Bytes())
		require.NotNil(rt, fast, "this form is a browser's")
		assert.Equal(rt, m.Pix, fast.Pix)
		assert.Equal(rt, m.Rect, fast.Rect)
		if opaque {
			assert.Equal(rt, general(rt, raw.Bytes()).Pix, fast.Pix)
		}
	})
}

func TestOtherFormsAndDamageAreLeftToTheGeneralReader(t *testing.T) {
	encode := func(m image.Image) []byte {
		var b bytes.Buffer
		require.NoError(t, png.Encode(&b, m))
		return b.Bytes()
	}
	grey := image.NewGray(image.Rect(0, 0, 3, 3))
	grey.SetGray(1, 1, color.Gray{200})
	few := image.NewPaletted(image.Rect(0, 0, 3, 3), color.Palette{color.Black, color.White})
	for name, m := range map[string]image.Image{"grey": grey, "a palette": few, "sixteen bits": image.NewNRGBA64(image.Rect(0, 0, 3, 3))} {
		raw := encode(m)
		assert.Nil(t, decodeScreen(raw), name)
		got, err := Decode(raw)
		require.NoError(t, err, name)
		assert.Equal(t, general(t, raw).Pix, got.Pix, name)
	}
	whole := encode(blank(20, 20, paper))
	for at := range whole {
		hurt := bytes.Clone(whole)
		hurt[at] ^= 0x40
		fast := decodeScreen(hurt)
		if fast != nil {
			assert.Equal(t, blank(20, 20, paper).Pix, fast.Pix, "byte %d", at)
		}
		assert.Nil(t, decodeScreen(whole[:at]), "cut at %d", at)
		_, err := Decode(whole[:at])
		assert.Error(t, err, "cut at %d", at)
	}
}

// WebP's lossless form (RFC 9649, section 3) keeps every pixel: written by a general
// library, read by Decode.
func TestALosslessWebPPictureHasTheSamePixels(t *testing.T) {
	m := image.NewNRGBA(image.Rect(0, 0, 37, 23))
	for i := range m.Pix {
		m.Pix[i] = byte(i * i >> 3)
		if i%4 == 3 {
			m.Pix[i] = 255
		}
	}
	var raw bytes.Buffer
	require.NoError(t, nativewebp.Encode(&raw, m, nil))
	got, err := Decode(raw.Bytes())
	require.NoError(t, err)
	require.Equal(t, m.Pix, got.Pix)
	_, err = Decode(raw.Bytes()[:20])
	require.ErrorContains(t, err, "read a picture")
}
