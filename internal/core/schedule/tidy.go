package schedule

import (
	"fmt"
	"slices"
	"time"

	"tidemarker/internal/core/words"
)

// Again is what a schedule of tidies carries out: what a change deletes that was checked and carried out once.
type Again struct {
	Change int64 `json:"change" minimum:"1" doc:"The change that carried it out first."`
	Most   int   `json:"most" minimum:"1" maximum:"1000000000" doc:"How many records may be deleted at once. More, and nothing is deleted."`
}

// Work is one time that a tidy is carried out again.
type Work struct {
	Schedule int64          `json:"schedule"`
	At       time.Time      `json:"at"`
	Keys     []string       `json:"keys" doc:"The settings that delete."`
	Most     int            `json:"most"`
	Found    map[string]int `json:"found,omitempty" doc:"How many records each would delete, counted just before."`
	Left     map[string]int `json:"left,omitempty" doc:"The same, counted after it was done; what has come meanwhile is among them."`
}

// Sum is how many records there are of all kinds.
func Sum(counts map[string]int) (n int) {
	for _, c := range counts {
		n += c
	}
	return n
}

// Carried is one time that a tidy was carried out: when, and how many records it found to delete.
type Carried struct {
	At      time.Time
	Records int
}

const (
	// learnedFrom is how many intervals between two times say what is usual.
	learnedFrom = 3
	// farTimes and farMore are what is far: more than so many times what is usual, and so many more besides; or fewer by the same
	// measure. Of our own making; small numbers vary by chance, and a few records more or less frighten nobody.
	farTimes, farMore = 3, 10
)

// Usual is how many records gather until a moment, by what gathered in a day between the times before (the oldest first): the
// median. ok is false while there are fewer than three intervals.
func Usual(past []Carried, now time.Time) (records int, ok bool) {
	var daily []float64
	for i := 1; i < len(past); i++ {
		if days := past[i].At.Sub(past[i-1].At).Hours() / 24; days > 0 {
			daily = append(daily, float64(past[i].Records)/days)
		}
	}
	if len(daily) < learnedFrom {
		return 0, false
	}
	slices.Sort(daily)
	n := len(daily)
	median := (daily[(n-1)/2] + daily[n/2]) / 2
	return int(median*now.Sub(past[len(past)-1].At).Hours()/24 + 0.5), true
}

// Refuse says why a tidy is not carried out again, "" when it may be: it would delete more than may be deleted at once, or far
// more or fewer than is usual.
func Refuse(most int, past []Carried, found int, now time.Time) string {
	if found > most {
		return fmt.Sprintf("%s would be deleted, and at most %d may be", words.Count(found, "record"), most)
	}
	usual, known := Usual(past, now)
	if known && (found > farTimes*usual+farMore || found*farTimes+farMore*farTimes < usual) {
		return fmt.Sprintf("%s would be deleted, and about %d are usual since the last time", words.Count(found, "record"), usual)
	}
	return ""
}
