package words_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tidemarker/internal/core/words"
)

func TestTimesAreSaidInTheLargestWholeUnit(t *testing.T) {
	for seconds, want := range map[int]string{0: "0 seconds", 1: "1 second", 60: "1 minute", 90: "90 seconds", 3600: "1 hour", 5400: "90 minutes", 86400: "1 day", 7 * 86400: "7 days"} {
		assert.Equal(t, want, words.Span(seconds))
	}
}
