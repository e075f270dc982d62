package settings

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestAChangeIsTakenOutOfWhatCameAfterIt(t *testing.T) {
	before := Values{"defer": false, "life": 60, "never": []string{"/cart", "/old"}, "mode": "a"}
	after := before.With(Values{"defer": true, "life": 90, "never": []string{"/cart", "/new"}, "mode": "b"})
	for name, tc := range map[string]struct {
		since     Values
		edits     Values
		conflicts []string
	}{
		"nothing since":               {Values{}, Values{"defer": false, "life": 60.0, "never": []any{"/cart", "/old"}, "mode": "a"}, nil},
		"another setting since":       {Values{"other": 1}, Values{"defer": false, "life": 60.0, "never": []any{"/cart", "/old"}, "mode": "a"}, nil},
		"the same setting since":      {Values{"life": 120}, Values{"defer": false, "never": []any{"/cart", "/old"}, "mode": "a"}, []string{"life"}},
		"restored by hand since":      {Values{"life": 60}, Values{"defer": false, "never": []any{"/cart", "/old"}, "mode": "a"}, nil},
		"an entry was added since":    {Values{"never": []string{"/cart", "/new", "/late"}}, Values{"defer": false, "life": 60.0, "never": []any{"/cart", "/late", "/old"}, "mode": "a"}, nil},
		"its entry was removed since": {Values{"never": []string{"/cart"}}, Values{"defer": false, "life": 60.0, "never": []any{"/cart", "/old"}, "mode": "a"}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			edits, conflicts := Inverse(before, after, after.With(tc.since))
			assert.Equal(t, tc.edits, edits)
			var keys []string
			for _, c := range conflicts {
				keys = append(keys, c.Key)
			}
			assert.Equal(t, tc.conflicts, keys)
		})
	}
}

// Whatever two changes set, in this order: taking the first out leaves what the second
// alone would have made, wherever they did not set the same switch.
func TestWithoutTheFirstOfTwoChangesTheSecondIsLeft(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		keys := []string{"a", "b", "c", "d"}
		some := func(label string) Values {
			v := Values{}
			for _, k := range keys {
				if rapid.Bool().Draw(t, label+k) {
					v[k] = rapid.IntRange(0, 3).Draw(t, label+k+" value")
				}
			}
			if rapid.Bool().Draw(t, label+"list") {
				list := []string{}
				for i := range 4 {
					if rapid.Bool().Draw(t, fmt.Sprint(label, i)) {
						list = append(list, fmt.Sprint("/", i))
					}
				}
				v["list"] = list
			}
			return v
		}
		before := Values{"a": 0, "b": 0, "c": 0, "d": 0, "list": []string{"/0", "/1"}}.Clone()
		first, second := some("first "), some("second ")
		after := before.With(first)
		now := after.With(second)
		edits, conflicts := Inverse(before, after, now)
		without := now.With(edits)
		for _, k := range keys {
			_, both := second[k]
			if !both {
				assert.Equal(t, before[k], without[k], "%s is as it was", k)
			}
			if both && !Equal(now[k], before[k]) && !Equal(now[k], after[k]) && !Equal(before[k], after[k]) {
				assert.Equal(t, now[k], without[k], "a person decides about %s", k)
				assert.Contains(t, fmt.Sprint(conflicts), k)
			}
		}
		for _, e := range without.Strings("list") {
			assert.True(t, contains(before.Strings("list"), e) || contains(now.Strings("list"), e), "%s comes from nowhere", e)
			if !contains(before.Strings("list"), e) && contains(after.Strings("list"), e) {
				t.Fatalf("%s was added by the first change and is still there", e)
			}
		}
	})
}

func contains(list []string, e string) bool {
	for _, x := range list {
		if x == e {
			return true
		}
	}
	return false
}
