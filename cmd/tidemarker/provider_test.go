package main

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/people"
)

func TestAProviderIsReadFromTheEnvironment(t *testing.T) {
	file := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(file, []byte("hush\n"), 0o600))
	whole := map[string]string{issuerVariable: "https://id.example.org", clientVariable: "tide", clientSecretFile: file, rolesVariable: "web team=maintainer, leads=approver, "}
	with := func(changes ...string) func(string) string {
		env := map[string]string{}
		for k, v := range whole {
			env[k] = v
		}
		for i := 0; i < len(changes); i += 2 {
			env[changes[i]] = changes[i+1]
		}
		return func(name string) string { return env[name] }
	}
	p, err := providerOf(with())
	require.NoError(t, err)
	assert.Equal(t, "hush", p.ClientSecret)
	assert.Equal(t, "id.example.org", p.Name)
	assert.Equal(t, "groups", p.Claim)
	assert.Equal(t, map[string]people.Role{"web team": people.Maintainer, "leads": people.Approver}, p.Roles)
	p, err = providerOf(with(issuerVariable, ""))
	require.NoError(t, err)
	assert.Nil(t, p)
	for why, changes := range map[string][]string{
		"HTTPS address": {issuerVariable, "http://id.example.org"}, "is missing: the provider's name": {clientVariable, ""},
		"no such file": {clientSecretFile, file + ".not"}, "There are: observer": {rolesVariable, "leads=owner"}, "which role each value": {rolesVariable, ""},
	} {
		_, err := providerOf(with(changes...))
		require.ErrorContains(t, err, why)
	}
}
