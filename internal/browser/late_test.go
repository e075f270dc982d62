package browser

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"image"
	"image/draw"
	"image/png"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/site"
)

// missedPixels is how many pixels may differ between a look and the page as somebody sees it who scrolls through it in real time: a
// twentieth of one of the pages' pictures (240 × 160).
const missedPixels = 240 * 160 / 20

// TestALookSeesWhatSomebodySeesWhoScrolls compares looks at pages that load late, each in its own way, with the same pages scrolled
// through in real time and pictured place by place. In short each is looked at once, on one device; TIDEMARKER_LATE=all looks
// five times on both.
func TestALookSeesWhatSomebodySeesWhoScrolls(t *testing.T) {
	require.GreaterOrEqual(t, len(lateWays), 40)
	env, all := lateSite(t), os.Getenv("TIDEMARKER_LATE") == "all"
	for i, way := range lateWays {
		for d, device := range []string{site.Desktop, site.Phone} {
			if !all && (i%4 != 0 || i/4%2 != d) {
				continue
			}
			t.Run(way.name+"/"+device, func(t *testing.T) {
				t.Parallel()
				path := fmt.Sprintf("/%d/", i)
				want := scrolledInRealTime(t, env, path, device)
				looks := 1
				if all {
					looks = 5
				}
				for range looks {
					got := pictured(t, env, path, device)
					differ := differing(want, got)
					if !assert.LessOrEqual(t, differ, missedPixels, "of %v and %v", want.Bounds().Size(), got.Bounds().Size()) && os.Getenv("TIDEMARKER_KEEP") != "" {
						save(t, fmt.Sprintf("%d-%s-want.png", i, device), want)
						save(t, fmt.Sprintf("%d-%s-got.png", i, device), got)
					}
				}
			})
		}
	}
}

func save(t *testing.T, name string, m image.Image) {
	var raw bytes.Buffer
	require.NoError(t, png.Encode(&raw, m))
	require.NoError(t, os.WriteFile(filepath.Join(os.Getenv("TIDEMARKER_KEEP"), name), raw.Bytes(), 0o600))
}

// pictured is the picture of a look.
func pictured(t *testing.T, env site.Environment, path, device string) *image.NRGBA {
	t.Helper()
	var mu sync.Mutex
	var raw []byte
	keep := func(_ context.Context, kind string, b []byte) (string, error) {
		mu.Lock()
		defer mu.Unlock()
		raw = b
		return digest(b), nil
	}
	l, err := shared.Look(t.Context(), env, site.PageTask{Page: site.Page{Path: path, Class: "other"}, Persona: "visitor", Device: device}, State{}, httpcache.NewReader(httpcache.Signal{}), keep, nil)
	require.NoError(t, err)
	require.Empty(t, l.Missing)
	require.Equal(t, 1, l.Attempts, "%v", l.Earlier)
	return decoded(t, raw)
}

func decoded(t *testing.T, raw []byte) *image.NRGBA {
	t.Helper()
	m, err := png.Decode(bytes.NewReader(raw))
	require.NoError(t, err)
	out := image.NewNRGBA(m.Bounds())
	draw.Draw(out, out.Bounds(), m, image.Point{}, draw.Src)
	return out
}

// differing is how many pixels of two pictures differ visibly; rows that only one has differ.
func differing(a, b *image.NRGBA) (n int) {
	w, h := min(a.Rect.Dx(), b.Rect.Dx()), min(a.Rect.Dy(), b.Rect.Dy())
	n = a.Rect.Dx()*a.Rect.Dy() + b.Rect.Dx()*b.Rect.Dy() - 2*w*h
	for y := range h {
		for x := range w {
			p, q := a.NRGBAAt(x, y), b.NRGBAAt(x, y)
			for _, d := range []int{int(p.R) - int(q.R), int(p.G) - int(q.G), int(p.B) - int(q.B)} {
				if d > 16 || d < -16 {
					n++
					break
				}
			}
		}
	}
	return n
}

// scrolledInRealTime opens a page with its clock running, scrolls through it bit by bit, down and once more from the top, and puts together what
// is visible at each place on the second way. It uses nothing of what a look does.
func scrolledInRealTime(t *testing.T, env site.Environment, path, device string) *image.NRGBA {
	t.Helper()
	release, err := shared.acquire(t.Context())
	require.NoError(t, err)
	defer release()
	tab, err := shared.open(t.Context(), env, device, State{})
	require.NoError(t, err)
	defer tab.close()
	require.NoError(t, tab.navigate(path))
	time.Sleep(1200 * time.Millisecond) // somebody reads the top
	type place struct{ Y, Height, Width, View int }
	scroll := func(y int) (at place) {
		res, err := tab.page.Timeout(20 * time.Second).Evaluate(rod.Eval(`async (y) => {
			const wait = (ms) => new Promise((done) => setTimeout(done, ms));
			for (let at = scrollY; at < y; at += 90) { scrollTo(0, Math.min(y, at + 90)); await wait(25); }
			scrollTo(0, y);
			await wait(300);
			return { y: scrollY, height: Math.max(document.documentElement.scrollHeight, innerHeight), width: innerWidth, view: innerHeight };
		}`, y).ByPromise())
		require.NoError(t, err)
		require.NoError(t, tab.quiet(10*time.Second))
		raw, err := res.Value.MarshalJSON()
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(raw, &at))
		return at
	}
	for at := scroll(0); at.Y+at.View < at.Height; {
		at = scroll(at.Y + at.View/2)
	}
	at := scroll(0)
	out := image.NewNRGBA(image.Rect(0, 0, at.Width, at.Height))
	for {
		shot, err := tab.tile(nil)
		require.NoError(t, err)
		draw.Draw(out, image.Rect(0, at.Y, at.Width, at.Y+at.View), decoded(t, shot), image.Point{}, draw.Src)
		if at.Y+at.View >= at.Height {
			return out
		}
		at = scroll(at.Y + at.View)
	}
}

// The page with many pictures, four tabs at once: nothing of it waits for itself.
func TestPicturesBlockNothing(t *testing.T) {
	many, err := Start(Options{Tabs: 4})
	require.NoError(t, err)
	defer many.Close()
	for _, delay := range []time.Duration{0, 200 * time.Millisecond} {
		env := manyPictures(t, delay)
		var looking sync.WaitGroup
		looks := make([]evidence.PageLook, 8)
		for i := range looks {
			looking.Go(func() {
				looks[i], err = many.Look(t.Context(), env, site.PageTask{Page: site.Page{Path: "/", Class: "other"}, Persona: "visitor", Device: site.Desktop}, State{}, httpcache.NewReader(httpcache.Signal{}), keepNothing, nil)
				assert.NoError(t, err)
			})
		}
		looking.Wait()
		for _, l := range looks {
			require.Empty(t, l.Missing)
			assert.Equal(t, 1, l.Attempts, "%v", l.Earlier)
			assert.Len(t, l.Requests, 37)
			for _, r := range l.Requests {
				assert.False(t, r.Broken(), "%v", r)
			}
			assert.Equal(t, looks[0].Picture, l.Picture)
			assert.Positive(t, len(l.Shifts), "pictures without dimensions move the page all the same")
			assert.Less(t, l.Spent.Waiting, 2500.0, "what holds pictures back holds nothing else up: %+v", l.Spent)
		}
	}
}

// Busy processors make a look slower and change nothing of what it sees. In short some looks; TIDEMARKER_LATE=all makes a hundred of each.
func TestABusyMachineSeesTheSame(t *testing.T) {
	n := 8
	if os.Getenv("TIDEMARKER_LATE") == "all" {
		n = 100
	}
	env := lateSite(t)
	seen := func(i int) string {
		way := i * 7 % len(lateWays)
		l, err := shared.Look(t.Context(), env, site.PageTask{Page: site.Page{Path: fmt.Sprintf("/%d/", way), Class: "other"}, Persona: "visitor", Device: []string{site.Desktop, site.Phone}[i%2], Clock: time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)},
			State{}, httpcache.NewReader(httpcache.Signal{}), keepNothing, nil)
		require.NoError(t, err)
		require.Empty(t, l.Missing)
		require.Equal(t, 1, l.Attempts, "%v", l.Earlier)
		raw, err := json.Marshal([]any{l.Outline, l.Lines, l.Picture})
		require.NoError(t, err)
		return digest(raw)
	}
	idle := make([]string, n)
	for i := range idle {
		idle[i] = seen(i)
	}
	ctx, stop := context.WithCancel(t.Context())
	var busy sync.WaitGroup
	for range 2 * runtime.NumCPU() {
		busy.Go(func() {
			for sum := [32]byte{}; ctx.Err() == nil; sum = sha256.Sum256(sum[:]) {
			}
		})
	}
	defer busy.Wait()
	defer stop()
	for i := range idle {
		assert.Equal(t, idle[i], seen(i), lateWays[i*7%len(lateWays)].name)
	}
}

// BenchmarkLookAtManyPictures looks at the page with 30 pictures, four tabs at once, with a near server and with one that answers after 200 ms:
// 20 looks each. It reports the median, the 95th percentile over the median, and where the time went in the median look.
func BenchmarkLookAtManyPictures(bench *testing.B) {
	many, err := Start(Options{Tabs: 4})
	require.NoError(bench, err)
	defer many.Close()
	for _, delay := range []time.Duration{0, 200 * time.Millisecond} {
		bench.Run(delay.String(), func(bench *testing.B) {
			env := manyPictures(bench, delay)
			for bench.Loop() {
				var mu sync.Mutex
				var took []time.Duration
				var spent []evidence.Spent
				var looking sync.WaitGroup
				for range 4 {
					looking.Go(func() {
						for range 5 {
							began := time.Now()
							l, err := many.Look(context.Background(), env, site.PageTask{Page: site.Page{Path: "/", Class: "other"}, Persona: "visitor", Device: site.Desktop}, State{}, httpcache.NewReader(httpcache.Signal{}), keepNothing, nil)
							if err != nil || l.Missing != "" {
								bench.Errorf("%v %s", err, l.Missing)
							}
							mu.Lock()
							took, spent = append(took, time.Since(began)), append(spent, l.Spent)
							mu.Unlock()
						}
					})
				}
				looking.Wait()
				slices.Sort(took)
				slices.SortFunc(spent, func(a, b evidence.Spent) int { return cmp.Compare(a.Total(), b.Total()) })
				median := (took[9] + took[10]) / 2
				bench.ReportMetric(median.Seconds(), "median-s")
				bench.ReportMetric(took[18].Seconds()/median.Seconds(), "p95/median")
				bench.Logf("%+v", spent[10])
			}
		})
	}
}
