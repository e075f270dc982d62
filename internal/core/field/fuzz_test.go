package field

import (
	"math"
	"testing"
)

// FuzzRead reads what anybody's browser may send.
func FuzzRead(f *testing.F) {
	f.Add([]byte(`{"p":"/a?b#c","d":"phone","m":{"LCP":1200.5,"CLS":0.1,"INP":80}}`))
	f.Add([]byte(`{"p":"/","d":"desktop","m":{"LCP":1e999}}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		b, err := Read(raw)
		if err != nil {
			return
		}
		for m, v := range b.Metrics {
			if math.IsNaN(v) || math.IsInf(v, 0) || v < 0 {
				t.Fatalf("%s is %v", m, v)
			}
		}
	})
}
