package origin

import "sync"

// The kinds of records that a site gathers and a tidy deletes.
const (
	Revisions = "revisions" // earlier texts of articles
	Drafts    = "drafts"    // texts that were never published
	Spam      = "spam"      // messages that were set aside
	Expired   = "expired"   // form tokens that can no longer be used
)

// Published is the field in which a site tells its speed layer that it published a page:
// the page's path. Visitors never get it.
const Published = "X-Published"

// Records are what has gathered on a site, the newest last.
type Records struct {
	mu   sync.Mutex
	kept map[string][]string
}

// Add puts a record in.
func (r *Records) Add(kind, text string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.kept == nil {
		r.kept = map[string][]string{}
	}
	r.kept[kind] = append(r.kept[kind], text)
}

// Gather puts in a number of records without a text of their own.
func (r *Records) Gather(kind string, n int) {
	for range n {
		r.Add(kind, kind)
	}
}

// Count is how many records of a kind there are.
func (r *Records) Count(kind string) int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.kept[kind])
}

// Keep deletes all but the newest of a kind, and says how many. Nothing brings them
// back.
func (r *Records) Keep(kind string, newest int) int {
	r.mu.Lock()
	defer r.mu.Unlock()
	n := len(r.kept[kind]) - newest
	if n <= 0 {
		return 0
	}
	r.kept[kind] = append([]string(nil), r.kept[kind][n:]...)
	return n
}
