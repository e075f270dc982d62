package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/people"
	"tidemarker/internal/core/site"
	"tidemarker/internal/testdb"
)

func TestABackupIsReadInAgain(t *testing.T) {
	bin, err := built()
	require.NoError(t, err)
	from, url := testdb.New(t)
	_, err = from.SaveSite(t.Context(), site.Site{Name: "One", Environments: []site.Environment{{Name: "production", URL: "https://one.example", Connector: &site.Connector{Kind: "http", URL: "https://one.example/c", Token: "t0ken"}}}}, false, "ada")
	require.NoError(t, err)
	_, err = from.AddPerson(t.Context(), "Ada", "hash", people.Administrator)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "backup.zip")
	code, out := cli(t, bin, url, "backup", file)
	require.Zero(t, code, out)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "for its owner alone")
	left, err := filepath.Glob(filepath.Join(filepath.Dir(file), ".tidemarker-*"))
	require.NoError(t, err)
	assert.Empty(t, left)

	empty := testdb.Empty(t)
	code, out = cli(t, bin, empty, "restore", file)
	require.Zero(t, code, out)
	assert.Contains(t, out, "1 sites")
	code, out = cli(t, bin, empty, "restore", file)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "read into an empty one")
	code, out = cli(t, bin, empty, "restore", filepath.Join(t.TempDir(), "none.zip"))
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "none.zip")
	code, out = cli(t, bin, url, "backup", "/nowhere/backup.zip")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "/nowhere")
}

func TestAKeyIsMadeKeptAndReplaced(t *testing.T) {
	bin, err := built()
	require.NoError(t, err)
	code, out := cli(t, bin, "", "key")
	require.Zero(t, code)
	newer := strings.TrimSpace(out)
	_, url := testdb.New(t)
	file := filepath.Join(t.TempDir(), "keys")
	require.NoError(t, os.WriteFile(file, []byte(newer+"\n"+testdb.Key+"\n"), 0o644))
	t.Setenv("TIDEMARKER_KEY_FILE", file)
	code, out = cli(t, bin, url, "reseal")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "chmod 600", "a key that others may read is refused")
	require.NoError(t, os.Chmod(file, 0o600))
	code, out = cli(t, bin, url, "reseal")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "Sealed with the first key: the secrets of 0")
	require.NoError(t, os.WriteFile(file, []byte("no key"), 0o600))
	code, out = cli(t, bin, url, "reseal")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "line 1 is not a key")
	assert.NotContains(t, out, "no key\n", "what is in the file is not shown")
}
