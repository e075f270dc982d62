package store_test

import (
	"archive/zip"
	"bytes"
	"context"
	"io"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

// look keeps a look with a picture and a body, each named by what it says.
func look(t *testing.T, s *store.Store, run int64, pass int, page, text string) (evidence.PageLook, string) {
	ctx := context.Background()
	picture, err := s.Put(ctx, "image/png", []byte("picture of "+text))
	require.NoError(t, err)
	body, err := s.Put(ctx, "text/html", []byte("body of "+text))
	require.NoError(t, err)
	l := evidence.PageLook{Key: evidence.Key{Page: page, Persona: "visitor", Device: "phone"}, Picture: &evidence.Picture{SHA256: picture}}
	require.NoError(t, s.SaveLook(ctx, run, pass, "page", l.Key, l))
	p := evidence.Probe{Key: l.Key, Kind: evidence.StrangerAfter, Second: evidence.Answer{Body: body}}
	require.NoError(t, s.SaveLook(ctx, run, pass, "probe", l.Key, p))
	return l, body
}

func TestAnArchiveBringsTheRecordBack(t *testing.T) {
	from, _ := testdb.New(t)
	ctx := t.Context()
	row, err := from.SaveSite(ctx, document("staging", "production"), false, "ada")
	require.NoError(t, err)
	envs, err := from.Environments(ctx, row.ID)
	require.NoError(t, err)
	fp, err := from.SaveRevision(ctx, row.ID, settings.Values{"a": true})
	require.NoError(t, err)
	begin := func(kind release.RunKind) int64 {
		id, err := from.NewRun(ctx, store.Run{SiteID: row.ID, EnvironmentID: envs[0].ID, Kind: kind, Target: fp, RequestedBy: "ada"})
		require.NoError(t, err)
		return id
	}
	marking, checking := begin(release.MarkRun), begin(release.CheckRun)
	_, err = from.SaveMark(ctx, store.Mark{EnvironmentID: envs[0].ID, RunID: marking, Fingerprint: fp, Who: "ada"})
	require.NoError(t, err)
	marked, _ := look(t, from, marking, 1, "/", "the mark")
	second, _ := look(t, from, marking, 2, "/", "the mark's second look")
	broken, _ := look(t, from, checking, 1, "/broken", "what broke")
	fine, body := look(t, from, checking, 1, "/fine", "what is as before")
	require.NoError(t, from.SaveFindings(ctx, checking, []evidence.Finding{{Fingerprint: "f", Page: "/broken", Persona: "visitor", Device: "phone"}}))
	_, err = from.Put(ctx, "image/png", []byte("of no look"))
	require.NoError(t, err)
	var raw bytes.Buffer
	require.NoError(t, from.Export(ctx, &raw))

	to, _ := testdb.New(t)
	require.NoError(t, to.Import(ctx, raw.Bytes()))
	require.ErrorContains(t, to.Import(ctx, raw.Bytes()), "into an empty one")
	for name, l := range map[string]evidence.PageLook{"the mark": marked, "what broke": broken} {
		b, err := to.Get(ctx, l.Picture.SHA256)
		require.NoError(t, err)
		assert.Equal(t, "picture of "+name, string(b.Bytes))
	}
	for name, l := range map[string]evidence.PageLook{"a second look": second, "a look without a finding": fine} {
		_, err = to.Get(ctx, l.Picture.SHA256)
		assert.ErrorIs(t, err, store.ErrNotFound, "the picture of %s is shown nowhere", name)
	}
	_, err = to.Get(ctx, body)
	require.NoError(t, err, "bodies are compared again when rules are tried out")
	found, err := to.Findings(ctx, checking)
	require.NoError(t, err)
	assert.Len(t, found, 1)
	envs, err = to.Environments(ctx, row.ID)
	require.NoError(t, err)
	assert.Empty(t, envs[0].Token)
	next, err := to.NewRun(ctx, store.Run{SiteID: row.ID, EnvironmentID: envs[0].ID, Kind: release.MarkRun, RequestedBy: "ada"})
	require.NoError(t, err)
	assert.Greater(t, next, checking, "numbers go on from there")
}

// TestAnArchiveHasThePicturesWithWhichAWatchCompares: its looks go on where the archive is read in.
func TestAnArchiveHasThePicturesWithWhichAWatchCompares(t *testing.T) {
	from, _ := testdb.New(t)
	ctx := t.Context()
	row, err := from.SaveSite(ctx, document("staging", "production"), false, "ada")
	require.NoError(t, err)
	envs, err := from.Environments(ctx, row.ID)
	require.NoError(t, err)
	begin := func(kind release.RunKind) int64 {
		id, err := from.NewRun(ctx, store.Run{SiteID: row.ID, EnvironmentID: envs[1].ID, Kind: kind, RequestedBy: "ada"})
		require.NoError(t, err)
		return id
	}
	marked := func(text string) (evidence.PageLook, int64) {
		run := begin(release.MarkRun)
		l, _ := look(t, from, run, 1, "/", text)
		mark, err := from.SaveMark(ctx, store.Mark{EnvironmentID: envs[1].ID, RunID: run, Fingerprint: "a", Who: "ada"})
		require.NoError(t, err)
		return l, mark
	}
	oldest, _ := marked("long ago")
	before, mark := marked("before the promotion")
	promotion := begin(release.PromoteRun)
	_, err = from.Pool.Exec(ctx, `UPDATE runs SET mark_id = $2 WHERE id = $1`, promotion, mark)
	require.NoError(t, err)
	newest, _ := marked("since")
	_, err = from.Pool.Exec(ctx, `WITH c AS (INSERT INTO changes (site_id, title, base, state, created_by) VALUES ($1, 'a change', 'a', 'promoted', 'ada') RETURNING id)
		INSERT INTO watches (site_id, environment_id, change_id, run_id, fingerprint, state, begun_at, ends_at) SELECT $1, $2, c.id, $3, 'b', 'watching', now(), now() FROM c`, row.ID, envs[1].ID, promotion)
	require.NoError(t, err)
	var raw bytes.Buffer
	require.NoError(t, from.Export(ctx, &raw))
	to, _ := testdb.New(t)
	require.NoError(t, to.Import(ctx, raw.Bytes()))
	for _, l := range []evidence.PageLook{before, newest} {
		_, err = to.Get(ctx, l.Picture.SHA256)
		require.NoError(t, err)
	}
	_, err = to.Get(ctx, oldest.Picture.SHA256)
	assert.ErrorIs(t, err, store.ErrNotFound)
}

func TestNoSecretIsInAnArchive(t *testing.T) {
	s, _ := testdb.New(t)
	_, err := s.SaveSite(t.Context(), document("staging", "production"), false, "ada")
	require.NoError(t, err)
	_, err = s.AddPerson(t.Context(), "Ada", "argon2id-of-ada", "administrator")
	require.NoError(t, err)
	var raw bytes.Buffer
	require.NoError(t, s.Export(t.Context(), &raw))
	z, err := zip.NewReader(bytes.NewReader(raw.Bytes()), int64(raw.Len()))
	require.NoError(t, err)
	z.RegisterDecompressor(zstd.ZipMethodWinZip, zstd.ZipDecompressor())
	var all bytes.Buffer
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		_, err = io.Copy(&all, r)
		require.NoError(t, err)
	}
	assert.Contains(t, all.String(), "http://staging.example", "the archive was not read")
	assert.NotContains(t, all.String(), "hush-", "a token of a speed layer")
	assert.NotContains(t, all.String(), "argon2id", "a password")
}

// Every table is either in the archive or left out on purpose.
func TestEveryTableIsArchivedOrLeftOutOnPurpose(t *testing.T) {
	s, _ := testdb.New(t)
	rows, err := s.Pool.Query(t.Context(), `SELECT table_name FROM information_schema.tables WHERE table_schema = 'public'
		AND table_name NOT LIKE 'river%' AND table_name <> 'goose_db_version'
		AND NOT (SELECT relispartition FROM pg_class WHERE oid = to_regclass('public.' || quote_ident(table_name)))`)
	require.NoError(t, err)
	defer rows.Close()
	var there []string
	for rows.Next() {
		var name string
		require.NoError(t, rows.Scan(&name))
		there = append(there, name)
	}
	require.NoError(t, rows.Err())
	in, out := store.ArchivedTables()
	assert.ElementsMatch(t, there, append(in, out...))
}

func TestAnArchiveOfAnotherVersionIsRefusedWhole(t *testing.T) {
	var raw bytes.Buffer
	z := zip.NewWriter(&raw)
	_, err := z.Create("rounds.copy")
	require.NoError(t, err)
	require.NoError(t, z.Close())
	s, _ := testdb.New(t)
	require.ErrorContains(t, s.Import(t.Context(), raw.Bytes()), "another version of Tide Marker")
	require.ErrorContains(t, s.Import(t.Context(), []byte("no zip")), "read the archive")
}
