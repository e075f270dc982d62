package site

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const guarded = `
site: Guarded
environments: [{ name: staging, url: "http://127.0.0.1:1", connector: { kind: http, url: "http://127.0.0.1:1/c", token: hush-token } }, { name: production, url: "https://guarded.example" }]
personas:
  - { name: ada, kind: member, prepare: [{ fill: { in: { label: Name }, value: ada } }, { fill: { in: { label: Password }, value: hush-ada } }], signOut: [{ click: "#out" }] }
  - { name: bo, kind: editor, prepare: [{ fill: { in: { label: Password }, value: hush-bo } }] }
pages: [{ path: / }]
journeys: [{ name: in, steps: [{ fill: { in: { label: Word }, value: hush-word, secret: true } }] }]
publishing: [{ name: lead, steps: [{ fill: { in: "#lead", value: "{canary}" } }, { fill: { in: "input[type=password]", value: hush-lead } }], shows: [{ page: / }] }]
`

func TestASiteGoesOutWithoutItsSecretsAndComesInAgain(t *testing.T) {
	s, err := Parse([]byte(guarded))
	require.NoError(t, err)
	require.NoError(t, s.Complete())
	raw, err := json.Marshal(s.Redacted())
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "hush")
	assert.Equal(t, "hush-ada", s.Personas[0].Prepare[1].Fill.Value, "the site given stays as it is")
	assert.Equal(t, "hush-token", s.Environments[0].Connector.Token)

	back, err := Parse(raw)
	require.NoError(t, err, "what goes out is a site file")
	lacking := &MissingSecret{}
	require.ErrorAs(t, back.Complete(), &lacking)
	assert.Equal(t, []string{"the field “Password”, getting ready as ada", "the field “Password”, getting ready as bo", "the field “Word”, the journey “in”", "input[type=password], publishing “lead”"}, lacking.Fields)
	back = back.WithSecretsFrom(s)
	require.NoError(t, back.Complete())
	assert.Equal(t, s.WithoutTokens(), back)
}

func TestASecretGoesToNobodyElse(t *testing.T) {
	s, err := Parse([]byte(guarded))
	require.NoError(t, err)
	for name, change := range map[string]func(*Site){
		"another address":      func(s *Site) { s.Environments[0].URL = "http://elsewhere.example" },
		"a further host":       func(s *Site) { s.Environments[1].Hosts = []string{"elsewhere.example"} },
		"a further place":      func(s *Site) { s.Environments[0].Name = "elsewhere" },
		"under another's name": func(s *Site) { s.Personas = []Persona{{Name: "eve", Kind: "member", Prepare: s.Personas[0].Prepare}} },
	} {
		out := s.Redacted()
		change(&out)
		require.Error(t, out.WithSecretsFrom(s).Complete(), name)
	}
}
