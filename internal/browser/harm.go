package browser

import "fmt"

// How much a tab may be asked for before it is given up. No page that works comes near any of these.
const (
	mostSent      = 150 << 20 // bytes, unpacked
	mostLines     = 20_000    // on the console
	mostDialogs   = 100
	mostDocuments = 200 // one after the other, redirects too
)

// tooMuch counts something, and gives the tab up when it is more than most: with the page as the reason.
func (t *tab) tooMuch(count *int, n, most int, what string) {
	t.mu.Lock()
	*count += n
	over := *count > most && t.harm == nil
	if over {
		t.harm = fmt.Errorf("the page %s, and was given up", what)
	}
	t.mu.Unlock()
	if over {
		t.cancel()
	}
}

// harmed is why the tab was given up; nil when it was not.
func (t *tab) harmed() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.harm
}
