package survey

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParitySaysInWhatTwoEnvironmentsDiffer(t *testing.T) {
	side := func() Side {
		return Side{Facts: map[string]string{"hosting": "shared"}, Catalogue: map[string]string{"lazy": "switch"}, Settings: map[string]string{"lazy": "off"},
			Pages: []string{"/", "/kits"}, Assets: map[string]string{"/a.js": "v1"}}
	}
	assert.Empty(t, Parity(side(), side()))
	assert.Equal(t, "staging and production are alike.", AlikeInWords("staging", "production", nil))
	for name, tc := range map[string]struct {
		change func(*Side)
		want   Unlike
		says   string
	}{
		"another host":              {func(s *Side) { s.Facts["hosting"] = "dedicated" }, Unlike{"host", "hosting", "shared", "dedicated", true}, "1 fact of the host"},
		"a setting only one has":    {func(s *Side) { s.Catalogue["new"] = "switch" }, Unlike{"catalogue", "new", "not there", "switch", true}, "1 setting only one has"},
		"an older script":           {func(s *Side) { s.Assets["/a.js"] = "v0" }, Unlike{"files", "/a.js", "v1", "v0", true}, "1 script or style"},
		"a page that is missing":    {func(s *Side) { s.Pages = s.Pages[:1] }, Unlike{"pages", "/kits", "there", "not there", true}, "1 page"},
		"a value, which is allowed": {func(s *Side) { s.Settings["lazy"] = "on" }, Unlike{"settings", "lazy", "off", "on", false}, "1 value"},
	} {
		t.Run(name, func(t *testing.T) {
			other := side()
			tc.change(&other)
			got := Parity(side(), other)
			require.Equal(t, []Unlike{tc.want}, got)
			assert.Contains(t, AlikeInWords("staging", "production", got), tc.says)
		})
	}
}

func TestParityWithoutASitemapSaysNothingOfPages(t *testing.T) {
	assert.Empty(t, Parity(Side{Pages: []string{"/"}}, Side{}))
}

func TestParityOfTwoLargeSitesIsBounded(t *testing.T) {
	var a, b Side
	for n := range 5000 {
		a.Pages = append(a.Pages, fmt.Sprintf("/a/%d", n))
		b.Pages = append(b.Pages, fmt.Sprintf("/b/%d", n))
	}
	assert.Len(t, Parity(a, b), mostUnlike)
}
