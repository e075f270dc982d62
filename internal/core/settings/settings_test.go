package settings

import (
	"encoding/json"
	"fmt"
	"math"
	"testing"

	"github.com/gowebpki/jcs"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// RFC 8785 §3.2.2 (its sample object) and §3.2.4 (the octets it has to become).
func TestFingerprintIsOfTheCanonicalFormOfRFC8785(t *testing.T) {
	sample := `{
     "numbers": [333333333.33333329, 1E30, 4.50, 2e-3, 0.000000000000000000000000001],
     "string": "\u20ac$\u000F\u000aA'\u0042\u0022\u005c\\\"\/",
     "literals": [null, true, false]
   }`
	want := "{\"literals\":[null,true,false],\"numbers\":[333333333.3333333,1e+30,4.5,0.002,1e-27],\"string\":\"€$\\u000f\\nA'B\\\"\\\\\\\\\\\"/\"}"
	got, err := jcs.Transform([]byte(sample))
	require.NoError(t, err)
	assert.Equal(t, want, string(got))
}

// RFC 8785 appendix B, IEEE 754 bits and their text.
func TestNumbersAreWrittenAsInRFC8785AppendixB(t *testing.T) {
	for bits, want := range map[uint64]string{
		0x0000000000000000: "0", 0x8000000000000000: "0", 0x0000000000000001: "5e-324", 0x8000000000000001: "-5e-324",
		0x7fefffffffffffff: "1.7976931348623157e+308", 0x4340000000000000: "9007199254740992", 0xc340000000000000: "-9007199254740992",
		0x4430000000000000: "295147905179352830000", 0x44b52d02c7e14af5: "9.999999999999997e+22", 0x44b52d02c7e14af6: "1e+23",
		0x44b52d02c7e14af7: "1.0000000000000001e+23", 0x444b1ae4d6e2ef4e: "999999999999999700000", 0x444b1ae4d6e2ef4f: "999999999999999900000",
		0x444b1ae4d6e2ef50: "1e+21", 0x3eb0c6f7a0b5ed8c: "9.999999999999997e-7", 0x3eb0c6f7a0b5ed8d: "0.000001",
		0x41b3de4355555553: "333333333.3333332", 0x41b3de4355555554: "333333333.33333325", 0x41b3de4355555555: "333333333.3333333",
		0x41b3de4355555556: "333333333.3333334", 0x41b3de4355555557: "333333333.33333343", 0xbecbf647612f3696: "-0.0000033333333333333333",
	} {
		got, err := jcs.NumberToJSON(math.Float64frombits(bits))
		require.NoError(t, err)
		assert.Equal(t, want, got, "%016x", bits)
	}
}

func TestTheSameValuesHaveTheSameFingerprintHoweverTheyWereWritten(t *testing.T) {
	a, err := ParseValues([]byte(`{"b": 36000, "a": ["/cart"], "c": true}`))
	require.NoError(t, err)
	b := Values{"c": true, "a": []string{"/cart"}, "b": int64(36000)}
	x, err := a.Fingerprint()
	require.NoError(t, err)
	y, err := b.Fingerprint()
	require.NoError(t, err)
	assert.Equal(t, x, y)
	assert.Len(t, x, 64)
	z, err := b.With(Values{"c": false}).Fingerprint()
	require.NoError(t, err)
	assert.NotEqual(t, x, z)
}

func limit(n int64) *int64 { return &n }

func catalogue() Catalogue {
	return Catalogue{Settings: []Definition{
		{Key: "a.hold", Title: "Hold", Type: Switch, Default: true, Role: "page-cache"},
		{Key: "a.store", Title: "Store", Type: Choice, Choices: []Option{{Value: "disk", Title: "On disk"}, {Value: "memory", Needs: []string{"memoryStore"}}}, Default: "disk", Role: "page-cache-store"},
		{Key: "a.life", Title: "Life", Type: Seconds, Min: limit(60), Max: limit(3600), Default: float64(600), Role: "page-cache-ttl"},
		{Key: "a.never", Title: "Never", Type: Patterns, Default: []any{}, Role: "path-exclude"},
		{Key: "a.note", Title: "Note", Type: Text, Default: "", Role: "other"},
		{Key: "b.delay", Title: "Delay", Type: Switch, Default: false, Role: "js-delay", Requires: []Condition{{Key: "a.hold", Equals: true, Why: "it is done when a page is cached"}},
			Conflicts: []Condition{{Key: "b.defer", Equals: true}}},
		{Key: "b.defer", Title: "Defer", Type: Switch, Default: false, Role: "js-defer"},
		{Key: "c.tidy", Title: "Tidy", Type: Switch, Default: false, Role: "tidy", Irreversible: true},
	}}
}

func TestValidateNamesEveryRefusedKeyAndWhatWouldDo(t *testing.T) {
	c := catalogue()
	require.NoError(t, c.Validate(c.Defaults()))
	for name, tc := range map[string]struct {
		edits Values
		want  string
	}{
		"a switch that is a text":      {Values{"a.hold": "yes"}, `a.hold: must be true or false, not "yes"`},
		"a choice that is none":        {Values{"a.store": "cloud"}, `a.store: must be one of disk, memory, not "cloud"`},
		"too few seconds":              {Values{"a.life": 5}, "a.life: must be at least 60 seconds, not 5"},
		"too many seconds":             {Values{"a.life": 3601}, "a.life: must be at most 3600 seconds, not 3601"},
		"half a second":                {Values{"a.life": 60.5}, "a.life: must be a whole number, not 60.5"},
		"one pattern instead of many":  {Values{"a.never": "/cart"}, `a.never: must be a list of patterns, not "/cart"`},
		"an empty pattern":             {Values{"a.never": []any{"/cart", ""}}, "a.never: pattern 2 is empty; it would match everything or nothing"},
		"a pattern that is a number":   {Values{"a.never": []any{3}}, "a.never: pattern 1 must be a text, not 3"},
		"a text that is a number":      {Values{"a.note": 3}, "a.note: must be a text, not 3"},
		"a key that the site has not":  {Values{"x.life": 3}, "x.life: this site has no setting of that name (did you mean a.life?)"},
		"null":                         {Values{"a.hold": nil}, "a.hold: must be true or false, not null"},
		"several at once, in order":    {Values{"a.hold": 1, "a.note": false}, "a.hold: must be true or false, not 1; a.note: must be a text, not false"},
		"a number beyond whole ones":   {Values{"a.life": 1e300}, "a.life: must be a whole number, not 1e+300"},
		"a long value is cut in words": {Values{"a.hold": fmt.Sprintf("%0100d", 7)}, "a.hold: must be true or false, not \"" + fmt.Sprintf("%056d", 0) + "…"},
	} {
		t.Run(name, func(t *testing.T) {
			err := c.Validate(c.Defaults().With(tc.edits))
			require.EqualError(t, err, tc.want)
		})
	}
	missing := c.Defaults()
	delete(missing, "a.note")
	require.EqualError(t, c.Validate(missing), "a.note: the value is missing")
}

func TestConsequencesSayWhatIsNeededAndMendIt(t *testing.T) {
	c := catalogue()
	v := c.Defaults().With(Values{"a.hold": false, "b.delay": true, "b.defer": true, "a.store": "memory", "c.tidy": true})
	got := map[ConsequenceKind]Consequence{}
	for _, q := range c.Consequences(v, Host{}) {
		got[q.Kind] = q
	}
	assert.Equal(t, "Delay works only when Hold is on: it is done when a page is cached", got[Requires].Text)
	assert.Equal(t, &Edit{"a.hold", true}, got[Requires].Mend)
	assert.Equal(t, "Delay collides with Defer being on.", got[Conflicts].Text)
	assert.Equal(t, &Edit{"b.defer", false}, got[Conflicts].Mend)
	assert.Equal(t, "Store needs a memory store, which this host does not have. “On disk” works here.", got[Needs].Text)
	assert.False(t, got[Irreversible].Blocks)
	mended := v.With(Values{"a.hold": true, "b.defer": false, "a.store": "disk", "c.tidy": false})
	assert.Empty(t, c.Consequences(mended, Host{}))
	assert.Empty(t, c.Consequences(c.Defaults().With(Values{"a.store": "memory"}), Host{Facts: Facts{"memoryStore": true}}))
}

func TestDiffListsExactlyWhatDiffers(t *testing.T) {
	a := Values{"x": 1, "y": []string{"/a"}, "gone": true}
	b := Values{"x": 1.0, "y": []any{"/a", "/b"}, "new": nil}
	d := Diff(a, b)
	require.Len(t, d, 3)
	assert.Equal(t, "gone", d[0].Key)
	assert.False(t, d[0].HasTo)
	assert.Equal(t, "new", d[1].Key)
	assert.True(t, d[1].HasTo && !d[1].HasFrom)
	assert.Equal(t, []any{"/a", "/b"}, d[2].To)
}

func TestApplyingADiffYieldsTheOtherSet(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		gen := rapid.MapOf(rapid.StringMatching(`[a-d]`), rapid.Float64Range(-3, 3))
		a, b := Values{}, Values{}
		for k, v := range gen.Draw(t, "a") {
			a[k] = math.Trunc(v)
		}
		for k, v := range gen.Draw(t, "b") {
			b[k] = math.Trunc(v)
		}
		got := a.Clone()
		for _, d := range Diff(a, b) {
			if d.HasTo {
				got[d.Key] = d.To
			} else {
				delete(got, d.Key)
			}
		}
		if len(Diff(got, b)) != 0 {
			t.Fatalf("%v with the diff to %v became %v", a, b, got)
		}
	})
}

func TestParseCatalogueRefusesWhatCannotBeWorkedWith(t *testing.T) {
	for name, tc := range map[string]struct{ raw, want string }{
		"no settings":          {`{"settings":[]}`, "lists no setting"},
		"not JSON":             {`<html>`, "not the JSON"},
		"a key twice":          {`{"settings":[{"key":"a","type":"switch","default":true},{"key":"a","type":"switch","default":true}]}`, `"a" is there twice`},
		"a bad key":            {`{"settings":[{"key":"A b","type":"switch","default":true}]}`, "not dotted camelCase"},
		"a bad default":        {`{"settings":[{"key":"a","type":"switch","default":3}]}`, "the default is refused"},
		"an unknown type":      {`{"settings":[{"key":"a","type":"colour","default":3}]}`, "not one of the protocol's"},
		"limits the wrong way": {`{"settings":[{"key":"a","type":"whole","min":5,"max":1,"default":3}]}`, "min 5 is above max 1"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := ParseCatalogue([]byte(tc.raw))
			require.ErrorContains(t, err, tc.want)
		})
	}
}

func TestParseValuesTakesOneObjectAndNothingElse(t *testing.T) {
	for _, raw := range []string{`null`, `[]`, `{} {}`, `{"a":`, ``} {
		_, err := ParseValues([]byte(raw))
		assert.Error(t, err, raw)
	}
	v, err := ParseValues([]byte(`{"a":[“"]}`))
	assert.Error(t, err, "%v", v)
}

func TestShownReadsAsAPersonWould(t *testing.T) {
	for want, v := range map[string]any{"on": true, "off": false, "3 patterns": []any{"a", "b", "c"}, `"/cart"`: []any{"/cart"}, "36000": float64(36000), "disk": "disk"} {
		assert.Equal(t, want, Shown(v))
	}
	life := Definition{Type: Seconds}
	for want, v := range map[string]any{"2 hours": float64(7200), "90 seconds": 90, "null": nil} {
		assert.Equal(t, want, life.Shown(v))
	}
	assert.Equal(t, "On disk", Definition{Type: Choice, Choices: []Option{{Value: "disk", Title: "On disk"}}}.Shown("disk"))
	assert.Equal(t, "off", Definition{Type: Switch}.Shown(false))
	raw, err := json.Marshal(Difference{Key: "a", From: nil, To: 3})
	require.NoError(t, err)
	assert.JSONEq(t, `{"key":"a","from":null,"to":3}`, string(raw))
}

func TestAnotherToolThatDoesTheSameWorkBlocksAndOneNearItWarns(t *testing.T) {
	c := catalogue()
	v := c.Defaults().With(Values{"b.delay": true, "b.defer": true})
	host := Host{Others: []Optimiser{{Name: "Theme", Does: []Role{"js-defer"}}}}
	var blocks, warns []Consequence
	for _, q := range c.Consequences(v, host) {
		if q.Kind == Collides && q.Blocks {
			blocks = append(blocks, q)
		} else if q.Kind == Collides {
			warns = append(warns, q)
		}
	}
	require.Len(t, blocks, 1)
	assert.Equal(t, "b.defer", blocks[0].Key)
	assert.Contains(t, blocks[0].Text, "“Theme” on this site does the same work already")
	assert.Equal(t, &Edit{"b.defer", false}, blocks[0].Mend)
	require.Len(t, warns, 1)
	assert.Equal(t, "b.delay", warns[0].Key)
	for _, q := range c.Consequences(c.Defaults(), host) {
		assert.NotEqual(t, Collides, q.Kind, "what is off collides with nothing: %s", q.Text)
	}
}

func TestWhatTheHostCannotCarrySaysWhatWouldDo(t *testing.T) {
	c := Catalogue{Settings: []Definition{
		{Key: "keep", Title: "Keep", Type: Switch, Default: false, Role: "browser-cache", Needs: []string{"rewriteRules"}},
		{Key: "sharp", Title: "Sharp", Type: Switch, Default: false, Role: "css-drop-unused", Needs: []string{"notShared"}},
		{Key: "tight", Title: "Tight styles", Type: Switch, Default: false, Role: "css-minify"},
	}}
	got := c.Lacking(Host{Facts: Facts{}})
	assert.Contains(t, got["keep"], "rewrite rules")
	assert.Contains(t, got["keep"], "in the server's configuration")
	assert.Contains(t, got["sharp"], "“Tight styles” works here")
	assert.NotContains(t, got, "tight")
	assert.Empty(t, c.Lacking(Host{Facts: Facts{"rewriteRules": true, "notShared": true}}))
}
