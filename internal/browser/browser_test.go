package browser

import (
	"context"
	"os"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/site"
	"tidemarker/internal/standin"
)

func TestTrial(t *testing.T) {
	inst, err := standin.StartFernhollow(standin.Options{Environment: "staging", Addr: "127.0.0.1:0", Token: "x"})
	require.NoError(t, err)
	defer inst.Close()
	b, err := Start(Options{Tabs: 1})
	require.NoError(t, err)
	defer b.Close()
	env := site.Environment{Name: "staging", URL: inst.URL}
	keep := func(ctx context.Context, mt string, raw []byte) (string, error) {
		return Digest(raw), os.WriteFile("/tmp/pic-"+Digest(raw)[:8]+".png", raw, 0o644)
	}
	var wg sync.WaitGroup
	t0 := time.Now()
	for _, path := range []string{"/", "/kits", "/kits/pearl-oyster-box", "/search?q=mane"} {
		for _, d := range []string{"desktop", "phone"} {
			wg.Go(func() {
				s := time.Now()
				l, err := b.Look(context.Background(), env, site.PageTask{Page: site.Page{Path: path}, Persona: "visitor", Device: d}, State{}, keep)
				t.Log(path, d, time.Since(s), err, l.Missing, l.Attempts, l.Status, l.Served, l.Title, l.Picture, len(l.Outline), len(l.Lines), l.Errors, len(l.Requests), l.Shifts, l.Timing)
			})
		}
	}
	wg.Wait()
	t.Log("all", time.Since(t0))
	jl, err := b.Take(context.Background(), env, site.JourneyTask{Device: "phone", Journey: journey.Journey{Name: "menu", Steps: []journey.Step{
		{Go: "/"}, {Click: &journey.Target{Role: "button", Name: "Menu"}}, {Expect: &journey.Expect{Visible: &journey.Target{CSS: "nav .x, nav a"}}},
	}}}, State{}, keep)
	t.Log(jl, err)
	jl, err = b.Take(context.Background(), env, site.JourneyTask{Device: "desktop", Journey: journey.Journey{Name: "cart", Steps: []journey.Step{
		{Go: "/kits/pearl-oyster-box"}, {Click: &journey.Target{Text: "Add to basket"}}, {Expect: &journey.Expect{URL: "/cart", Count: &journey.Counted{Of: journey.Target{CSS: ".line"}, Is: 1}}},
		{Click: &journey.Target{Role: "link", Name: "To the checkout"}}, {Fill: &journey.Input{In: journey.Target{Label: "Name"}, Value: "Ada"}}, {Fill: &journey.Input{In: journey.Target{Label: "Street and town"}, Value: "Mill"}},
		{Press: "Enter"}, {Expect: &journey.Expect{Text: &journey.Containing{In: journey.Target{CSS: "main"}, Contains: "Thank you for your order"}, Status: 200}},
	}}}, State{}, keep)
	t.Log(jl, err)
}
