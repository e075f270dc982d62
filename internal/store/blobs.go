package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
)

// Blobs keeps pictures and bodies once, by their SHA-256. PostgreSQL is behind it
// now; an object store may follow.
type Blobs interface {
	Put(ctx context.Context, mediaType string, raw []byte) (sha256 string, err error)
	Get(ctx context.Context, sha256 string) (Blob, error)
}

// Blob is something kept by its content.
type Blob struct {
	SHA256    string `db:"sha256"`
	MediaType string `db:"media_type"`
	Bytes     []byte `db:"bytes"`
}

// Put keeps bytes, for a day at least and then for as long as something refers to them, and returns their SHA-256 in lower-case hexadecimal.
func (s *Store) Put(ctx context.Context, mediaType string, raw []byte) (string, error) {
	sum := sha256.Sum256(raw)
	name := hex.EncodeToString(sum[:])
	return name, s.exec(ctx, "a picture or body", `INSERT INTO blobs (sha256, media_type, size, bytes) VALUES ($1, $2, $3, $4)
		ON CONFLICT (sha256) DO UPDATE SET kept_at = now()`,
		name, mediaType, len(raw), raw)
}

// Get reads bytes by their SHA-256.
func (s *Store) Get(ctx context.Context, name string) (Blob, error) {
	return one[Blob](ctx, s, "the picture or body "+name, `SELECT sha256, media_type, bytes FROM blobs WHERE sha256 = $1`, name)
}
