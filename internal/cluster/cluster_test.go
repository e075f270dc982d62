package cluster

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// folder is one that the server's user can reach.
func folder(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("/var/tmp", "tidemarker-cluster-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	return filepath.Join(dir, "postgres")
}

func start(t *testing.T, dir string) *Cluster {
	t.Helper()
	c, err := Start(t.Context(), dir, Options{Fleeting: true})
	require.NoError(t, err)
	return c
}

func connect(t *testing.T, c *Cluster) *pgx.Conn {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), c.URL())
	require.NoError(t, err)
	return conn
}

// TestAClusterIsStartedJoinedLeftAndFoundAgain: the demo twice in a row, two programs on
// one folder, and a machine that failed.
func TestAClusterIsStartedJoinedLeftAndFoundAgain(t *testing.T) {
	ctx := t.Context()
	dir := folder(t)
	first := start(t, dir)
	t.Cleanup(func() { _ = first.Stop(t.Context()) })
	conn := connect(t, first)
	_, err := conn.Exec(ctx, `CREATE TABLE kept (n int); INSERT INTO kept VALUES (7)`)
	require.NoError(t, err)
	info, err := os.Stat(filepath.Join(dir, "tidemarker.password"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	second := start(t, dir)
	assert.Equal(t, first.Port(), second.Port(), "what runs is joined")
	assert.Equal(t, first.Password(), second.Password())
	require.NoError(t, second.Release(ctx))
	require.NoError(t, conn.Ping(ctx), "somebody else is connected, so it goes on")
	require.NoError(t, conn.Close(ctx))
	require.EventuallyWithT(t, func(c *assert.CollectT) { // the server notices that the connection is gone
		require.NoError(c, first.Release(ctx))
		assert.False(c, first.answers(ctx), "the last one stops it")
	}, 30*time.Second, 50*time.Millisecond)
	require.NoError(t, first.Release(ctx), "to leave twice does no harm")

	// The server dies at once and leaves its lock file behind.
	again := start(t, dir)
	raw, err := os.ReadFile(filepath.Join(dir, "postmaster.pid"))
	require.NoError(t, err)
	pid, err := strconv.Atoi(strings.Fields(string(raw))[0])
	require.NoError(t, err)
	require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	require.Eventually(t, func() bool { return syscall.Kill(pid, 0) != nil }, 30*time.Second, 10*time.Millisecond)
	require.False(t, again.answers(ctx))
	last := start(t, dir)
	t.Cleanup(func() { _ = last.Stop(t.Context()) })
	conn = connect(t, last)
	var n int
	require.NoError(t, conn.QueryRow(ctx, `SELECT n FROM kept`).Scan(&n))
	assert.Equal(t, 7, n)
	require.NoError(t, conn.Close(ctx))
	require.NoError(t, last.Stop(ctx))
}

func TestSomebodyElsesDatabaseIsExcluded(t *testing.T) {
	dir := folder(t)
	require.NoError(t, os.Mkdir(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "PG_VERSION"), []byte("17\n"), 0o600))
	_, err := Start(t.Context(), dir, Options{})
	require.ErrorContains(t, err, "holds a database that is not Tide Marker's. Name another folder with --data")
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, entries, 1, "nothing was written into it")
}
