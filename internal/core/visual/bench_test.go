package visual

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// page is a page of 1280 pixels' width with lines of something like text; the second has
// parts that differ.
func page(high int) (a, b *image.NRGBA) {
	a = blank(1280, high, paper)
	for y := 0; y+18 < high; y += 28 {
		for x := 60; x < 1100; x += 7 {
			if (x*31+y*17)%5 > 1 {
				fill(a, image.Rect(x, y+6, x+4, y+18), color.NRGBA{uint8(30 + x%60), uint8(40 + y%50), 50, 255})
			}
		}
	}
	b = clone(a)
	for y := 500; y < high; y += 1000 {
		fill(b, image.Rect(200, y, 800, y+90), rust)
	}
	return a, b
}

// BenchmarkPair reads and compares two pictures as a check does, and says how long that takes
// beside other tools with the same files in the same run: npm's odiff-bin 4.5.0 and
// ImageMagick's compare as programs, with what it takes to start them, and npm's pixelmatch
// 8.0.0 with pngjs inside a Node that has warmed up. What is not installed is left out. Equal
// pictures are of the same bytes, as a browser gives them, and known to be equal by these.
func BenchmarkPair(b *testing.B) {
	for _, high := range []int{800, 8000} {
		one, two := page(high)
		for name, pair := range map[string][2]*image.NRGBA{"changed": {one, two}, "equal": {one, one}} {
			b.Run(strconv.Itoa(high)+"/"+name, func(b *testing.B) { benchPair(b, pair, name == "changed") })
		}
	}
}

func benchPair(b *testing.B, pair [2]*image.NRGBA, differ bool) {
	dir := b.TempDir()
	files := [2]string{filepath.Join(dir, "a.png"), filepath.Join(dir, "b.png")}
	for i, m := range pair {
		var buf bytes.Buffer
		require.NoError(b, (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&buf, m))
		require.NoError(b, os.WriteFile(files[i], buf.Bytes(), 0o600))
	}
	theirs := others(b, files)
	for b.Loop() {
		var raw [2][]byte
		for i, f := range files {
			var err error
			raw[i], err = os.ReadFile(f)
			require.NoError(b, err)
		}
		if bytes.Equal(raw[0], raw[1]) {
			require.False(b, differ)
			continue
		}
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
		require.Positive(b, Compare(<-decoded, q, Options{}).Changed)
	}
	ours := b.Elapsed() / time.Duration(b.N)
	fastest := time.Hour
	for name, took := range theirs {
		b.ReportMetric(took.Seconds()*1000, name+"-ms")
		fastest = min(fastest, took)
	}
	if len(theirs) > 0 {
		b.ReportMetric(float64(fastest)/float64(ours), "×faster-than-fastest")
	}
}

// others are how long other tools take for a pair, the median of five.
func others(b *testing.B, files [2]string) map[string]time.Duration {
	modules, err := filepath.Abs("../../../web/node_modules")
	require.NoError(b, err)
	out := map[string]time.Duration{}
	programs := map[string][]string{
		"odiff":       {filepath.Join(modules, "@odiff/linux-x64/odiff"), "--threshold=0.04", "--antialiasing", files[0], files[1]},
		"imagemagick": {"compare", "-metric", "AE", files[0], files[1], "null:"},
	}
	for name, command := range programs {
		if _, err := exec.LookPath(command[0]); err != nil {
			continue
		}
		var took []time.Duration
		for range 5 {
			began := time.Now()
			_ = exec.Command(command[0], command[1:]...).Run() // ends with a code of its own when they differ
			took = append(took, time.Since(began))
		}
		slices.Sort(took)
		out[name] = took[2]
	}
	if raw, err := exec.Command("node", "testdata/pixelmatch.mjs", modules, files[0], files[1], "0.1", "5").Output(); err == nil {
		if ms, err := strconv.ParseFloat(strings.TrimSpace(string(raw)), 64); err == nil {
			out["pixelmatch"] = time.Duration(ms * float64(time.Millisecond))
		}
	}
	return out
}
