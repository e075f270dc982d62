package schedule_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tidemarker/internal/core/schedule"
)

// weekly are times a week apart with so many records each.
func weekly(records ...int) (past []schedule.Carried, next time.Time) {
	at := time.Date(2026, 1, 4, 4, 0, 0, 0, time.UTC)
	for i, n := range records {
		past = append(past, schedule.Carried{At: at.AddDate(0, 0, 7*i), Records: n})
	}
	return past, at.AddDate(0, 0, 7*len(records))
}

func TestATidyIsNotCarriedOutWhenTheCountIsFarFromUsual(t *testing.T) {
	for name, c := range map[string]struct {
		past  []int
		found int
		late  int // days
		says  string
	}{
		"nothing is known yet":                {nil, 900, 0, ""},
		"two intervals say nothing":           {[]int{5000, 100, 110}, 900, 0, ""},
		"as ever":                             {[]int{5000, 100, 110, 90}, 105, 0, ""},
		"somewhat more":                       {[]int{5000, 100, 110, 90}, 300, 0, ""},
		"far more":                            {[]int{5000, 100, 110, 90}, 311, 0, "311 records would be deleted, and about 100 are usual since the last time"},
		"far fewer, as if they went missing":  {[]int{5000, 100, 110, 90}, 23, 0, "23 records would be deleted, and about 100"},
		"a third":                             {[]int{5000, 100, 110, 90}, 34, 0, ""},
		"after three weeks there is more":     {[]int{5000, 100, 110, 90}, 600, 14, ""},
		"few are few by chance":               {[]int{9, 1, 0, 2}, 12, 0, ""},
		"none where few are usual":            {[]int{9, 4, 5, 3}, 0, 0, ""},
		"one that was far is not what counts": {[]int{5000, 100, 900, 110, 90}, 320, 0, ""},
		"more than may be, usual or not":      {[]int{5000, 800, 900, 850}, 1001, 0, "1001 records would be deleted, and at most 1000 may be"},
	} {
		past, next := weekly(c.past...)
		assert.Equal(t, c.says, head(schedule.Refuse(1000, past, c.found, next.AddDate(0, 0, c.late)), len(c.says)), name)
	}
}

func head(s string, n int) string {
	if n == 0 {
		return s
	}
	return s[:min(n, len(s))]
}

// What gathers evenly is never stopped, whenever it is looked at; ten times as much always is.
func TestWhatGathersEvenlyIsCarriedOutWheneverItIsDue(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		daily := rapid.IntRange(5, 500).Draw(t, "a day")
		at, past := time.Date(2026, 1, 4, 4, 0, 0, 0, time.UTC), []schedule.Carried{}
		for i := range rapid.IntRange(4, 12).Draw(t, "times") {
			days := rapid.IntRange(1, 40).Draw(t, "days")
			at = at.AddDate(0, 0, days)
			found := daily * days * rapid.IntRange(80, 120).Draw(t, "per cent") / 100
			if i > 3 {
				require.Empty(t, schedule.Refuse(1_000_000, past, found, at))
				require.NotEmpty(t, schedule.Refuse(1_000_000, past, 10*found+100, at))
			}
			past = append(past, schedule.Carried{At: at, Records: found})
		}
	})
}
