package traffic_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"tidemarker/internal/core/stats"
	"tidemarker/internal/standin/traffic"
)

// The same seed makes the same; Sundays are quiet, phones are slow, and a step shows.
func TestTraffic(t *testing.T) {
	to := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
	plan := traffic.Plan{Seed: 4, Paths: []string{"/", "/kits", "/library"}, PerDay: 200, From: to.AddDate(0, 0, -30), To: to, Largest: 1500, Steps: []traffic.Step{{At: to.AddDate(0, 0, -7), Factor: 0.8, React: 1}}}
	visits := traffic.Visits(plan)
	assert.Equal(t, visits, traffic.Visits(plan))
	days, of := map[string]int{}, map[string][]float64{}
	for _, v := range visits {
		assert.False(t, v.At.After(to))
		days[v.At.Weekday().String()]++
		of[v.Device] = append(of[v.Device], v.Metrics["LCP"])
		if v.Device == "phone" {
			when := "before"
			if !v.At.Before(plan.Steps[0].At) {
				when = "after"
			}
			of[when] = append(of[when], v.Metrics["LCP"])
		}
	}
	assert.Less(t, days["Sunday"], days["Wednesday"])
	assert.Greater(t, stats.Quantile(of["phone"], 0.75), 1.4*stats.Quantile(of["desktop"], 0.75))
	assert.InDelta(t, 0.8, stats.Quantile(of["after"], 0.75)/stats.Quantile(of["before"], 0.75), 0.06)
}
