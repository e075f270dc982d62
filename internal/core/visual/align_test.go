package visual

import (
	"image"
	"image/color"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// stacked puts blocks of rows one below the other. A block's name is the seed of its content,
// so that the same name is drawn the same way at every place; "" is blank paper.
func stacked(names string) *image.NRGBA {
	const wide, high = 160, 40
	m := blank(wide, high*len(names), paper)
	for i, name := range names {
		if name == ' ' {
			continue
		}
		r := rand.New(rand.NewPCG(uint64(name), 1))
		for y := 4; y < high-4; y++ {
			fill(m, image.Rect(20, i*high+y, 40+r.IntN(80), i*high+y+1), color.NRGBA{uint8(r.IntN(200)), uint8(r.IntN(200)), uint8(r.IntN(200)), 255})
		}
	}
	return m
}

func happened(r Result) map[Happened]int {
	out := map[Happened]int{}
	for _, region := range r.Regions {
		out[region.Happened]++
	}
	return out
}

func TestEveryBlockThatCameOrWentIsToldAloneAndTheRestOnlyMoved(t *testing.T) {
	r := Compare(stacked("abcdef"), stacked("abXcdeYf"), Options{})
	assert.Equal(t, map[Happened]int{Came: 2}, happened(r), "two notices came in")
	assert.Equal(t, []int{84, 244}, []int{r.Regions[0].Y, r.Regions[1].Y})
	assert.InDelta(t, 80, r.Regions[0].Was, 4, "where it came in, in the first picture")
	assert.Equal(t, 80, r.Grown)

	r = Compare(stacked("abcdef"), stacked("acdf"), Options{})
	assert.Equal(t, map[Happened]int{Went: 2}, happened(r))
	for i, was := range []int{40, 160} {
		assert.InDelta(t, was, r.Regions[i].Before().Min.Y, 4, "where it was, but for blank rows")
		assert.Equal(t, 40, r.Regions[i].Before().Dy())
	}

	r = Compare(stacked("abcdef"), stacked("Xabdef"), Options{})
	assert.Equal(t, map[Happened]int{Came: 1, Went: 1}, happened(r), "the page is as tall as before")
	assert.Zero(t, r.Grown)
}

func TestBlocksThatChangedPlacesAreOneFinding(t *testing.T) {
	r := Compare(stacked("abcdefgh"), stacked("acdefbgh"), Options{})
	require.Len(t, r.Regions, 1, "not one that came and one that went: %+v", r.Regions)
	assert.Equal(t, Moved, r.Regions[0].Happened)
	assert.Equal(t, 40, r.Regions[0].Was/40*40)
	assert.Equal(t, 200, r.Regions[0].Y/40*40)
}

func TestARedrawnPartBelowABlockThatCameInIsToldAsRedrawn(t *testing.T) {
	b := stacked("aXbcd")
	fill(b, image.Rect(100, 175, 120, 185), rust)
	r := Compare(stacked("abcd"), b, Options{})
	assert.Equal(t, map[Happened]int{Came: 1, Redrawn: 1}, happened(r))
	for _, g := range r.Regions {
		if g.Happened == Redrawn {
			assert.Equal(t, 175, g.Y)
			assert.Equal(t, image.Rect(100, 135, 120, 145), g.Before(), "it was forty rows further up")
			assert.Equal(t, 200, g.Changed)
		}
	}
}

func TestTwoMaskedPartsMayGrowAtOnce(t *testing.T) {
	r := Compare(stacked("abcdef"), stacked("abXcdeYf"), Options{MaskB: []image.Rectangle{image.Rect(0, 75, 160, 125), image.Rect(0, 235, 160, 285)}})
	assert.Zero(t, r.Changed, "%+v", r.Regions)
	assert.Empty(t, r.Regions)
}

// Whatever comes, goes or changes places: rows are laid over each other at most once and, but
// for what changed places, in order; equal pictures have no regions, and the number of rows is
// accounted for.
func TestAlignmentAccountsForEveryRow(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		letters := rapid.StringOfN(rapid.RuneFrom([]rune("abcd ")), 1, 9, -1)
		a, b := stacked(letters.Draw(t, "first")), stacked(letters.Draw(t, "second"))
		under, blocks := align(a, b, nil)
		last, laid := -1, 0
		for _, ya := range under {
			if ya < 0 {
				continue
			}
			laid++
			if ya <= last {
				t.Fatalf("row %d is laid after row %d", ya, last)
			}
			last = ya
		}
		came, went := 0, 0
		for _, bl := range blocks {
			came += bl.Came
			if !bl.moved || bl.Came == 0 {
				went += bl.Went
			}
		}
		if laid+came != b.Rect.Dy() || laid+went != a.Rect.Dy() {
			t.Fatalf("%d rows laid, %d came, %d went, of %d and %d", laid, came, went, a.Rect.Dy(), b.Rect.Dy())
		}
		r := Compare(a, b, Options{})
		if same := string(a.Pix) == string(b.Pix); same != (len(r.Regions) == 0) {
			t.Fatalf("the same: %v, regions: %v", same, r.Regions)
		}
	})
}
