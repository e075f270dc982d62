// Package audit holds a history against its chain: each entry's hash is of the hash before it and of the entry, so that
// nothing in it can be changed, left out, put in or moved without all hashes after it being others.
//
// Who can write all of them anew can still forge a whole chain; whoever has kept a hash elsewhere sees that, too.
package audit

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strconv"
	"time"
)

// Entry is one line of a history, with its place in the chain.
type Entry struct {
	Scope    int64     `db:"scope" json:"site"` // the site; 0: what is about no site
	Seq      int64     `db:"seq" json:"seq"`    // 1, 2, 3 …; 0 when it is not in the chain
	ID       int64     `db:"id" json:"id"`      // 0 when the chain has an entry that is not there
	ChangeID *int64    `db:"change_id" json:"change,omitempty"`
	RunID    *int64    `db:"run_id" json:"run,omitempty"`
	Kind     string    `db:"kind" json:"kind"`
	Text     string    `db:"text" json:"text"`
	Who      string    `db:"who" json:"who"`
	At       time.Time `db:"at" json:"at"` // to the microsecond
	Hash     []byte    `db:"hash" json:"-"`
}

// Sum is the entry's hash: SHA-256 of the hash before it, and of the entry's fields as netstrings
// (D. J. Bernstein, 1997), so that no two entries are written alike.
func (e Entry) Sum(before []byte) []byte {
	h := sha256.New()
	h.Write(before)
	for _, v := range []string{strconv.FormatInt(e.Scope, 10), strconv.FormatInt(e.ID, 10), number(e.ChangeID), number(e.RunID), e.Kind, e.Text, e.Who, e.At.UTC().Format("2006-01-02T15:04:05.000000Z")} {
		_, _ = fmt.Fprintf(h, "%d:%s,", len(v), v)
	}
	return h.Sum(nil)
}

func number(n *int64) string {
	if n == nil {
		return ""
	}
	return strconv.FormatInt(*n, 10)
}

// Chain follows a chain entry by entry, in its order.
type Chain struct {
	Entries int64  // so far
	Hash    []byte // of the last
	Broken  string // what is wrong first, in words; "" while it is whole
}

// Follow takes the next entry. What comes after the first thing that is wrong is counted, and says nothing any more.
func (c *Chain) Follow(e Entry) {
	c.Entries++
	if c.Broken != "" {
		return
	}
	switch sum := e.Sum(c.Hash); {
	case e.Seq == 0:
		c.Broken = fmt.Sprintf("Entry %d (%s) is not in the chain.", e.ID, e.At.UTC().Format(time.RFC3339))
	case e.Seq != c.Entries:
		c.Broken = fmt.Sprintf("After place %d comes place %d: what was between is gone.", c.Entries-1, e.Seq)
	case e.ID == 0:
		c.Broken = fmt.Sprintf("The entry at place %d is gone.", e.Seq)
	case string(sum) != string(e.Hash):
		c.Broken = fmt.Sprintf("Entry %d at place %d (%s) is not what was recorded, or what is before it is not.", e.ID, e.Seq, e.At.UTC().Format(time.RFC3339))
	default:
		c.Hash = sum
	}
}

// Last is the last hash as it is written down, "" of an empty chain.
func (c Chain) Last() string { return hex.EncodeToString(c.Hash) }
