package visual

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func blank(w, h int, c color.NRGBA) *image.NRGBA {
	m := image.NewNRGBA(image.Rect(0, 0, w, h))
	fill(m, m.Rect, c)
	return m
}

func fill(m *image.NRGBA, r image.Rectangle, c color.NRGBA) {
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for x := r.Min.X; x < r.Max.X; x++ {
			m.SetNRGBA(x, y, c)
		}
	}
}

// disc draws a filled circle with a smoothed edge.
func disc(m *image.NRGBA, cx, cy, r float64, c color.NRGBA) {
	for y := int(cy - r - 2); y < int(cy+r+2); y++ {
		for x := int(cx - r - 2); x < int(cx+r+2); x++ {
			cover := r + 0.5 - math.Hypot(float64(x)-cx, float64(y)-cy)
			cover = math.Max(0, math.Min(1, cover))
			under := m.NRGBAAt(x, y)
			mix := func(a, b uint8) uint8 { return uint8(float64(a)*(1-cover) + float64(b)*cover + 0.5) }
			m.SetNRGBA(x, y, color.NRGBA{mix(under.R, c.R), mix(under.G, c.G), mix(under.B, c.B), 255})
		}
	}
}

var (
	paper = color.NRGBA{250, 247, 240, 255}
	ink   = color.NRGBA{30, 40, 50, 255}
	moss  = color.NRGBA{70, 110, 60, 255}
	rust  = color.NRGBA{150, 80, 40, 255}
)

// lined has a different colour in every row, as a page's content has, so that rows can
// be told apart.
func lined(w, h int) *image.NRGBA {
	m := blank(w, h, paper)
	for y := range h {
		fill(m, image.Rect(4, y, 4+y%(w-8), y+1), color.NRGBA{uint8(y * 7), uint8(y * 3), uint8(255 - y*5), 255})
	}
	return m
}

func clone(m *image.NRGBA) *image.NRGBA {
	return &image.NRGBA{Pix: bytes.Clone(m.Pix), Stride: m.Stride, Rect: m.Rect}
}

// The reference is npm's pixelmatch 8.0.0, run on the same pairs with the same
// threshold. It looks cube roots up in a table, so up to 2 % of the pixels (and 8 of
// them) may be told apart differently.
func TestChangedPixelsAgreeWithPixelmatch(t *testing.T) {
	modules, err := filepath.Abs("../../../web/node_modules")
	require.NoError(t, err)
	if _, err := os.Stat(filepath.Join(modules, "pixelmatch")); err != nil {
		t.Fatal("npm's pixelmatch is not installed: run npm ci in web")
	}
	for name, pair := range pairs() {
		t.Run(name, func(t *testing.T) {
			a, b := pair[0], pair[1]
			dir := t.TempDir()
			for i, m := range pair {
				f, err := os.Create(filepath.Join(dir, strconv.Itoa(i)+".png"))
				require.NoError(t, err)
				require.NoError(t, png.Encode(f, m))
				require.NoError(t, f.Close())
			}
			out, err := exec.Command("node", "testdata/pixelmatch.mjs", modules, filepath.Join(dir, "0.png"), filepath.Join(dir, "1.png"), "0.1").CombinedOutput()
			require.NoError(t, err, string(out))
			want, err := strconv.Atoi(strings.TrimSpace(string(out)))
			require.NoError(t, err)
			got := Compare(a, b, Options{Threshold: 0.1, NoAlign: true}).Changed
			assert.InDelta(t, want, got, math.Max(8, 0.02*float64(want)))
		})
	}
}

func pairs() map[string][2]*image.NRGBA {
	base := blank(320, 240, paper)
	fill(base, image.Rect(20, 20, 300, 60), moss)
	disc(base, 100, 140, 40, rust)
	disc(base, 220, 140, 30.4, ink)
	for i := range 12 {
		fill(base, image.Rect(20, 200+3*i, 60+17*i%200, 201+3*i), ink)
	}
	with := func(f func(*image.NRGBA)) [2]*image.NRGBA { m := clone(base); f(m); return [2]*image.NRGBA{base, m} }
	return map[string][2]*image.NRGBA{
		"a block changes colour":         with(func(m *image.NRGBA) { fill(m, image.Rect(20, 20, 300, 60), rust) }),
		"a disc moves by half a pixel":   with(func(m *image.NRGBA) { fill(m, image.Rect(180, 100, 260, 180), paper); disc(m, 220.5, 140.5, 30.4, ink) }),
		"a disc moves by ten pixels":     with(func(m *image.NRGBA) { fill(m, image.Rect(50, 90, 160, 190), paper); disc(m, 110, 140, 40, rust) }),
		"a faint tint":                   with(func(m *image.NRGBA) { fill(m, image.Rect(0, 180, 320, 240), color.NRGBA{246, 243, 236, 255}) }),
		"a clear tint":                   with(func(m *image.NRGBA) { fill(m, image.Rect(0, 180, 320, 240), color.NRGBA{200, 190, 170, 255}) }),
		"lines are gone":                 with(func(m *image.NRGBA) { fill(m, image.Rect(0, 195, 320, 240), paper) }),
		"near black in different shades": with(func(m *image.NRGBA) { fill(m, image.Rect(190, 110, 250, 170), color.NRGBA{38, 40, 60, 255}) }),
		"a gradient is turned": with(func(m *image.NRGBA) {
			for x := range 280 {
				fill(m, image.Rect(20+x, 20, 21+x, 60), color.NRGBA{uint8(x * 9 / 10), 110, uint8(250 - x*8/10), 255})
			}
		}),
		"a ring is drawn around a disc": with(func(m *image.NRGBA) { disc(m, 220, 140, 34, moss); disc(m, 220, 140, 30.4, ink) }),
		"a thin line is one pixel lower": with(func(m *image.NRGBA) {
			fill(m, image.Rect(20, 200, 260, 201), paper)
			fill(m, image.Rect(20, 201, 60, 202), moss)
		}),
		"one pixel": with(func(m *image.NRGBA) { m.SetNRGBA(5, 5, ink) }),
		"noise": with(func(m *image.NRGBA) {
			for i := range 4000 {
				x, y := (i*7919)%320, (i*104729)%240
				c := m.NRGBAAt(x, y)
				m.SetNRGBA(x, y, color.NRGBA{c.R ^ uint8(i), c.G ^ uint8(i*3), c.B, 255})
			}
		}),
	}
}

func TestBlackAgainstWhiteIsOne(t *testing.T) {
	assert.InDelta(t, 1, Distance(0, 0, 0, 255, 255, 255), 1e-3)
	assert.Zero(t, Distance(10, 20, 30, 10, 20, 30))
	// The default tells a white page from a light grey one, and not from the next shade.
	assert.Greater(t, Distance(255, 255, 255, 240, 240, 240), DefaultThreshold)
	assert.Less(t, Distance(255, 255, 255, 253, 253, 253), DefaultThreshold)
}

func TestEqualPicturesHaveNothingToCompare(t *testing.T) {
	m := lined(80, 60)
	r := Compare(m, clone(m), Options{})
	assert.Zero(t, r.Changed+r.Grown)
	assert.Empty(t, r.Regions)
}

func TestChangesThatLieTogetherAreOneRegion(t *testing.T) {
	a := blank(400, 300, paper)
	b := clone(a)
	fill(b, image.Rect(20, 30, 60, 50), ink)
	fill(b, image.Rect(66, 30, 90, 50), ink) // a gap of six pixels
	fill(b, image.Rect(300, 200, 310, 210), rust)
	r := Compare(a, b, Options{})
	require.Len(t, r.Regions, 2)
	assert.Equal(t, Region{X: 20, Y: 30, Width: 70, Height: 20, Changed: 40*20 + 24*20, Was: 30}, r.Regions[0])
	assert.Equal(t, image.Rect(300, 200, 310, 210), r.Regions[1].Rect())
}

func TestMasksOnEitherPictureAreLeftOut(t *testing.T) {
	a := blank(100, 100, paper)
	b := clone(a)
	fill(b, image.Rect(10, 10, 30, 30), ink)
	for name, opt := range map[string]Options{
		"in the first":  {MaskA: []image.Rectangle{image.Rect(8, 8, 32, 32)}},
		"in the second": {MaskB: []image.Rectangle{image.Rect(8, 8, 32, 32)}},
	} {
		t.Run(name, func(t *testing.T) { assert.Zero(t, Compare(a, b, opt).Changed) })
	}
	half := Compare(a, b, Options{MaskB: []image.Rectangle{image.Rect(0, 0, 20, 100)}})
	assert.Equal(t, 10*20, half.Changed)
}

func TestABannerOnTopDoesNotMakeThePageBelowDifferent(t *testing.T) {
	a := lined(120, 200)
	b := blank(120, 230, paper)
	fill(b, image.Rect(0, 0, 120, 30), rust)
	copy(b.Pix[30*b.Stride:], a.Pix)
	r := Compare(a, b, Options{})
	assert.Equal(t, 30, r.Grown)
	assert.Equal(t, 120*30, r.Changed, "only the banner")
	require.Len(t, r.Regions, 1)
	assert.Equal(t, image.Rect(0, 0, 120, 30), r.Regions[0].Rect())
	// And the other way: the banner is gone.
	r = Compare(b, a, Options{})
	assert.Equal(t, -30, r.Grown)
	assert.Equal(t, 120, r.Changed, "the seam is marked")
	require.Len(t, r.Regions, 1)
	assert.Equal(t, 0, r.Regions[0].Y)
	// Straight, everything below would differ.
	assert.Greater(t, Compare(a, b, Options{NoAlign: true}).Changed, 120*30*2)
}

func TestAMaskedPartMayGrow(t *testing.T) {
	a := lined(120, 200)
	b := blank(120, 220, paper)
	copy(b.Pix, a.Pix[:80*a.Stride])
	fill(b, image.Rect(0, 80, 120, 100), rust)
	copy(b.Pix[100*b.Stride:], a.Pix[80*a.Stride:])
	r := Compare(a, b, Options{MaskB: []image.Rectangle{image.Rect(0, 70, 120, 110)}})
	assert.Equal(t, 20, r.Grown)
	assert.Zero(t, r.Changed)
	assert.Zero(t, Compare(b, a, Options{MaskA: []image.Rectangle{image.Rect(0, 70, 120, 110)}}).Changed, "and shrink")
}

func TestDecodeRefusesWhatIsNoPicture(t *testing.T) {
	_, err := Decode([]byte("<html>"))
	assert.ErrorContains(t, err, "read a picture")
	var huge bytes.Buffer
	require.NoError(t, png.Encode(&huge, image.NewGray(image.Rect(0, 0, 1, 1))))
	raw := huge.Bytes()
	copy(raw[16:], []byte{0, 1, 0, 0, 0, 1, 0, 0}) // says that it is 65,536 × 65,536
	_, err = Decode(raw)
	assert.Error(t, err)
	var small bytes.Buffer
	require.NoError(t, png.Encode(&small, lined(20, 10)))
	m, err := Decode(small.Bytes())
	require.NoError(t, err)
	assert.Equal(t, lined(20, 10).Pix, m.Pix)
}

func TestDrawMarksWhatChanged(t *testing.T) {
	a := blank(40, 40, paper)
	b := clone(a)
	fill(b, image.Rect(10, 10, 20, 20), ink)
	accent := color.NRGBA{176, 30, 90, 255}
	d := Draw(b, Compare(a, b, Options{}), accent)
	assert.Equal(t, accent, d.NRGBAAt(15, 15))
	c := d.NRGBAAt(30, 30)
	assert.True(t, c.R == c.G && c.G == c.B, "the rest is faded")
}
