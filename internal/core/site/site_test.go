package site

import (
	"net/url"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const small = `
site: Small
environments: [{ name: staging, url: "http://127.0.0.1:1" }, { name: production, url: "https://small.example", hosts: [cdn.small.example] }]
personas: [{ name: ada, kind: member }]
pages: [{ path: / }, { path: /desk, class: account, personas: [visitor, ada], devices: [phone] }]
journeys:
  - { name: everywhere, steps: [{ go: / }] }
  - { name: orders, persona: ada, where: [staging], devices: [desktop, phone], steps: [{ go: /desk }, { click: "#buy" }, { expect: { visible: { role: heading, name: Done } } }] }
`

func TestASiteFileIsReadWithItsDefaults(t *testing.T) {
	s, err := Parse([]byte(small))
	require.NoError(t, err)
	p, ok := s.Page("/")
	require.True(t, ok)
	assert.Equal(t, "other", p.Class)
	assert.Equal(t, []string{Visitor}, p.Personas)
	assert.Equal(t, []string{Desktop, Phone}, p.Devices)
	assert.Equal(t, []string{Desktop}, s.Journeys[0].Devices)
	assert.Equal(t, "#buy", s.Journeys[1].Steps[1].Click.CSS)
	assert.Equal(t, "Done", s.Journeys[1].Steps[2].Expect.Visible.Name)
}

func TestNothingIsPublishedOnProduction(t *testing.T) {
	s := Site{Environments: []Environment{{Name: "staging"}, {Name: "production"}}, Publishing: []PublishingTest{{Name: "a new lead"}}}
	assert.Len(t, s.PublishingTestsOn("staging"), 1)
	assert.Empty(t, s.PublishingTestsOn("production"))
	assert.Empty(t, s.PublishingTestsOn("elsewhere"))
	s.Environments = s.Environments[1:]
	assert.Empty(t, s.PublishingTestsOn("production"), "a sole environment is where visitors are, unless it says otherwise")
	s.Environments[0].Role = Staging
	assert.Len(t, s.PublishingTestsOn("production"), 1, "its role counts, not its name or place")
}

func TestRolesAreSaidOrMeantInOneWay(t *testing.T) {
	roles := func(envs ...Environment) (out []Role) {
		for _, e := range (Site{Environments: envs}).WithRoles().Environments {
			out = append(out, e.Role)
		}
		return out
	}
	assert.Equal(t, []Role{Staging, OtherRole, Production}, roles(Environment{Name: "a"}, Environment{Name: "b"}, Environment{Name: "c"}), "the order says it where nothing else does")
	assert.Equal(t, []Role{Production, Staging}, roles(Environment{Name: "live", Role: Production}, Environment{Name: "trial", Role: Staging}), "the order means nothing once it is said")
	assert.Equal(t, []Role{OtherRole, Production}, roles(Environment{Name: "a"}, Environment{Name: "b", Role: Production}))
	assert.Equal(t, []Role{Staging}, roles(Environment{Name: "staging"}))
	assert.Equal(t, []Role{Production}, roles(Environment{Name: "shop"}))
	_, err := Parse([]byte(`{"site":"S","environments":[{"name":"a","url":"http://a.example","role":"production"},{"name":"b","url":"http://b.example","role":"production"}],"pages":[{"path":"/"}]}`))
	assert.ErrorContains(t, err, `"a" and "b" have the role production`)
	before := Site{Environments: []Environment{{Name: "a"}, {Name: "b"}}}.WithRoles()
	after := Site{Environments: []Environment{{Name: "b"}, {Name: "a"}}}.WithRoles()
	assert.Equal(t, []RoleChange{{"b", Production, Staging}, {"a", Staging, Production}}, RoleChanges(before, after), "two entries that were swapped change places")
	assert.ErrorContains(t, &RolesChanged{RoleChanges(before, after)}, "b would become staging (it is production)")
}

func TestACacheSignalThatCannotBeReadIsRefusedInTheFile(t *testing.T) {
	_, err := Parse([]byte(`{"site":"S","environments":[{"name":"a","url":"http://a.example","cacheSignal":{"kind":"marker","marker":"("}}],"pages":[{"path":"/"}]}`))
	assert.ErrorContains(t, err, "environments[0].cacheSignal")
	s, err := Parse([]byte(`{"site":"S","environments":[{"name":"a","url":"http://a.example","cacheSignal":{"kind":"header","header":"X-Store","hit":["HIT"]}}],"pages":[{"path":"/"}]}`))
	require.NoError(t, err)
	assert.Equal(t, "X-Store", s.Environments[0].Signal().Header)
}

func TestThePlanKeepsJourneysWhereTheyMayRun(t *testing.T) {
	s, err := Parse([]byte(small))
	require.NoError(t, err)
	staging, production := s.Plan("staging"), s.Plan("production")
	assert.Len(t, staging.Pages, 4, "/ on two devices, /desk as two people on one")
	assert.Len(t, staging.Journeys, 3)
	assert.Len(t, production.Journeys, 1, "orders are not placed on production")
	assert.Equal(t, 7, staging.Size())
}

func TestOnlyRegisteredHostsAreTheSites(t *testing.T) {
	s, err := Parse([]byte(small))
	require.NoError(t, err)
	production := s.Environments[1]
	for address, want := range map[string]bool{
		"https://small.example/a": true, "https://SMALL.example/": true, "https://cdn.small.example/x.js": true, "http://cdn.small.example:8080/": true,
		"https://evil.example/": false, "https://small.example.evil.example/": false, "https://small.example:8443/": false,
		"file:///etc/passwd": false, "javascript:alert(1)": false, "ws://small.example/": false,
	} {
		u, err := url.Parse(address)
		require.NoError(t, err)
		assert.Equal(t, want, production.Owns(u), address)
	}
}

func TestWhatDoesNotFitIsNamedWithItsPlace(t *testing.T) {
	for name, tc := range map[string]struct{ file, want string }{
		"an unknown member":         {"site: A\nenvironments: [{name: a, url: 'http://a'}]\npages: [{path: /}]\ncolour: red", "colour"},
		"no pages":                  {"site: A\nenvironments: [{name: a, url: 'http://a'}]", "pages"},
		"a path without a slash":    {"site: A\nenvironments: [{name: a, url: 'http://a'}]\npages: [{path: kits}]", "/pages/0/path"},
		"a class that is none":      {"site: A\nenvironments: [{name: a, url: 'http://a'}]\npages: [{path: /, class: shop}]", "/pages/0/class"},
		"a step that is two":        {"site: A\nenvironments: [{name: a, url: 'http://a'}]\npages: [{path: /}]\njourneys: [{name: j, steps: [{go: /, press: Enter}]}]", "/journeys/0/steps/0"},
		"an address that is none":   {"site: A\nenvironments: [{name: a, url: 'ftp://a'}]\npages: [{path: /}]", "not an http or https address"},
		"a persona that is none":    {"site: A\nenvironments: [{name: a, url: 'http://a'}]\npages: [{path: /, personas: [ada]}]", `no persona "ada"`},
		"a page twice":              {"site: A\nenvironments: [{name: a, url: 'http://a'}]\npages: [{path: /}, {path: /}]", "there twice"},
		"a place that is none":      {"site: A\nenvironments: [{name: a, url: 'http://a'}]\npages: [{path: /}]\njourneys: [{name: j, where: [b], steps: [{go: /}]}]", `no environment "b"`},
		"a connector without url":   {"site: A\nenvironments: [{name: a, url: 'http://a', connector: {kind: http}}]\npages: [{path: /}]", "needs a url"},
		"an edit without a word":    {"site: A\nenvironments: [{name: a, url: 'http://a'}]\npages: [{path: /}]\npublishing: [{name: e, steps: [{go: /}], shows: [{page: /}]}]", "no step fills in {canary}"},
		"an edit shown nowhere":     {"site: A\nenvironments: [{name: a, url: 'http://a'}]\npages: [{path: /}]\npublishing: [{name: e, steps: [{fill: {in: '#a', value: '{canary}'}}], shows: [{page: /b}]}]", `"/b" is not one of the pages`},
		"an edit by nobody":         {"site: A\nenvironments: [{name: a, url: 'http://a'}]\npages: [{path: /}]\npublishing: [{name: e, persona: ida, steps: [{fill: {in: '#a', value: '{canary}'}}], shows: [{page: /}]}]", `no persona "ida"`},
		"a form that lives no time": {"site: A\nenvironments: [{name: a, url: 'http://a'}]\npages: [{path: /, formLives: 0}]", "/pages/0/formLives"},
		"neither YAML nor JSON":     {"site: [", "neither YAML nor JSON"},
		"something else than this":  {"- 1\n- 2", "does not fit"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := Parse([]byte(tc.file))
			require.ErrorContains(t, err, tc.want)
		})
	}
}

func TestTheDemosSiteFileFits(t *testing.T) {
	raw, err := os.ReadFile("../../../demo/fernhollow.yaml")
	require.NoError(t, err)
	s, err := Parse(raw)
	require.NoError(t, err)
	assert.Equal(t, "Fernhollow", s.Name)
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(small))
	f.Add([]byte("site: A\nenvironments: []\npages: []"))
	f.Add([]byte(`{"site":"A","environments":[{"name":"s","url":"http://a.example"}],"pages":[{"path":"/"}]}`))
	f.Add([]byte("&a [*a]"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		s, err := Parse(raw)
		if err != nil {
			return
		}
		if s.Name == "" || len(s.Environments) == 0 {
			t.Fatalf("a site without a name or an environment was let through: %q", raw)
		}
		if err := s.Check(); err != nil {
			t.Fatalf("what was read cannot be read again: %v", err)
		}
	})
}

func TestAPathCanBeAskedForAnew(t *testing.T) {
	assert.Equal(t, "/a?tide-marker-look=7", Uncached("/a", "7"))
	assert.Equal(t, "/a?b=1&tide-marker-look=7#c", Uncached("/a?b=1#c", "7"))
}
