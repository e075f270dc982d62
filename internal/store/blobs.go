package store

import (
	"archive/zip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/jackc/pgx/v5"
)

// Blobs keeps pictures and bodies once, by their SHA-256.
type Blobs interface {
	Put(ctx context.Context, mediaType string, raw []byte) (sha256 string, err error)
	Get(ctx context.Context, sha256 string) (Blob, error)
}

// Objects is where the bytes of blobs lie instead of in the database. What is in it, and for how long, the database says.
type Objects interface {
	// Put keeps an object: it is there, whole, when this returns without an error.
	Put(ctx context.Context, sha256, mediaType string, raw []byte) error
	Get(ctx context.Context, sha256 string) ([]byte, error)
	// Remove removes an object; one that is not there is removed.
	Remove(ctx context.Context, sha256 string) error
}

// UseObjects keeps the bytes of blobs that come from now on there. Those in the database stay readable, and so do, where objects
// are configured, those that lie there.
func (s *Store) UseObjects(o Objects) { s.objects = o }

// errNoObjects says that bytes lie where this process does not look.
var errNoObjects = errors.New("it lies in an object store, and this process is told of none (docs/running.md, “Pictures in an object store”)")

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
	if raw == nil {
		raw = []byte{} // nothing is something that is kept
	}
	if s.objects == nil || len(raw) == 0 { // not all such stores take an object of nothing
		return name, s.exec(ctx, "a picture or body", `INSERT INTO blobs (sha256, media_type, size, bytes) VALUES ($1, $2, $3, $4)
			ON CONFLICT (sha256) DO UPDATE SET kept_at = now()`, name, mediaType, len(raw), raw)
	}
	_, err := one[string](ctx, s, "a picture or body", `UPDATE blobs SET kept_at = now() WHERE sha256 = $1 RETURNING sha256`, name)
	if !errors.Is(err, ErrNotFound) {
		return name, err // it is there already
	}
	// Whoever removes the object just now is waited for; who would after this waits longer than we take.
	if err := s.exec(ctx, "a picture or body", `DELETE FROM objects_gone WHERE sha256 = $1`, name); err != nil {
		return name, err
	}
	if err := s.objects.Put(ctx, name, mediaType, raw); err != nil {
		return name, err
	}
	return name, s.exec(ctx, "a picture or body", `INSERT INTO blobs (sha256, media_type, size) VALUES ($1, $2, $3)
		ON CONFLICT (sha256) DO UPDATE SET kept_at = now()`, name, mediaType, len(raw))
}

// Get reads bytes by their SHA-256.
func (s *Store) Get(ctx context.Context, name string) (Blob, error) {
	type row struct {
		Blob
		Elsewhere bool `db:"elsewhere"`
	}
	r, err := one[row](ctx, s, "the picture or body "+name, `SELECT sha256, media_type, bytes, bytes IS NULL AS elsewhere FROM blobs WHERE sha256 = $1`, name)
	if err != nil || !r.Elsewhere {
		return r.Blob, err
	}
	r.Bytes, err = s.object(ctx, name)
	return r.Blob, err
}

// object reads what lies in the object store, and sees that it is what it should be.
func (s *Store) object(ctx context.Context, name string) ([]byte, error) {
	if s.objects == nil {
		return nil, fmt.Errorf("the picture or body %s: %w", name, errNoObjects)
	}
	raw, err := s.objects.Get(ctx, name)
	if err != nil {
		return nil, err
	}
	if sum := sha256.Sum256(raw); hex.EncodeToString(sum[:]) != name {
		return nil, fmt.Errorf("the object %s is not what was put in: its content has another SHA-256", name)
	}
	return raw, nil
}

// movedAtOnce is how many blobs are moved before what was moved is recorded.
const movedAtOnce = 20

// MoveBlobs moves the bytes of all blobs into the object store, or back into the database, and says of how many and how much. It can
// be ended at any point and begun again; work goes on meanwhile. told hears of each step.
func (s *Store) MoveBlobs(ctx context.Context, toObjects bool, told func(Removed)) (moved Removed, err error) {
	if s.objects == nil {
		return moved, errors.New("no object store is configured")
	}
	for {
		step, err := s.moveSome(ctx, toObjects)
		if err != nil || step.Blobs == 0 {
			return moved, err
		}
		moved.Blobs += step.Blobs
		moved.Bytes += step.Bytes
		told(moved)
	}
}

func (s *Store) moveSome(ctx context.Context, toObjects bool) (moved Removed, err error) {
	err = s.Within(ctx, func(s *Store) error {
		list, err := many[Blob](ctx, s, "the pictures and bodies", `SELECT sha256, media_type, bytes FROM blobs WHERE (bytes IS NOT NULL) = $1 AND size > 0 ORDER BY sha256 LIMIT $2 FOR UPDATE`, toObjects, movedAtOnce)
		if err != nil {
			return err
		}
		for _, b := range list {
			raw, put := b.Bytes, []byte(nil)
			if toObjects {
				err = s.exec(ctx, "a picture or body", `DELETE FROM objects_gone WHERE sha256 = $1`, b.SHA256)
				if err == nil {
					err = s.objects.Put(ctx, b.SHA256, b.MediaType, raw)
				}
			} else {
				raw, err = s.object(ctx, b.SHA256)
				put = raw
			}
			if err == nil {
				err = s.exec(ctx, "a picture or body", `UPDATE blobs SET bytes = $2 WHERE sha256 = $1`, b.SHA256, put)
			}
			if err == nil && !toObjects {
				err = s.exec(ctx, "an object that is not needed any more", `INSERT INTO objects_gone (sha256) VALUES ($1) ON CONFLICT DO NOTHING`, b.SHA256)
			}
			if err != nil {
				return err
			}
			moved.Blobs++
			moved.Bytes += int64(len(raw))
		}
		return nil
	})
	return moved, err
}

// RemoveObjects removes objects that nothing in the database names any more, an hour after the last that did.
func (s *Store) RemoveObjects(ctx context.Context) error {
	for s.objects != nil {
		done := false
		err := s.Within(ctx, func(s *Store) error {
			names, err := many[string](ctx, s, "the objects that go", `SELECT sha256 FROM objects_gone WHERE gone_at < now() - interval '1 hour' LIMIT $1 FOR UPDATE SKIP LOCKED`, movedAtOnce)
			if err != nil {
				return err
			}
			done = len(names) < movedAtOnce
			for _, name := range names {
				_, err := one[string](ctx, s, "the object", `SELECT sha256 FROM blobs WHERE sha256 = $1 AND bytes IS NULL`, name)
				if errors.Is(err, ErrNotFound) {
					err = s.objects.Remove(ctx, name)
				}
				if err == nil {
					err = s.exec(ctx, "the object", `DELETE FROM objects_gone WHERE sha256 = $1`, name)
				}
				if err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil || done {
			return err
		}
	}
	return nil
}

// objectsFolder is where an archive has the bytes that lie in the object store.
const objectsFolder = "objects/"

// exportObjects writes into an archive what lies in the object store of the blobs that are taken.
func (s *Store) exportObjects(ctx context.Context, tx pgx.Tx, z *zip.Writer, where string) error {
	rows, err := tx.Query(ctx, `SELECT sha256 FROM (SELECT * FROM blobs `+where+`) taken WHERE bytes IS NULL ORDER BY sha256`)
	if err != nil {
		return err
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return err
	}
	for _, name := range names {
		raw, err := s.object(ctx, name)
		if err != nil {
			return err
		}
		f, err := z.CreateHeader(&zip.FileHeader{Name: objectsFolder + name, Method: zip.Store}) // pictures are compressed already
		if err == nil {
			_, err = f.Write(raw)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// importObjects reads from an archive into the database what lay in an object store.
func importObjects(ctx context.Context, tx pgx.Tx, z *zip.Reader) error {
	for _, f := range z.File {
		name, is := strings.CutPrefix(f.Name, objectsFolder)
		if !is {
			continue
		}
		r, err := f.Open()
		if err != nil {
			return err
		}
		raw, err := io.ReadAll(r)
		if err = errors.Join(err, r.Close()); err != nil {
			return err
		}
		if sum := sha256.Sum256(raw); hex.EncodeToString(sum[:]) != name {
			return fmt.Errorf("%s is damaged: its content has another SHA-256", f.Name)
		}
		if _, err := tx.Exec(ctx, `UPDATE blobs SET bytes = $2 WHERE sha256 = $1`, name, raw); err != nil {
			return err
		}
	}
	return nil
}
