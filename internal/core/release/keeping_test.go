package release

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestMarksThatARollbackNeedsAreInUse(t *testing.T) {
	marks := []MarkOf{{9, "C"}, {8, "AB"}, {7, "A"}, {6, "AB"}, {5, "A"}, {4, "0"}, {3, "old"}}
	in := Record([]Placed{{Kind: ActFirst, To: "0"}, promoted(1, "0", "A"), promoted(2, "A", "AB")})
	assert.Equal(t, map[int64]bool{9: true, 8: true, 7: true, 4: true}, MarksInUse(marks, in), "the latest, and the latest of what is in force or comes back; no older ones of the same")
	assert.Equal(t, map[int64]bool{9: true}, MarksInUse(marks, nil))
	assert.Empty(t, MarksInUse(nil, in))
}
