package journey

import (
	"testing"
)

// FuzzReadRecording reads recordings of anybody's: what is read can be written, and read again.
func FuzzReadRecording(f *testing.F) {
	f.Add([]byte(`{"title":"t","steps":[{"type":"navigate","url":"https://e.example/a"},{"type":"click","selectors":[["aria/Menu"],["#m"]],"offsetX":1,"offsetY":1},{"type":"change","selectors":["#p"],"value":"x"},{"type":"waitForElement","selectors":["h1"],"visible":true}]}`))
	f.Add([]byte(`{"title":"t","steps":[{"type":"customStep","name":"tide-marker","parameters":{}}]}`))
	f.Add([]byte(`{`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		j, _, err := ReadRecording(raw)
		if err != nil {
			return
		}
		if j.Name == "" || len(j.Steps) == 0 {
			t.Fatal("nothing was read and nothing was said")
		}
		again, err := WriteRecording(j, "https://e.example")
		if err != nil {
			t.Fatalf("what was read cannot be written: %v", err)
		}
		if _, _, err := ReadRecording(again); err != nil {
			t.Fatalf("what was written cannot be read: %v\n%s", err, again)
		}
	})
}
