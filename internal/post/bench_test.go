package post_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/notice"
	"tidemarker/internal/core/people"
	"tidemarker/internal/store"
)

// BenchmarkStorm: 200 sites, 20 people who each chose something for every one of them, and 1,000 findings at once, on two
// processors. Each person gets one message; the figure is how long handing out, making and sending took, without the ten seconds
// for which notices are collected. The reference is 1,000 bare inserts in the same run.
func BenchmarkStorm(b *testing.B) {
	const sites, subscribers, findings = 200, 20, 1000
	for range b.N {
		b.StopTimer()
		x := newBench(b)
		ctx := b.Context()
		ids := []int64{x.site}
		for n := range sites - 1 {
			ids = append(ids, x.add(fmt.Sprintf("Site %d", n)))
		}
		for n := range subscribers - 3 { // three of those who are there may work, too
			x.person(fmt.Sprintf("Person %d", n), people.Maintainer)
		}
		_, err := x.Store.Pool.Exec(ctx, `INSERT INTO notice_choices (person_id, site_id, topic, how) SELECT p.id, s.id, 'broken', 'at once' FROM people p, sites s`)
		require.NoError(b, err)
		began := time.Now()
		for n := range findings {
			require.NoError(b, x.Store.Record(ctx, store.Event{SiteID: ids[n%sites], Kind: "change", Who: "Tide Marker", Topic: notice.Broken, Text: fmt.Sprintf("Finding %d. It does not work.", n)}))
		}
		recorded := time.Since(began)
		x.pass(11*time.Second + recorded)
		b.StartTimer()
		began = time.Now()
		require.NoError(b, x.HandOut(ctx))
		require.NoError(b, x.SendMail(ctx))
		took := time.Since(began)
		b.StopTimer()
		require.Len(b, x.box.letters, subscribers, "one message to each")
		for _, l := range x.box.letters {
			require.Contains(b, l.subject, "1000 notices of 200 sites")
		}
		b.ReportMetric(took.Seconds(), "s/storm")
		b.ReportMetric(took.Seconds()/recorded.Seconds(), "×recording")
		b.StartTimer()
	}
}
