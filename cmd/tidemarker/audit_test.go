package main

import (
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/site"
	"tidemarker/internal/testdb"
)

func TestWhetherTheHistoryIsWholeIsToldByTheCommandLine(t *testing.T) {
	st, url := testdb.New(t)
	row, err := st.SaveSite(t.Context(), site.Site{Name: "Fernhollow", Environments: []site.Environment{{Name: "production", URL: "http://127.0.0.1:1"}}}, false, "tester")
	require.NoError(t, err)
	bin, err := built()
	require.NoError(t, err)
	verify := func(args ...string) (int, string) {
		cmd := exec.Command(bin, append([]string{"audit", "verify"}, args...)...)
		cmd.Env = append(os.Environ(), "DATABASE_URL="+url, "TIDEMARKER_KEY="+testdb.Key)
		out, err := cmd.Output()
		if exit, is := errors.AsType[*exec.ExitError](err); is {
			return exit.ExitCode(), string(out)
		}
		require.NoError(t, err)
		return 0, string(out)
	}
	code, out := verify()
	assert.Zero(t, code)
	assert.Regexp(t, `Fernhollow +1 entries, last [0-9a-f]{16} +whole`, out)
	_, err = st.Pool.Exec(t.Context(), `ALTER TABLE history DISABLE TRIGGER history_kept; UPDATE history SET who = 'nobody'`)
	require.NoError(t, err)
	code, out = verify("--json")
	assert.Equal(t, 1, code)
	var all []struct {
		Site   int64
		Broken string
	}
	require.NoError(t, json.Unmarshal([]byte(out), &all))
	require.Len(t, all, 2)
	assert.Equal(t, row.ID, all[1].Site)
	assert.Contains(t, all[1].Broken, "at place 1")
	assert.Empty(t, all[0].Broken)
}
