package release

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A control takes off what was tried and puts it on again; the record says the same after as
// before, whatever was below.
func TestAControlLeavesTheRecordAsItWas(t *testing.T) {
	acts := []Placed{{Kind: ActFirst, To: "a"}, {Change: 1, Kind: ActTry, From: "a", To: "b", Base: "a"}, {Change: 2, Kind: ActTry, From: "b", To: "c", Base: "b"}}
	want := Record(acts)
	during := append(acts, Placed{Change: 2, Kind: ActControl, From: "c", To: "b"})
	assert.Equal(t, []Standing{{1, "a", "b"}}, Record(during), "what was tried last is off")
	assert.Equal(t, want, Record(append(during, Placed{Change: 2, Kind: ActTry, From: "b", To: "c", Base: "b"})))
	for name, again := range map[string]Placed{"a check, which is of no change": {Kind: ActTry, From: "b", To: "c"}, "what is restored": {Kind: ActRestore, From: "b", To: "c"}} {
		assert.Equal(t, want, Record(append(slices.Clone(acts), Placed{Kind: ActControl, From: "c", To: "b"}, again)), name)
		assert.Equal(t, want, Record(append(slices.Clone(acts), Placed{Kind: ActControl, From: "c", To: "a"}, Placed{Kind: ActControl, From: "a", To: "b"}, again)), name)
	}
	w, there := Back(want, 2)
	assert.True(t, there)
	assert.Equal(t, "b", w.To)
}

// A search looks with some parts of a change, also with settings that the environment had once;
// when it is over the record is what it was.
func TestASearchLeavesTheRecordAsItWas(t *testing.T) {
	acts := []Placed{{Kind: ActFirst, To: "0"}, {Change: 1, Kind: ActTry, From: "0", To: "01", Base: "0"}, {Change: 2, Kind: ActTry, From: "01", To: "012", Base: "01"}}
	before := Record(acts)
	for _, via := range [][]string{{"02"}, {"02", "0", "01"}, {"0"}, {"01", "0"}} {
		now, with := "012", slices.Clone(acts)
		for _, to := range via {
			with = append(with, Placed{Change: 2, Kind: ActSearch, From: now, To: to})
			now = to
			assert.Equal(t, Standing{0, "012", now}, Record(with)[2], "meanwhile it has something else")
		}
		assert.Equal(t, before, Record(append(with, Placed{Change: 2, Kind: ActRestore, From: now, To: "012"})), "%v", via)
	}
}
