package store_test

import (
	"bytes"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/site"
	"tidemarker/internal/objects"
	"tidemarker/internal/secret"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
)

// bucket is a server that speaks S3, with one bucket, and what is in it.
func bucket(t *testing.T) (b *objects.Bucket, names func() []string) {
	t.Helper()
	backend := s3mem.New()
	server := httptest.NewServer(gofakes3.New(backend).Server())
	t.Cleanup(server.Close)
	require.NoError(t, backend.CreateBucket("tide"))
	b, err := objects.Open(t.Context(), objects.Config{URL: server.URL, Bucket: "tide", Prefix: "blobs/", Region: "us-east-1", Key: "key", Secret: "hush"})
	require.NoError(t, err)
	return b, func() (out []string) {
		list, err := backend.ListBucket("tide", nil, gofakes3.ListBucketPage{})
		require.NoError(t, err)
		for _, o := range list.Contents {
			out = append(out, o.Key)
		}
		return out
	}
}

func inDatabase(t *testing.T, s *store.Store) (n int) {
	t.Helper()
	require.NoError(t, s.Pool.QueryRow(t.Context(), `SELECT count(*) FROM blobs WHERE bytes IS NOT NULL`).Scan(&n))
	return n
}

func TestPicturesLieInAnObjectStore(t *testing.T) {
	s, url := testdb.New(t)
	early, err := s.Put(t.Context(), "image/png", []byte("from before"))
	require.NoError(t, err)
	b, names := bucket(t)
	s.UseObjects(b)
	later, err := s.Put(t.Context(), "image/png", []byte("from after"))
	require.NoError(t, err)
	again, err := s.Put(t.Context(), "image/png", []byte("from after"))
	require.NoError(t, err)
	assert.Equal(t, later, again)
	assert.Equal(t, []string{"blobs/" + later[:2] + "/" + later}, names())
	assert.Equal(t, 1, inDatabase(t, s))
	for name, text := range map[string]string{early: "from before", later: "from after"} {
		got, err := s.Get(t.Context(), name)
		require.NoError(t, err)
		assert.Equal(t, text, string(got.Bytes))
	}
	elsewhere, err := store.Open(t.Context(), url, secret.Keys{})
	require.NoError(t, err)
	defer elsewhere.Close()
	_, err = elsewhere.Get(t.Context(), later)
	require.ErrorContains(t, err, "this process is told of none")

	require.NoError(t, b.Put(t.Context(), later, "image/png", []byte("changed by somebody")))
	_, err = s.Get(t.Context(), later)
	require.ErrorContains(t, err, "is not what was put in")
	require.NoError(t, b.Remove(t.Context(), later))
	_, err = s.Get(t.Context(), later)
	require.ErrorIs(t, err, objects.ErrMissing)
	require.NoError(t, b.Remove(t.Context(), later), "what is gone is gone")
}

func TestPicturesAreMovedThereAndBack(t *testing.T) {
	s, _ := testdb.New(t)
	texts := map[string]string{}
	nothing, err := s.Put(t.Context(), "text/plain", nil)
	require.NoError(t, err)
	for i := range 45 { // more than are moved at once
		text := strings.Repeat("picture ", i+1)
		name, err := s.Put(t.Context(), "image/png", []byte(text))
		require.NoError(t, err)
		texts[name] = text
	}
	b, names := bucket(t)
	_, err = s.MoveBlobs(t.Context(), true, func(store.Removed) {})
	require.ErrorContains(t, err, "no object store is configured")
	s.UseObjects(b)
	steps := 0
	moved, err := s.MoveBlobs(t.Context(), true, func(store.Removed) { steps++ })
	require.NoError(t, err)
	assert.Equal(t, 45, moved.Blobs)
	assert.Equal(t, 3, steps)
	assert.Equal(t, 1, inDatabase(t, s), "nothing is nowhere else")
	assert.Len(t, names(), 45)
	texts[nothing] = ""
	same := func() {
		for name, text := range texts {
			got, err := s.Get(t.Context(), name)
			require.NoError(t, err)
			assert.Equal(t, text, string(got.Bytes))
		}
	}
	same()
	moved, err = s.MoveBlobs(t.Context(), true, func(store.Removed) {})
	require.NoError(t, err)
	assert.Zero(t, moved.Blobs, "once more does nothing")

	_, err = s.MoveBlobs(t.Context(), false, func(store.Removed) {})
	require.NoError(t, err)
	assert.Equal(t, 46, inDatabase(t, s))
	same()
	require.NoError(t, s.RemoveObjects(t.Context()))
	assert.Len(t, names(), 45, "somebody may just be reading them")
	_, err = s.Pool.Exec(t.Context(), `UPDATE objects_gone SET gone_at = now() - interval '2 hours'`)
	require.NoError(t, err)
	require.NoError(t, s.RemoveObjects(t.Context()))
	assert.Empty(t, names())
	same()
}

// What nothing refers to goes from the bucket, too; what is put in again meanwhile stays.
func TestObjectsGoWithTheirRows(t *testing.T) {
	s, _ := testdb.New(t)
	b, names := bucket(t)
	s.UseObjects(b)
	for _, text := range []string{"goes", "comes again"} {
		_, err := s.Put(t.Context(), "image/png", []byte(text))
		require.NoError(t, err)
	}
	age := func(table, column string) {
		_, err := s.Pool.Exec(t.Context(), `UPDATE `+table+` SET `+column+` = now() - interval '2 days'`)
		require.NoError(t, err)
	}
	age("blobs", "kept_at")
	gone, err := s.RemoveBlobs(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 2, gone.Blobs)
	assert.Len(t, names(), 2)
	name, err := s.Put(t.Context(), "image/png", []byte("comes again"))
	require.NoError(t, err)
	age("objects_gone", "gone_at")
	require.NoError(t, s.RemoveObjects(t.Context()))
	assert.Equal(t, []string{"blobs/" + name[:2] + "/" + name}, names())
	got, err := s.Get(t.Context(), name)
	require.NoError(t, err)
	assert.Equal(t, "comes again", string(got.Bytes))
}

func TestABackupBringsWhatLiesInAnObjectStore(t *testing.T) {
	s, _ := testdb.New(t)
	_, err := s.SaveSite(t.Context(), site.Site{Name: "Shop", Environments: []site.Environment{{Name: "staging", URL: "http://127.0.0.1:9"}}}, false, "tester")
	require.NoError(t, err)
	b, _ := bucket(t)
	s.UseObjects(b)
	name, err := s.Put(t.Context(), "image/png", []byte("a picture"))
	require.NoError(t, err)
	var raw bytes.Buffer
	require.NoError(t, s.Backup(t.Context(), &raw))

	other, _ := testdb.New(t)
	require.NoError(t, other.Restore(t.Context(), bytes.NewReader(raw.Bytes()), int64(raw.Len())))
	got, err := other.Get(t.Context(), name)
	require.NoError(t, err)
	assert.Equal(t, "a picture", string(got.Bytes))
}
