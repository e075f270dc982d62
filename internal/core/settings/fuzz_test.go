package settings

import "testing"

// FuzzParse reads what connectors and files say of settings: values that are read have a fingerprint, and copied ones fit or do not.
func FuzzParse(f *testing.F) {
	f.Add([]byte(`{"a":true,"b":["x","y"],"c":30}`))
	f.Add([]byte(`{"settings":[{"key":"a","title":"A","group":"G","type":"switch","default":true,"risk":1}]}`))
	f.Add([]byte(`{"format":"tide-marker/copied-settings","version":1,"values":{}}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		if v, err := ParseValues(raw); err == nil {
			if _, err := v.Fingerprint(); err != nil {
				t.Fatalf("values without a fingerprint: %v", err)
			}
		}
		if c, err := ParseCatalogue(raw); err == nil {
			if err := c.Validate(c.Defaults()); err != nil {
				t.Fatalf("a catalogue refuses its own defaults: %v", err)
			}
		}
		_, _ = ParseCopied(raw)
	})
}
