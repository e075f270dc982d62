package standin

import (
	"encoding/json"
	"net/http"
	"net/url"
	"os"
	"slices"
	"time"
)

// cachedPage is a finished page that is kept for later visitors.
type cachedPage struct {
	Status int           `json:"status"`
	Header http.Header   `json:"header"`
	Body   []byte        `json:"body"`
	Made   time.Time     `json:"made"`
	TTL    time.Duration `json:"ttl"`
	Stale  bool          `json:"stale"`
}

func (p *cachedPage) freshFor(now time.Time) time.Duration {
	if p.Stale {
		return -time.Second
	}
	return p.TTL - now.Sub(p.Made)
}

// address is the path and the query that makes a page; variant is for whom it was
// made, where the layer makes copies of their own.
type cachedKey struct{ address, variant string }

// cachedPages are the pages kept, in memory; some outlive the process on disk.
type cachedPages struct {
	pages map[cachedKey]*cachedPage
	order []cachedKey // as they came
}

// memoryPlaces is how many pages the memory store has room for.
const memoryPlaces = 256

// put keeps a page; with limited room the one that came first goes.
func (h *cachedPages) put(k cachedKey, p *cachedPage, limited bool) {
	if h.pages == nil {
		h.pages = map[cachedKey]*cachedPage{}
	}
	if _, there := h.pages[k]; !there {
		h.order = append(h.order, k)
	}
	h.pages[k] = p
	for limited && len(h.pages) > memoryPlaces {
		h.drop(h.order[0])
	}
}

func (h *cachedPages) drop(k cachedKey) {
	delete(h.pages, k)
	h.order = slices.DeleteFunc(h.order, func(o cachedKey) bool { return o == k })
}

// concern drops, or marks as stale, the copies that match, and says how many.
func (h *cachedPages) concern(match func(cachedKey) bool, stale bool) int {
	n := 0
	for _, k := range slices.Clone(h.order) {
		if !match(k) {
			continue
		}
		n++
		if stale {
			h.pages[k].Stale = true
		} else {
			h.drop(k)
		}
	}
	return n
}

type keptPage struct {
	Address, Variant string
	Page             *cachedPage
}

// save writes the pages that a disk store keeps over a restart.
func (h *cachedPages) save(file string) error {
	var all []keptPage
	for _, k := range h.order {
		all = append(all, keptPage{k.address, k.variant, h.pages[k]})
	}
	raw, err := json.Marshal(all)
	if err != nil {
		return err
	}
	return os.WriteFile(file, raw, 0o600)
}

// load reads them again. What cannot be read is generated fresh when somebody asks.
func (h *cachedPages) load(file string) {
	raw, err := os.ReadFile(file)
	var all []keptPage
	if err != nil || json.Unmarshal(raw, &all) != nil {
		return
	}
	for _, k := range all {
		h.put(cachedKey{k.Address, k.Variant}, k.Page, false)
	}
}

// Counts is what the page cache holds.
type Counts struct {
	Entries int `json:"entries"`
	Fresh   int `json:"fresh"`
	Stale   int `json:"stale"`
	Bytes   int `json:"bytes"`
}

// Status counts what is cached now.
func (l *Layer) Status() Counts {
	l.mu.RLock()
	defer l.mu.RUnlock()
	var c Counts
	for _, p := range l.cached.pages {
		c.Entries++
		c.Bytes += len(p.Body)
		if p.freshFor(l.now()) > 0 {
			c.Fresh++
		} else {
			c.Stale++
		}
	}
	return c
}

// Purge purges cached pages, or marks them stale, and says how many. Without addresses
// it concerns all of them; an address stands for all copies of its path and query.
func (l *Layer) Purge(urls []string, all, stale bool) int {
	l.mu.Lock()
	defer l.mu.Unlock()
	if all {
		return l.cached.concern(func(cachedKey) bool { return true }, stale)
	}
	n := 0
	p := l.policyLocked()
	for _, raw := range urls {
		if u, err := url.Parse(raw); err == nil {
			at := address(p, u)
			n += l.cached.concern(func(k cachedKey) bool { return k.address == at }, stale)
		}
	}
	return n
}
