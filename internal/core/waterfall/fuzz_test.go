package waterfall_test

import (
	"testing"

	"tidemarker/internal/core/waterfall"
)

// FuzzReadHAR reads page loads that other programs wrote down.
func FuzzReadHAR(f *testing.F) {
	f.Add([]byte(`{"log":{"version":"1.2","creator":{"name":"x","version":"1"},"pages":[{"id":"p","startedDateTime":"2026-11-27T10:00:00Z","title":"t","pageTimings":{"onLoad":100}}],"entries":[{"pageref":"p","startedDateTime":"2026-11-27T10:00:00Z","time":10,"request":{"method":"GET","url":"https://e.example/"},"response":{"status":200,"content":{"size":10}},"timings":{"wait":5}}]}}`))
	f.Add([]byte(`{"log":{"entries":[{}]}}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		list, err := waterfall.ReadHAR(raw)
		if err != nil && len(list) > 0 {
			t.Fatal("something was read and refused")
		}
	})
}
