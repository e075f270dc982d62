package exclusion

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// RFC 9309 §2.2.3, the examples of special characters, and the table of §2.2.2 for
// percent-encoding. The rows about fish are the worked examples that accompany the
// standard (from memory).
func TestPathsMatchAsInRFC9309(t *testing.T) {
	for _, tc := range []struct {
		pattern, path string
		want          bool
	}{
		{"/", "/anything", true},
		{"/foo/bar?baz=quz", "/foo/bar?baz=quz", true},
		{"/foo/bar?baz=https://foo.bar", "/foo/bar?baz=https%3A%2F%2Ffoo.bar", false}, // a reserved octet is not the encoded one
		{"/foo/bar/ツ", "/foo/bar/%E3%83%84", true},
		{"/foo/bar/%E3%83%84", "/foo/bar/%E3%83%84", true},
		{"/foo/bar/%e3%83%84", "/foo/bar/ツ", true},
		{"/foo/bar/%62%61%7A", "/foo/bar/baz", true},
		{"/foo/bar/baz", "/foo/bar/%62%61%7A", true},
		{"/path/file-with-a-%2A.html", "/path/file-with-a-*.html", true},
		{"/path/file-with-a-%2A.html", "/path/file-with-a-%2A.html", true},
		{"/path/foo-%24", "/path/foo-$", true},
		{"/path/foo-$x", "/path/foo-$x", true}, // only a final one anchors
		{"/path/foo$", "/path/foo$", false},
		{"/this/path/exactly$", "/this/path/exactly", true},
		{"/this/path/exactly$", "/this/path/exactly/not", false},
		{"/this/*/exactly", "/this/path/exactly", true},
		{"*.gif$", "/pictures/a.gif", true},
		{"*.gif$", "/pictures/a.gif?x=1", false},
		{"/fish", "/fish.html", true},
		{"/fish", "/fish/salmon.html", true},
		{"/fish", "/Fish.asp", false},
		{"/fish", "/catfish", false},
		{"/fish", "/desert/fish", false},
		{"/fish*", "/fishheads/yummy.html", true},
		{"/fish/", "/fish", false},
		{"/fish/", "/fish/?id=anything", true},
		{"/*.php", "/folder/filename.php?parameters", true},
		{"/*.php", "/windows.PHP", false},
		{"/*.php$", "/filename.php/", false},
		{"/fish*.php", "/fishheads/catfish.php?parameters", true},
		{"/cart", "/cart?item=1", true},
		{"", "/", false},
	} {
		assert.Equal(t, tc.want, MatchPath(tc.pattern, tc.path), "%q on %q", tc.pattern, tc.path)
	}
}

// RFC 9309 §2.2.2: "the most specific match found MUST be used", by octets.
func TestMoreOctetsWeighMore(t *testing.T) {
	assert.Greater(t, PathOctets("/example/page/disallowed.gif"), PathOctets("/example/page/"))
	assert.Equal(t, len("/%E3%83%84"), PathOctets("/ツ"))
	assert.Equal(t, PathOctets("/a"), PathOctets("/%61"))
}

func TestOtherKindsMatchAsTheProtocolSays(t *testing.T) {
	assert.True(t, MatchName("utm_*", "utm_source"))
	assert.False(t, MatchName("utm_*", "UTM_source"), "letter case counts")
	assert.False(t, MatchName("q", "query"), "the whole name")
	assert.True(t, MatchPart("menu.js", "https://a.example/assets/menu.js?v=2"))
	assert.True(t, MatchPart("Fern.*season", "Fern.config({ season: 1 })"))
	assert.False(t, MatchPart("Menu.js", "/assets/menu.js"))
	assert.True(t, MatchAgent("probe*bot", "Mozilla (X11) ProbeRobot/2"))
	for _, match := range []func(string, string) bool{MatchName, MatchPart, MatchAgent} {
		assert.False(t, match("", "anything"), "an empty pattern stands for nothing")
	}
}

func TestGlobAgreesWithARegularExpression(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		pattern := rapid.StringMatching(`[ab*]{0,8}`).Draw(t, "pattern")
		text := rapid.StringMatching(`[ab]{0,10}`).Draw(t, "text")
		re := regexp.MustCompile("^" + strings.ReplaceAll(regexp.QuoteMeta(pattern), `\*`, ".*") + "$")
		if re.MatchString(text) != glob(pattern, text) {
			t.Fatalf("%q on %q", pattern, text)
		}
	})
}
