package main

import (
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/site"
	"tidemarker/internal/testdb"
)

// On the local database the commands ask the same API as on a server, in this process, and what they do is recorded under the name
// of whoever has the database.
func TestTheCommandLineWorksOnTheLocalDatabase(t *testing.T) {
	st, url := testdb.New(t)
	_, err := st.SaveSite(t.Context(), site.Site{Name: "Fernhollow", Environments: []site.Environment{{Name: "production", URL: "http://127.0.0.1:1"}},
		Pages: []site.Page{{Path: "/", Personas: []string{site.Visitor}, Devices: []string{site.Phone}}}}, false, "tester")
	require.NoError(t, err)
	bin, err := built()
	require.NoError(t, err)
	do := func(args ...string) (string, string, error) {
		cmd := exec.Command(bin, args...)
		cmd.Env = append(os.Environ(), "DATABASE_URL="+url, "TIDEMARKER_KEY="+testdb.Key, "TIDEMARKER_SERVER=")
		out, err := cmd.Output()
		said := ""
		if exit, is := errors.AsType[*exec.ExitError](err); is {
			said = string(exit.Stderr)
		}
		return string(out), said, err
	}
	out, said, err := do("freezes", "add", "--site", "Fernhollow", "--title", "Sale", "--from", "2026-12-01T00:00", "--to", "2026-12-02T00:00", "--zone", "UTC", "--json")
	require.NoError(t, err, said)
	var made struct {
		ID     int64
		MadeBy string
	}
	require.NoError(t, json.Unmarshal([]byte(out), &made))
	assert.Contains(t, made.MadeBy, "(command line)")
	_, said, err = do("change", "list", "--site", "Nowhere")
	require.Error(t, err)
	assert.Contains(t, said, `there is no site "Nowhere". There are: "Fernhollow"`)
	_, said, err = do("change", "list", "--site", "Fernhollow", "--server", "http://127.0.0.1:1")
	require.Error(t, err)
	assert.Contains(t, said, "does not answer")

	folder := filepath.Join(t.TempDir(), "man")
	_, said, err = do("man", folder)
	require.NoError(t, err, said)
	page, err := os.ReadFile(filepath.Join(folder, "tidemarker-change-promote.1"))
	require.NoError(t, err)
	assert.Contains(t, string(page), "production gets what was checked")
	out, said, err = do("completion", "bash")
	require.NoError(t, err, said)
	assert.Contains(t, out, "tidemarker")
}
