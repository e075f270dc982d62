package store_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/release"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

// contents are the rows of each table that is to come back.
func contents(t *testing.T, s *store.Store) map[string]string {
	t.Helper()
	in, out := store.BackedUpTables()
	got := map[string]string{}
	for _, table := range in {
		var rows string
		require.NoError(t, s.Pool.QueryRow(t.Context(), fmt.Sprintf(`SELECT coalesce(string_agg(x::text, E'\n' ORDER BY x::text), '') FROM %s x`, table)).Scan(&rows), table)
		got[table] = rows
	}
	assert.NotEmpty(t, out)
	return got
}

// full is a database in which there is something of most kinds, and which has secrets.
func full(t *testing.T) (*store.Store, string) {
	t.Helper()
	s, url := testdb.New(t)
	ctx := t.Context()
	p := newPast(t, s)
	run, _, _ := p.ran(release.MarkRun, "clear", 3, nil)
	p.mark(run)
	p.ran(release.CheckRun, "broken", 2, nil)
	_, err := s.SaveSite(ctx, guarded(), false, "ada")
	require.NoError(t, err)
	id, err := s.AddPerson(ctx, "Ada", "argon2id-of-ada", "administrator")
	require.NoError(t, err)
	_, err = s.NewToken(ctx, store.Token{PersonID: id, Name: "one", Most: "maintainer"})
	require.NoError(t, err)
	require.NoError(t, s.RecordTeam(ctx, "Ada", "Began"))
	doc := store.OnboardingDocument{}
	doc.SetLooks(guarded())
	_, err = s.NewOnboarding(ctx, "Being added", doc, map[string]string{"production": connectorToken}, "ada")
	require.NoError(t, err)
	require.NoError(t, s.KeepVisitsFor(ctx, time.Now().AddDate(0, 0, -1), 3, time.Now().AddDate(0, 0, -3)))
	_, err = s.Pool.Exec(ctx, `INSERT INTO river_job (kind, args, max_attempts, queue, state, scheduled_at) VALUES ('later', '{"id": 1}', 10, 'later', 'scheduled', now() + interval '3 hours')`)
	require.NoError(t, err)
	return s, url
}

func TestABackupBringsEverythingBack(t *testing.T) {
	from, _ := full(t)
	ctx := t.Context()
	before := contents(t, from)
	for _, table := range []string{"sites", "runs", "looks", "findings", "marks", "blobs", "people", "tokens", "team_history", "onboardings", "river_job"} {
		assert.NotEmpty(t, before[table], "the test has nothing in %s", table)
	}
	var raw bytes.Buffer
	require.NoError(t, from.Backup(ctx, &raw))
	for _, open := range []string{personaPassword, connectorToken} {
		assert.NotContains(t, raw.String(), open)
	}

	to, _ := testdb.New(t)
	read := bytes.NewReader(raw.Bytes())
	require.NoError(t, to.Restore(ctx, read, read.Size()))
	assert.Equal(t, before, contents(t, to))
	assert.Equal(t, connectorToken, tokenOf(t, to), "secrets are opened with the same key")
	var refers int
	require.NoError(t, to.Pool.QueryRow(ctx, `SELECT count(*) FROM blob_references`).Scan(&refers))
	assert.Equal(t, 4, refers, "what is referred to is known again")
	sites, _, err := to.Sites(ctx, "", 1, 0)
	require.NoError(t, err)
	envs, err := to.Environments(ctx, sites[0].ID)
	require.NoError(t, err)
	_, err = to.NewRun(ctx, store.Run{SiteID: sites[0].ID, EnvironmentID: envs[0].ID, Kind: release.MarkRun, RequestedBy: "ada"})
	require.NoError(t, err, "numbers go on from there")

	require.ErrorContains(t, to.Restore(ctx, read, read.Size()), "into an empty one")
	other, _ := testdb.New(t)
	_, err = other.Pool.Exec(ctx, `INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, true)`)
	require.NoError(t, err)
	require.ErrorContains(t, other.Restore(ctx, read, read.Size()), "with the version that made it")
	empty, _ := testdb.New(t)
	half := bytes.NewReader(raw.Bytes()[:raw.Len()/2])
	require.Error(t, empty.Restore(ctx, half, half.Size()))
	none, _, err := empty.Sites(ctx, "", 1, 0)
	require.NoError(t, err)
	assert.Empty(t, none, "all of it or nothing")
	var archive bytes.Buffer
	require.NoError(t, from.Export(ctx, &archive))
	no := bytes.NewReader(archive.Bytes())
	require.ErrorContains(t, empty.Restore(ctx, no, no.Size()), "this is no backup")
}

// TestADumpOfTheDatabaseIsEnough is the same with PostgreSQL's own tools alone.
func TestADumpOfTheDatabaseIsEnough(t *testing.T) {
	from, url := full(t)
	before := contents(t, from)
	dump := exec.Command("pg_dump", "--format=plain", "--no-owner", url)
	raw, err := dump.Output()
	require.NoError(t, err)
	at := testdb.Empty(t)
	load := exec.Command("psql", "--quiet", "--set", "ON_ERROR_STOP=1", at)
	load.Stdin, load.Stderr = bytes.NewReader(raw), os.Stderr
	require.NoError(t, load.Run())
	to, err := store.Open(t.Context(), at, testdb.Keys(t))
	require.NoError(t, err)
	t.Cleanup(to.Close)
	require.NoError(t, to.Migrate(t.Context()))
	assert.Equal(t, before, contents(t, to))
	assert.Equal(t, connectorToken, tokenOf(t, to))
}

// Every table is either in a backup or left out on purpose.
func TestEveryTableIsBackedUpOrLeftOutOnPurpose(t *testing.T) {
	in, out := store.ArchivedTables()
	kept, not := store.BackedUpTables()
	assert.ElementsMatch(t, append(in, out...), append(kept[:len(kept)-1:len(kept)-1], not...), "the last is the queue's")
}
