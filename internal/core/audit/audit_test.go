package audit_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tidemarker/internal/core/audit"
)

// chain is a history of some entries with their hashes.
func chain(n int) (out []audit.Entry) {
	var before []byte
	for i := range n {
		change := int64(i % 3)
		e := audit.Entry{Scope: 7, Seq: int64(i + 1), ID: int64(10 + 2*i), ChangeID: &change, Kind: "change", Text: "Did something.", Who: "Vera", At: time.Date(2026, 11, 28, 1, i, 0, 1000, time.UTC)}
		e.Hash = e.Sum(before)
		before = e.Hash
		out = append(out, e)
	}
	return out
}

func follow(entries []audit.Entry) audit.Chain {
	c := audit.Chain{}
	for _, e := range entries {
		c.Follow(e)
	}
	return c
}

// The value is that of sha256sum (GNU coreutils) over the same octets:
// 1:0,1:1,0:,0:,4:team,5:Hello,4:Vera,27:2026-11-28T01:02:03.000004Z,
func TestAnEntrysHashIsOfItsFieldsAsNetstrings(t *testing.T) {
	e := audit.Entry{ID: 1, Seq: 1, Kind: "team", Text: "Hello", Who: "Vera", At: time.Date(2026, 11, 28, 2, 2, 3, 4000, time.FixedZone("", 3600))}
	e.Hash = e.Sum(nil)
	c := follow([]audit.Entry{e})
	assert.Equal(t, "48816429101fc46fedef9438a5d01238ad9df89788a8e05bbfc4a56a5aba080b", c.Last())
}

func TestWhateverIsDoneToAHistoryBreaksItsChain(t *testing.T) {
	whole := chain(12)
	require.Empty(t, follow(whole).Broken)
	rapid.Check(t, func(t *rapid.T) {
		es := slices.Clone(whole)
		i := rapid.IntRange(0, len(es)-2).Draw(t, "at")
		switch rapid.IntRange(0, 7).Draw(t, "what") {
		case 0:
			es[i].Text += " "
		case 1:
			es[i].Who, es[i].Text = es[i].Who+es[i].Text[:1], es[i].Text[1:]
		case 2:
			es[i].At = es[i].At.Add(time.Microsecond)
		case 3:
			es = slices.Delete(es, i, i+1)
		case 4:
			es[i].Text, es[i+1].Text = "Did nothing.", "Did something."
		case 5:
			es[i].ID = 0 // removed from the history alone
		case 6:
			es[i].ChangeID = nil
		case 7: // forged with a hash of its own, but what comes after is as it was
			es[i].Text = "Did something else."
			var before []byte
			if i > 0 {
				before = es[i-1].Hash
			}
			es[i].Hash = es[i].Sum(before)
		}
		c := follow(es)
		require.NotEmpty(t, c.Broken)
		require.EqualValues(t, len(es), c.Entries)
	})
}

func TestAnEntryOutsideTheChainIsSaid(t *testing.T) {
	es := append(chain(3), audit.Entry{ID: 99, At: time.Unix(0, 0)})
	assert.Equal(t, "Entry 99 (1970-01-01T00:00:00Z) is not in the chain.", follow(es).Broken)
}
