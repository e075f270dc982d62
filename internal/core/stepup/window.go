package stepup

import (
	"fmt"
	"time"
)

// Window is when a step-up may begin something: from a time of day to another, which may be of the
// next day. The zero window is always open.
type Window struct {
	From string `json:"from" doc:"Time of day, 15:04; empty for any time."`
	To   string `json:"to" doc:"Time of day, 15:04."`
	Zone string `json:"zone" doc:"Name of a time zone of the IANA database; UTC when empty."`
}

// Check says what is wrong with a window.
func (w Window) Check() error {
	if w.From == "" && w.To == "" {
		return nil
	}
	if _, err := time.Parse("15:04", w.From); err != nil {
		return fmt.Errorf("“%s” is no time of day. Write it as 22:00", w.From)
	}
	if _, err := time.Parse("15:04", w.To); err != nil {
		return fmt.Errorf("“%s” is no time of day. Write it as 05:30", w.To)
	}
	if w.From == w.To {
		return fmt.Errorf("the window opens and closes at %s, so that it is never open", w.From)
	}
	return nil
}

// Opens is when the window is open next, now itself when it is open. now is in the window's time
// zone. A time of day that the clocks leave out counts as the one an hour later, as in package time.
func (w Window) Opens(now time.Time) time.Time {
	if w.From == "" {
		return now
	}
	at := func(day time.Time, clock string) time.Time {
		c, _ := time.Parse("15:04", clock)
		return time.Date(day.Year(), day.Month(), day.Day(), c.Hour(), c.Minute(), 0, 0, now.Location())
	}
	for day := -1; day <= 1; day++ {
		d := now.AddDate(0, 0, day)
		from, to := at(d, w.From), at(d, w.To)
		if w.To < w.From {
			to = at(d.AddDate(0, 0, 1), w.To)
		}
		if now.Before(from) {
			return from
		}
		if now.Before(to) {
			return now
		}
	}
	return at(now.AddDate(0, 0, 1), w.From)
}
