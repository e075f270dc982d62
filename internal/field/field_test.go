package field_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	corefield "tidemarker/internal/core/field"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/site"
	"tidemarker/internal/field"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

func TestMain(m *testing.M) { testdb.Main(m) }

const told = `{"p":"/kits","d":"phone","m":{"LCP":1830.5,"CLS":0.02,"INP":88,"FCP":900,"TTFB":210}}`

// BenchmarkBeacon takes beacons from 64 browsers at once, each kept before it is answered, and says how that relates to a bare
// loop that inserts such rows one after the other on the same connections.
func BenchmarkBeacon(b *testing.B) {
	st, _ := testdb.New(b)
	row, err := st.SaveSite(b.Context(), site.Site{Name: "Moss", Environments: []site.Environment{{Name: "staging", URL: "https://moss.example"}}, Pages: []site.Page{{Path: "/kits", Class: "listing"}}}, false, "bench")
	require.NoError(b, err)
	d := field.Desk{Store: st}
	require.NoError(b, d.Begin(b.Context(), row.ID, 1, "bench"))
	source, err := st.FieldSource(b.Context(), row.ID)
	require.NoError(b, err)
	const many, at = 6000, 64
	var ours, bare time.Duration
	all := func(one func() error) time.Duration {
		began := time.Now()
		var wg sync.WaitGroup
		for range at {
			wg.Go(func() {
				for range many / at {
					if err := one(); err != nil {
						b.Error(err)
					}
				}
			})
		}
		wg.Wait()
		return time.Since(began)
	}
	n := 0
	for b.Loop() {
		n++
		ours += all(func() error { return d.Take(b.Context(), source.Key, "https://moss.example", []byte(told)) })
		bare += all(func() error {
			_, err := st.Pool.Exec(b.Context(), `INSERT INTO visits (at, site_id, class, device, lcp, inp, cls, fcp, ttfb) VALUES (now(), $1, 'listing', 'phone', 380, 227, 152, 344, 271)`, row.ID)
			return err
		})
	}
	var kept int
	require.NoError(b, st.Pool.QueryRow(b.Context(), `SELECT count(*) FROM visits`).Scan(&kept))
	require.Equal(b, 2*n*(many/at)*at, kept, "none is lost")
	b.ReportMetric(float64(n*(many/at)*at)/ours.Seconds(), "beacons/s")
	b.ReportMetric(float64(ours)/float64(bare), "×bare-inserts")
}

// BenchmarkChart asks for charts of 50 sites with a year of field data each.
func BenchmarkChart(b *testing.B) {
	st, _ := testdb.New(b)
	r := rand.New(rand.NewPCG(1, 1))
	today := time.Now().UTC().Truncate(24 * time.Hour)
	classes := []string{"home", "listing", "item", "article", "cart", "form"}
	var sites []int64
	for i := range 50 {
		row, err := st.SaveSite(b.Context(), site.Site{Name: fmt.Sprintf("Moss %d", i), Environments: []site.Environment{{Name: "staging", URL: fmt.Sprintf("https://moss%d.example", i)}}}, false, "bench")
		require.NoError(b, err)
		sites = append(sites, row.ID)
		var days []store.FieldDay
		for day := range 365 {
			for _, class := range classes {
				for _, device := range []string{site.Desktop, site.Phone} {
					for _, m := range corefield.Order {
						h := corefield.Histogram{}
						for range 40 {
							h[corefield.Step(m, 1500*math.Exp(0.5*r.NormFloat64()))]++
						}
						days = append(days, store.FieldDay{SiteID: row.ID, Day: today.AddDate(0, 0, -day), Class: class, Device: device, Metric: m, Source: "beacon", Visits: 40, Steps: h})
					}
				}
			}
		}
		require.NoError(b, st.SaveFieldDays(b.Context(), days))
	}
	d := field.Desk{Store: st}
	var took []time.Duration
	for b.Loop() {
		for range 40 {
			ask := field.Asked{Metric: corefield.Order[r.IntN(len(corefield.Order))], Device: []string{site.Desktop, site.Phone}[r.IntN(2)], Days: 365}
			if r.IntN(2) == 0 {
				ask.Class = classes[r.IntN(len(classes))]
			}
			began := time.Now()
			v, err := d.View(b.Context(), sites[r.IntN(len(sites))], ask, time.Now())
			require.NoError(b, err)
			require.Len(b, v.Days, 365)
			took = append(took, time.Since(began))
		}
	}
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, "median-ms/chart")
	b.ReportMetric(float64(took[len(took)*99/100].Microseconds())/1000, "p99-ms/chart")
}

// TestBeaconsAreKeptWhateverComesAtOnce: many at once are all kept, and a key that nobody has costs nothing.
func TestBeaconsAreKeptWhateverComesAtOnce(t *testing.T) {
	st, _ := testdb.New(t)
	row, err := st.SaveSite(t.Context(), site.Site{Name: "Moss", Environments: []site.Environment{{Name: "staging", URL: "https://moss.example"}}, Pages: []site.Page{{Path: "/kits", Class: "listing"}}}, false, "test")
	require.NoError(t, err)
	d := field.Desk{Store: st}
	require.NoError(t, d.Begin(t.Context(), row.ID, 1, "test"))
	source, err := st.FieldSource(t.Context(), row.ID)
	require.NoError(t, err)
	var wg sync.WaitGroup
	for range 400 {
		wg.Go(func() {
			if err := d.Take(t.Context(), source.Key, "https://moss.example", []byte(told)); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	require.Error(t, d.Take(t.Context(), "nobodys", "", []byte(told)))
	made := field.Desk{Store: st}
	busy := 0
	for i := range 150 {
		var no *field.Refused
		require.ErrorAs(t, made.Take(t.Context(), fmt.Sprintf("made-up-%d", i), "", []byte(told)), &no)
		if no.Busy {
			busy++
		}
	}
	require.Positive(t, busy, "keys that are made up do not reach the database without end")
	flooded := field.Desk{Store: st, PerSecond: 1}
	var refused *field.Refused
	for range 3 {
		err = flooded.Take(t.Context(), source.Key, "https://elsewhere.example", []byte(told))
		require.ErrorAs(t, err, &refused, "what is not the site's own costs it nothing")
		require.False(t, refused.Busy)
	}
	for range 2 {
		require.NoError(t, flooded.Take(t.Context(), source.Key, "https://moss.example", []byte(told)))
	}
	require.ErrorAs(t, flooded.Take(t.Context(), source.Key, "https://moss.example", []byte(told)), &refused)
	require.True(t, refused.Busy)
	require.NoError(t, d.Tidy(t.Context(), time.Now()))
	require.NoError(t, d.Tidy(t.Context(), time.Now()), "twice comes to the same")
	days, err := st.FieldDays(t.Context(), row.ID, measure.Largest, site.Phone, time.Now().AddDate(0, 0, -2))
	require.NoError(t, err)
	visits := 0
	for _, d := range days {
		visits += d.Visits
	}
	require.Equal(t, 402, visits)

	// What is old is dropped, page views first.
	require.NoError(t, d.Tidy(t.Context(), time.Now().AddDate(0, 0, 5)))
	var left int
	require.NoError(t, st.Pool.QueryRow(t.Context(), `SELECT count(*) FROM visits`).Scan(&left))
	require.Zero(t, left)
	days, err = st.FieldDays(t.Context(), row.ID, measure.Largest, site.Phone, time.Now().AddDate(0, 0, -2))
	require.NoError(t, err)
	require.NotEmpty(t, days, "what a day came to stays")
	require.NoError(t, d.Tidy(t.Context(), time.Now().AddDate(3, 0, 0)))
	days, err = st.FieldDays(t.Context(), row.ID, measure.Largest, site.Phone, time.Now().AddDate(0, 0, -2))
	require.NoError(t, err)
	require.Empty(t, days)
}
