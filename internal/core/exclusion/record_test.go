package exclusion

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestRecordsComeBackFromCSVAndJSON(t *testing.T) {
	text := rapid.StringMatching(`[=+@'a-z/*",;éß][ =a-z/*",;éß-]{0,10}[a-z]`)
	rapid.Check(t, func(t *rapid.T) {
		want := []Record{{Role: "path-exclude", Key: "never", Pattern: text.Draw(t, "pattern"), Reason: text.Draw(t, "reason"), Environments: []string{"staging", "production"},
			Classes: []string{"cart"}, Personas: []string{"basket carrier", "member"}, LookAgain: "2026-03-01"}, {Role: "js-exclude-defer", Pattern: "menu.js", Reason: "menu"}}
		got, faults := ReadCSV(WriteCSV(want))
		require.Empty(t, faults)
		for i := range got {
			require.Equal(t, i+2, got[i].Line)
			got[i].Line = 0
			if len(got[i].Environments) == 0 {
				got[i].Environments, got[i].Classes = nil, nil
			}
		}
		require.Equal(t, want, got)
		raw, err := json.Marshal(want)
		require.NoError(t, err)
		got, faults = ReadJSON(raw)
		require.Empty(t, faults)
		for i := range got {
			require.Equal(t, i+1, got[i].Line)
			got[i].Line = 0
		}
		require.Equal(t, want, got)
	})
}

func TestFaultsAreToldLineByLine(t *testing.T) {
	_, faults := ReadCSV([]byte("\xef\xbb\xbfpattern,role,reason,lookAgain\n/cart,path-exclude,personal,\n,path-exclude,x,\n/a,page-cache,x,\n/b,path-exclude,,soon\n\"two\nlines\",js-exclude-defer,x,\n/c,,x,\n"))
	lines := map[int]string{}
	for _, f := range faults {
		lines[f.Line] += f.Why + "; "
	}
	assert.Len(t, lines, 4)
	assert.Contains(t, lines[3], "pattern is missing")
	assert.Contains(t, lines[4], `"page-cache" is not a role that has patterns`)
	assert.Contains(t, lines[5], "reason is missing")
	assert.Contains(t, lines[5], "not a day")
	assert.Contains(t, lines[8], "role or key is missing", "lines are counted as in the file")
	for raw, want := range map[string]string{"": "no heading", "shape\n": `no column "shape"`, "role,pattern\n\"open": "not CSV"} {
		_, faults := ReadCSV([]byte(raw))
		require.NotEmpty(t, faults, raw)
		assert.Contains(t, faults[0].Why, want)
	}
	_, faults = ReadJSON([]byte(`[{"role":"path-exclude","pattern":"/a","reason":"x"},{"role":"path-exclude","pattren":"/b"}]`))
	require.Len(t, faults, 1)
	assert.Equal(t, 2, faults[0].Line)
	assert.Contains(t, faults[0].Error(), "line 2: ")
	_, faults = ReadJSON([]byte(`{}`))
	assert.Contains(t, faults[0].Why, "array")
}

// A cell that begins like a formula is text in a spreadsheet (common practice).
func TestNothingInACSVIsComputed(t *testing.T) {
	assert.Contains(t, string(WriteCSV([]Record{{Role: "path-exclude", Pattern: `=HYPERLINK("x")`, Reason: "r"}})), `"'=HYPERLINK(""x"")"`)
}

func FuzzReadCSV(f *testing.F) {
	f.Add([]byte("role,pattern,reason\npath-exclude,/a,b\n"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		records, faults := ReadCSV(raw)
		if len(faults) == 0 {
			for _, r := range records {
				if r.Pattern == "" || r.Reason == "" {
					t.Fatalf("%+v was taken", r)
				}
			}
		}
	})
}

func TestWhereAnEntryStandsIsReadOffTheSettings(t *testing.T) {
	all := []string{"staging", "production"}
	for name, tc := range map[string]struct {
		wanted, on []string
		want       State
	}{
		"nowhere":                          {nil, nil, Proposed},
		"on staging, where it is tried":    {nil, []string{"staging"}, Proposed},
		"on production":                    {nil, []string{"production"}, Active},
		"for staging only, and there":      {[]string{"staging"}, []string{"staging"}, Active},
		"for both, and on one of them":     {all, []string{"production"}, Proposed},
		"for both, and rolled back on one": {all, []string{"staging"}, Proposed},
	} {
		assert.Equal(t, tc.want, StateOf(tc.wanted, tc.on, all), name)
	}
	assert.Equal(t, Proposed, StateOf(nil, nil, nil))
}

func FuzzReadJSON(f *testing.F) {
	f.Add([]byte(`[{"role":"path-exclude","pattern":"/a","reason":"b"}]`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		records, faults := ReadJSON(raw)
		for _, r := range records {
			if len(faults) == 0 && (r.Pattern == "" || r.Reason == "" || r.Line == 0) {
				t.Fatalf("%+v was taken", r)
			}
		}
	})
}
