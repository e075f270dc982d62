package browser

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/vitals"
	"tidemarker/internal/standin"
)

func TestTrial(t *testing.T) {
	inst, err := standin.StartFernhollow(standin.Options{Environment: "staging", Addr: "127.0.0.1:0", Token: "x"})
	require.NoError(t, err)
	defer inst.Close()
	v, etag := inst.Layer.Settings()
	_, ok := inst.Layer.Replace(v.With(settings.Values{"images.dimensions": true}), etag)
	require.True(t, ok)
	b, err := Start(Options{Tabs: 2})
	require.NoError(t, err)
	defer b.Close()
	env := site.Environment{Name: "staging", URL: inst.URL}
	keep := func(ctx context.Context, mt string, raw []byte) (string, error) { return Digest(raw), nil }
	for range 2 {
		for _, path := range []string{"/", "/kits", "/kits/pearl-oyster-box", "/library/reading-the-first-pins"} {
			for _, d := range []string{"desktop", "phone"} {
				l, err := b.Look(context.Background(), env, site.PageTask{Page: site.Page{Path: path}, Persona: "visitor", Device: d}, State{}, keep)
				require.NoError(t, err)
				cls, _ := vitals.CumulativeLayoutShift(l.Shifts)
				t.Log(path, d, cls, l.Shifts, l.Timing.FirstDraw)
			}
		}
	}
}
