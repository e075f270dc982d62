package release

import (
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
	w, there := Back(want, 2)
	assert.True(t, there)
	assert.Equal(t, "b", w.To)
}
