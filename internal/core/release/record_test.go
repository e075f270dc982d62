package release

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func promoted(change int64, from, to string) Placed {
	return Placed{Change: change, Kind: ActPromote, From: from, To: to}
}

func TestARollbackGoesToWhatWasBeforeThatChange(t *testing.T) {
	acts := []Placed{{Kind: ActFirst, To: "0"}, promoted(1, "0", "A"), promoted(2, "A", "AB")}
	s := Record(acts)
	assert.Equal(t, []Standing{{1, "0", "A"}, {2, "A", "AB"}}, s)

	w, ok := Back(s, 2)
	require.True(t, ok)
	assert.Equal(t, Way{To: "A"}, w, "the one on top goes by itself")
	w, ok = Back(s, 1)
	require.True(t, ok)
	assert.Equal(t, Way{To: "0", OnTop: []int64{2}}, w, "the one below takes the other with it, and says so")

	s = Record(append(acts, Placed{Change: 1, Kind: ActRollBack, From: "AB", To: "0"}))
	assert.Empty(t, s)
	_, ok = Back(s, 2)
	assert.False(t, ok, "what is no longer in force cannot be rolled back")
}

// TestHowFarAMaintainerPutsProductionBack is the decision of docs/security.md: to before the latest promotion, and no further.
func TestHowFarAMaintainerPutsProductionBack(t *testing.T) {
	first := Placed{Kind: ActFirst, To: "0"}
	both := []Placed{first, promoted(1, "0", "A"), promoted(2, "A", "AB")}
	for name, tc := range map[string]struct {
		acts []Placed
		want string
	}{
		"nothing was promoted":                  {[]Placed{first, {Kind: ActOutside, From: "0", To: "x"}}, ""},
		"the first promotion":                   {both[:2], "0"},
		"the second":                            {both, "A"},
		"what is under it is for somebody else": {append(both[:3:3], Placed{Change: 2, Kind: ActRollBack, From: "AB", To: "A"}), ""},
		"with something from outside on top":    {append(both[:3:3], Placed{Kind: ActOutside, From: "AB", To: "x"}), "A"},
		"the same change once more":             {append(both[:3:3], promoted(2, "AB", "AB2")), "A"},
		"promoted again after it had gone":      {append(both[:3:3], Placed{Change: 2, Kind: ActRollBack, From: "AB", To: "A"}, promoted(2, "A", "AB")), "A"},
	} {
		t.Run(name, func(t *testing.T) {
			got, ok := BeforeLatestPromotion(tc.acts)
			assert.Equal(t, tc.want != "", ok)
			assert.Equal(t, tc.want, got)
		})
	}
}

func TestWhatIsInForceIsReadFromTheRecord(t *testing.T) {
	first := Placed{Kind: ActFirst, To: "0"}
	for name, tc := range map[string]struct {
		acts []Placed
		want []Standing
	}{
		"nothing was done":                {nil, nil},
		"the first reading":               {[]Placed{first}, nil},
		"promoted twice in a row":         {[]Placed{first, promoted(1, "0", "A"), promoted(1, "A", "A2")}, []Standing{{1, "0", "A2"}}},
		"edited back to where it began":   {[]Placed{first, promoted(1, "0", "A"), promoted(1, "A", "0")}, []Standing{}},
		"somebody changed it outside":     {[]Placed{first, promoted(1, "0", "A"), {Kind: ActOutside, From: "A", To: "x"}}, []Standing{{1, "0", "A"}, {0, "A", "x"}}},
		"and it was restored":             {[]Placed{first, promoted(1, "0", "A"), {Kind: ActOutside, From: "A", To: "x"}, {Kind: ActRollBack, From: "x", To: "A"}}, []Standing{{1, "0", "A"}}},
		"or undone outside":               {[]Placed{first, promoted(1, "0", "A"), {Kind: ActOutside, From: "A", To: "x"}, {Kind: ActOutside, From: "x", To: "A"}}, []Standing{{1, "0", "A"}}},
		"it had that already":             {[]Placed{first, promoted(1, "0", "A"), promoted(2, "A", "A")}, []Standing{{1, "0", "A"}, {2, "A", "A"}}},
		"a try that was restored":         {[]Placed{first, {Kind: ActTry, From: "0", To: "t"}, {Kind: ActRestore, From: "t", To: "0"}}, []Standing{}},
		"to a mark in between":            {[]Placed{first, promoted(1, "0", "A"), promoted(2, "A", "AB"), {Kind: ActRollBack, From: "AB", To: "A"}}, []Standing{{1, "0", "A"}}},
		"to a mark that is not on record": {[]Placed{first, promoted(1, "0", "A"), {Kind: ActRollBack, From: "A", To: "old"}}, nil},
		"another is tried on staging": {[]Placed{first, {Change: 1, Kind: ActTry, From: "0", To: "A", Base: "0"}, {Change: 2, Kind: ActTry, From: "A", To: "B", Base: "0"}},
			[]Standing{{2, "0", "B"}}},
		"tried on top of what was promoted": {[]Placed{first, {Change: 1, Kind: ActTry, From: "0", To: "A", Base: "0"}, {Change: 2, Kind: ActTry, From: "A", To: "AB", Base: "A"}},
			[]Standing{{1, "0", "A"}, {2, "A", "AB"}}},
		"tried again after an edit": {[]Placed{first, {Change: 1, Kind: ActTry, From: "0", To: "A", Base: "0"}, {Change: 1, Kind: ActTry, From: "A", To: "A2", Base: "0"}},
			[]Standing{{1, "0", "A2"}}},
	} {
		t.Run(name, func(t *testing.T) {
			got := Record(tc.acts)
			assert.Equal(t, fmt.Sprint(tc.want), fmt.Sprint(got))
		})
	}
}

// changesOf lists the changes that are in force, the one on top last.
func changesOf(s []Standing) []int64 {
	var out []int64
	for _, x := range s {
		if x.Change != 0 && !slices.Contains(out, x.Change) {
			out = append(out, x.Change)
		}
	}
	return out
}

// Any sequence of promotions, rollbacks of one or of all on top, changes outside and
// going back to earlier states ends where the record says: the model is a plain stack of
// what production had.
func TestAnySequenceEndsWhereTheRecordSays(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		type level struct {
			change int64
			before string
		}
		now, serial := "0", 0
		acts := []Placed{{Kind: ActFirst, To: now}}
		var model []level
		for range rapid.IntRange(1, 25).Draw(t, "acts") {
			serial++
			switch rapid.IntRange(0, 3).Draw(t, "what") {
			case 0, 1: // promote a new change
				to := fmt.Sprintf("%s.%d", now, serial)
				acts = append(acts, promoted(int64(serial), now, to))
				model = append(model, level{int64(serial), now})
				now = to
			case 2: // somebody changes something outside
				to := fmt.Sprintf("%s.x%d", now, serial)
				acts = append(acts, Placed{Kind: ActOutside, From: now, To: to})
				model = append(model, level{0, now})
				now = to
			case 3: // roll one of those in force back, whatever is on top of it
				var there []int
				for i, l := range model {
					if l.change != 0 {
						there = append(there, i)
					}
				}
				if len(there) == 0 {
					continue
				}
				i := rapid.SampledFrom(there).Draw(t, "which")
				w, ok := Back(Record(acts), model[i].change)
				require.True(t, ok)
				require.Equal(t, model[i].before, w.To, "it goes to what was before that change's promotion")
				var above []int64
				for _, l := range model[i+1:] {
					if l.change != 0 {
						above = append(above, l.change)
					} else {
						require.True(t, w.Other)
					}
				}
				require.Equal(t, above, w.OnTop, "and names what goes with it")
				before := Record(acts)
				acts = append(acts, Placed{Change: model[i].change, Kind: ActRollBack, From: now, To: w.To})
				for _, c := range changesOf(before) {
					went := c == model[i].change || slices.Contains(above, c)
					require.Equal(t, !went, InForce(Record(acts), c), "of change %d", c)
				}
				model, now = model[:i], w.To
			}
			s := Record(acts)
			var want []int64
			for _, l := range model {
				if l.change != 0 {
					want = append(want, l.change)
				}
			}
			require.Equal(t, want, changesOf(s), "what the record says is in force")
			if len(s) > 0 {
				require.Equal(t, now, s[len(s)-1].After)
			}
			for i := 1; i < len(s); i++ {
				require.Equal(t, s[i-1].After, s[i].Before, "each stands on the one below it")
			}
		}
	})
}

func TestTheMarkOfExactlyTheseSettingsIsChosen(t *testing.T) {
	marks := []MarkOf{{5, "C"}, {4, "A"}, {3, "B"}, {2, "A"}}
	m, exact, ok := ChooseMark(marks, "A")
	assert.Equal(t, MarkOf{4, "A"}, m, "the latest of them")
	assert.True(t, exact && ok)
	m, exact, ok = ChooseMark(marks, "Z")
	assert.Equal(t, MarkOf{5, "C"}, m)
	assert.True(t, ok)
	assert.False(t, exact)
	_, _, ok = ChooseMark(nil, "A")
	assert.False(t, ok)
}

// A tidy that is carried out again switches off what deletes, and on again: afterwards all stands as before, and while it is off that is on top.
func TestATidyThatRecursLeavesTheRecordAsItWas(t *testing.T) {
	before := []Placed{{Kind: ActFirst, To: "0"}, promoted(1, "0", "T"), promoted(2, "T", "TB")}
	off := append(slices.Clone(before), Placed{Kind: ActTidy, From: "TB", To: "B"})
	assert.Equal(t, append(Record(before), Standing{0, "TB", "B"}), Record(off))
	assert.Equal(t, Record(before), Record(append(off, Placed{Kind: ActTidy, From: "B", To: "TB"})))

	first := append(slices.Clone(before[:2]), Placed{Kind: ActTidy, From: "T", To: "0"}, Placed{Kind: ActTidy, From: "0", To: "T"})
	w, ok := Back(Record(first), 1)
	require.True(t, ok, "also where it is the tidy's own change that is on top")
	assert.Equal(t, Way{To: "0"}, w)
}
