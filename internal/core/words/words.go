// Package words says numbers and times in words.
package words

import "fmt"

// Count is how many of something there are, as “1 look” and “2 looks”.
func Count(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// Span is a number of seconds in the largest unit that it is a whole number of: “2 hours”, “90 minutes”.
func Span(seconds int) string {
	for _, u := range []struct {
		size int
		one  string
	}{{86400, "day"}, {3600, "hour"}, {60, "minute"}} {
		if seconds >= u.size && seconds%u.size == 0 {
			return Count(seconds/u.size, u.one)
		}
	}
	return Count(seconds, "second")
}
