package settings

import (
	"encoding/json"
	"strings"
	"testing"

	jsonpatch "github.com/evanphx/json-patch/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The document of RFC 6901 §5, and what its pointers evaluate to.
const rfc6901 = `{"foo": ["bar", "baz"], "": 0, "a/b": 1, "c%d": 2, "e^f": 3, "g|h": 4, "i\\j": 5, "k\"l": 6, " ": 7, "m~n": 8}`

func TestLeavesAreNamedByJSONPointer(t *testing.T) {
	e, err := ParseExported([]byte(rfc6901))
	require.NoError(t, err)
	assert.Equal(t, Values{"/foo": []any{"bar", "baz"}, "/": 0.0, "/a~1b": 1.0, "/c%d": 2.0, "/e^f": 3.0, "/g|h": 4.0, `/i\j`: 5.0, `/k"l`: 6.0, "/ ": 7.0, "/m~0n": 8.0}, e.Values)
	assert.Equal(t, "/a~1b/m~0n", Pointer("a/b", "m~n"))
	assert.Equal(t, "~1", unescape("~01"), "RFC 6901 §4: ~01 is ~1, not /")
}

func TestNestedListsAreGoneIntoAndListsOfTextsAreOneValue(t *testing.T) {
	e, err := ParseExported([]byte(`{"cache": {"on": true, "not": ["/cart", "/pay"], "none": [], "deep": {}}, "rules": [{"path": "/a", "ttl": 0.5}, null]}`))
	require.NoError(t, err)
	assert.Equal(t, Values{"/cache/on": true, "/cache/not": []any{"/cart", "/pay"}, "/cache/none": []any{}, "/cache/deep": "{}", "/rules/0/path": "/a", "/rules/0/ttl": "0.5", "/rules/1": "null"}, e.Values)
	c := CatalogueOf(e.Values)
	types := map[string]Type{}
	for _, d := range c.Settings {
		types[d.Key] = d.Type
	}
	assert.Equal(t, map[string]Type{"/cache/on": Switch, "/cache/not": Patterns, "/cache/none": Patterns, "/cache/deep": Text, "/rules/0/path": Text, "/rules/0/ttl": Text, "/rules/1": Text}, types)
	d, _ := c.Find("/cache/on")
	assert.Equal(t, "cache", d.Group)
}

func TestLinesOfKeyAndValue(t *testing.T) {
	e, err := ParseExported([]byte("# of the hill's own tool\nlevel = 3\nname: \"late pictures\"\n\n[Cache]\nenabled = yes\nttl=3600\nnot = /cart, /pay\nid = 007\n"))
	require.NoError(t, err)
	assert.Equal(t, Values{"/level": 3.0, "/name": "late pictures", "/Cache/enabled": true, "/Cache/ttl": 3600.0, "/Cache/not": "/cart, /pay", "/Cache/id": "007"}, e.Values)
	for text, want := range map[string]string{
		"":                      "is empty",
		"a = 1\nwhatever":       "line 2 is neither",
		"a = 1\na = 2":          `line 2: "a" is there twice`,
		"[x]\na=1\n[x]\n":       `line 3: "x" is there twice`,
		"{\n\"a\": 1,\n}":       "line 3 is not JSON",
		"# nothing but remarks": "has no value",
	} {
		_, err := ParseExported([]byte(text))
		assert.ErrorContains(t, err, want, "%q", text)
	}
	_, err = ParseExported([]byte(strings.Repeat("x", exportLimit+1)))
	assert.ErrorContains(t, err, "more than 4 MiB")
}

// The patches are compared with another library that applies them, and against RFC
// 6902's appendix A (from memory): A.1, A.2, A.3, A.4, A.5, A.8 by what they make of
// their documents.
func TestThePatchMakesOneDocumentTheOther(t *testing.T) {
	for _, tc := range [][2]string{
		{`{"foo": "bar"}`, `{"baz": "qux", "foo": "bar"}`},
		{`{"foo": ["bar", "baz"]}`, `{"foo": ["bar", "qux", "baz"]}`},
		{`{"baz": "qux", "foo": "bar"}`, `{"foo": "bar"}`},
		{`{"foo": ["bar", "qux", "baz"]}`, `{"foo": ["bar", "baz"]}`},
		{`{"baz": "qux", "foo": "bar"}`, `{"baz": "boo", "foo": "bar"}`},
		{`{"foo": "bar"}`, `{"foo": "bar", "child": {"grandchild": {}}}`},
		{`{"/": 9, "~1": 10}`, `{"/": 9, "~1": 11}`},
		{rfc6901, `{}`},
	} {
		patch, err := Patch(json.RawMessage(tc[0]), json.RawMessage(tc[1]))
		require.NoError(t, err)
		decoded, err := jsonpatch.DecodePatch(patch)
		require.NoError(t, err)
		got, err := decoded.Apply([]byte(tc[0]))
		require.NoError(t, err, string(patch))
		assert.JSONEq(t, tc[1], string(got))
	}
	same, err := Patch(json.RawMessage(`{"a": [1]}`), json.RawMessage(`{"a":[1]}`))
	require.NoError(t, err)
	assert.JSONEq(t, "[]", string(same))
}

func FuzzParseExported(f *testing.F) {
	for _, seed := range []string{rfc6901, "a = 1\n[b]\nc: yes", "[", "{\"a\":{\"b\":[{}]}}", "\ufeff{}", "[x]=1"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		e, err := ParseExported(raw)
		if err != nil {
			return
		}
		c := CatalogueOf(e.Values)
		if len(c.Settings) != len(e.Values) {
			t.Fatalf("%d settings of %d values", len(c.Settings), len(e.Values))
		}
		if err := c.Validate(e.Values); err != nil {
			t.Fatalf("its own values are refused: %v", err)
		}
		if _, err := e.Values.Fingerprint(); err != nil {
			t.Fatalf("no fingerprint: %v", err)
		}
		again, err := ParseExported(e.Document)
		if err == nil && len(Diff(e.Values, again.Values)) > 0 {
			t.Fatalf("the document reads otherwise: %v", Diff(e.Values, again.Values))
		}
	})
}
