package evidence

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A host that nobody reaches is one finding for each look and one cause for all, whatever was to come from it; one that only Tide Marker
// did not reach says nothing of the site.
func TestAHostThatCannotBeReachedIsOneCause(t *testing.T) {
	look := func(page string, blocked bool, why string) PageLook {
		p := PageLook{Key: Key{page, "", "visitor", "desktop"}}
		for _, file := range []string{"/a.css", "/b.js", "/c.png", "/d.png"} {
			r := Request{URL: "http://files.example" + file, Kind: map[string]string{"/a.css": "stylesheet", "/b.js": "script"}[file], Unreachable: why, Blocked: blocked, Failed: why}
			if r.Kind == "" {
				r.Kind = "image"
			}
			p.Requests = append(p.Requests, r)
		}
		if why != "" {
			p.Errors = []ScriptError{{Message: "b is not defined", Source: "http://s.example/"}}
		}
		return p
	}
	base := NewBaseline(Look{Pages: []PageLook{look("/", false, ""), look("/kits", false, "")}}, nil)
	now := Look{Pages: []PageLook{look("/", false, "it refuses connections"), look("/kits", false, "it refuses connections")}}
	found, err := Compare(base, now, nil)
	require.NoError(t, err)
	found = Tie(base, now, found)
	causes := map[string]int{}
	for _, f := range found {
		causes[f.Cause]++
	}
	assert.Len(t, causes, 1, "%v", causes)
	assert.Len(t, found, 4, "one for the host and one for the error on each page: %v", found)
	Sort(found)
	assert.Equal(t, "files.example could not be reached", found[0].Title)
	assert.Equal(t, Broken, found[0].Severity)
	assert.Contains(t, found[0].Detail, "It refuses connections: 4 files.")

	ours := Look{Pages: []PageLook{look("/", true, "this machine has no route to its network")}}
	found, err = Compare(base, ours, nil)
	require.NoError(t, err)
	found = Tie(base, ours, found)
	Sort(found)
	assert.Equal(t, "files.example could not be reached from here", found[0].Title)
	assert.Equal(t, NotCheckedKind, found[0].Kind)
	assert.Equal(t, Broken, found[0].Severity, "an error comes of it")
	assert.Empty(t, found[0].Host, "it is one of the site's already")
	assert.Equal(t, "Not checked: files.example could not be reached from here.", Summarise(Judge(found, Progress{Planned: 1, Done: 1}), found, Progress{Planned: 1, Done: 1}))
	for _, f := range found[1:] {
		assert.Equal(t, Note, f.Severity, f.Title)
	}
}

func TestWhatALookLeftOutIsNoted(t *testing.T) {
	k := Key{"/", "", "visitor", "desktop"}
	base := NewBaseline(Look{Pages: []PageLook{{Key: k}}}, nil)
	found, err := ComparePage(base, PageLook{Key: k, Noted: []string{"The page is 52000 pixels tall; its first 30000 were looked at."}}, nil)
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Equal(t, Note, found[0].Severity)
	assert.Contains(t, found[0].Detail, "52000 pixels")
}
