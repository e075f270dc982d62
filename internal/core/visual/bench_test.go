package visual

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// tall is a page of 1280 × 8000 pixels with lines of something like text, the second
// with parts that differ.
func tall() (a, b *image.NRGBA) {
	a = blank(1280, 8000, paper)
	for y := 0; y < 8000; y += 28 {
		for x := 60; x < 1100; x += 7 {
			if (x*31+y*17)%5 > 1 {
				fill(a, image.Rect(x, y+6, x+4, y+18), color.NRGBA{uint8(30 + x%60), uint8(40 + y%50), 50, 255})
			}
		}
	}
	b = clone(a)
	for y := 500; y < 8000; y += 1000 {
		fill(b, image.Rect(200, y, 800, y+90), rust)
	}
	return a, b
}

// BenchmarkTallPair reads and compares two pictures of 1280 × 8000 pixels, as a check
// does, and says how that relates to npm's odiff-bin on the same files in the same run.
func BenchmarkTallPair(b *testing.B) {
	one, two := tall()
	dir := b.TempDir()
	var raw [2][]byte
	for i, m := range []*image.NRGBA{one, two} {
		var buf bytes.Buffer
		require.NoError(b, (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&buf, m))
		raw[i] = buf.Bytes()
		require.NoError(b, os.WriteFile(filepath.Join(dir, string(rune('a'+i))+".png"), raw[i], 0o600))
	}
	odiff, err := filepath.Abs("../../../web/node_modules/@odiff/linux-x64/odiff")
	require.NoError(b, err)
	if _, err := os.Stat(odiff); err != nil {
		b.Skip("the binary of npm's odiff-bin is not installed")
	}
	var theirs time.Duration
	const runs = 3
	for range runs {
		began := time.Now()
		// It ends with a code of its own when the pictures differ.
		_ = exec.Command(odiff, "--threshold=0.04", "--antialiasing", filepath.Join(dir, "a.png"), filepath.Join(dir, "b.png")).Run()
		theirs += time.Since(began)
	}
	theirs /= runs
	for b.Loop() {
		decoded := make(chan *image.NRGBA, 1)
		go func() {
			m, err := Decode(raw[0])
			if err != nil {
				panic(err)
			}
			decoded <- m
		}()
		q, err := Decode(raw[1])
		require.NoError(b, err)
		if Compare(<-decoded, q, Options{}).Changed == 0 {
			b.Fatal("they differ")
		}
	}
	ours := b.Elapsed() / time.Duration(b.N)
	b.ReportMetric(float64(ours)/float64(theirs), "×odiff")
	b.ReportMetric(theirs.Seconds()*1000, "odiff-ms")
}
