package browser

import (
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestChromiumIsConfined(t *testing.T) {
	t.Setenv("TIDEMARKER_KEY", "not for a browser")
	b, err := Start(Options{})
	require.NoError(t, err)
	how, home := b.Confinement(), b.launch.home.path
	seen := 0
	all := append(descendants(b.launch.PID()), b.launch.PID())
	for _, pid := range all {
		env, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", pid))
		if err != nil { // one of those that only help others to start
			continue
		}
		assert.NotContains(t, string(env), "not for a browser")
		cmd, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
		require.NoError(t, err)
		seen++
		assert.Equal(t, !how.Sandbox, strings.Contains(string(cmd), "--no-sandbox"), "what is said is so")
		if !how.Own {
			continue
		}
		u, err := user.Lookup(how.User)
		require.NoError(t, err)
		status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
		require.NoError(t, err)
		assert.Contains(t, string(status), fmt.Sprintf("Uid:\t%s\t%s\t%s\t%s\n", u.Uid, u.Uid, u.Uid, u.Uid))
	}
	assert.Greater(t, seen, 1)
	b.Close()
	assert.NoDirExists(t, home)
	if os.Geteuid() == 0 {
		assert.True(t, how.Own || how.Why != "", "root's Chromium is somebody else's, or it is said why not")
	}
}

func TestAWayThatDoesNotWorkIsToldAndTheNextTried(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("TMPDIR", t.TempDir())
	real, err := Find()
	require.NoError(t, err)
	// A system whose Chromium can have no sandbox: it ends at once unless it is told to do without.
	picky := filepath.Join(dir, "picky")
	require.NoError(t, os.WriteFile(picky, fmt.Appendf(nil, "#!/bin/sh\ncase \"$*\" in *--no-sandbox*) exec %s \"$@\";; esac\necho 'No usable sandbox!' >&2\nexit 1\n", real), 0o755)) //nolint:gosec // it is run
	r, err := start(picky, []Confinement{{User: "us", Sandbox: true}, {User: "us"}})
	require.NoError(t, err)
	assert.False(t, r.how.Sandbox)
	assert.Contains(t, r.how.String(), "as us, without its sandbox")
	assert.Contains(t, r.how.Why, "No usable sandbox!")

	r.end()
	_, err = start(filepath.Join(dir, "missing"), []Confinement{{User: "us", Sandbox: true}, {User: "us"}})
	require.Error(t, err)
	left, err := os.ReadDir(os.TempDir())
	require.NoError(t, err)
	for _, l := range left {
		assert.NotContains(t, l.Name(), homePrefix, "what did not start, or has ended, left nothing behind")
	}
}

func TestWaysEndWithOneThatAlwaysWorks(t *testing.T) {
	list := ways()
	last := list[len(list)-1]
	assert.False(t, last.Sandbox || last.Own)
	if os.Geteuid() != 0 {
		assert.True(t, list[0].Sandbox)
	}
}

// A home stays for as long as its process lives, and goes when the next Chromium starts after that one was killed.
func TestHomesOfKilledProcessesAreSwept(t *testing.T) {
	in := t.TempDir()
	alive, err := newHome(in)
	require.NoError(t, err)
	dead, err := newHome(in)
	require.NoError(t, err)
	require.NoError(t, dead.lock.Close()) // as the system does when a process ends
	making, old := filepath.Join(in, homePrefix+"making"), filepath.Join(in, homePrefix+"old")
	for _, d := range []string{making, old} {
		require.NoError(t, os.Mkdir(d, 0o700))
	}
	long := time.Now().Add(-2 * unlocked)
	require.NoError(t, os.Chtimes(old, long, long))
	sweep(in)
	assert.DirExists(t, alive.path)
	assert.DirExists(t, making, "somebody is just making it")
	assert.NoDirExists(t, dead.path)
	assert.NoDirExists(t, old)
	alive.remove()
	assert.NoDirExists(t, alive.path)
}
