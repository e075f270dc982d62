package objects

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

// Config says where a bucket is.
type Config struct {
	URL    string // of the service: https://s3.example.org
	Bucket string
	Prefix string // before each object's name; may be ""
	Region string
	Key    string
	Secret string
}

// Bucket is one bucket of a store that speaks S3.
type Bucket struct {
	client *minio.Client
	cfg    Config
}

// mostObject is how large an object may be that is read: more than anything that is put in.
const mostObject = 1 << 30

// ErrMissing says that an object is not there.
var ErrMissing = errors.New("the object is not in the bucket")

// Open is the bucket that a configuration names. It asks whether the bucket is there.
func Open(ctx context.Context, cfg Config) (*Bucket, error) {
	u, err := url.Parse(cfg.URL)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || strings.Trim(u.Path, "/") != "" {
		return nil, fmt.Errorf("%q is not the address of a service such as https://s3.example.org", cfg.URL)
	}
	client, err := minio.New(u.Host, &minio.Options{Creds: credentials.NewStaticV4(cfg.Key, cfg.Secret, ""), Secure: u.Scheme == "https", Region: cfg.Region, BucketLookup: minio.BucketLookupPath})
	if err != nil {
		return nil, fmt.Errorf("open the bucket %s: %w", cfg.Bucket, err)
	}
	there, err := client.BucketExists(ctx, cfg.Bucket)
	if err != nil {
		return nil, fmt.Errorf("ask %s for the bucket %s: %w", u.Host, cfg.Bucket, err)
	}
	if !there {
		return nil, fmt.Errorf("there is no bucket %s at %s; make it first", cfg.Bucket, u.Host)
	}
	return &Bucket{client, cfg}, nil
}

// name spreads objects over folders, so that whoever looks at the bucket can.
func (b *Bucket) name(sha256 string) string {
	return b.cfg.Prefix + sha256[:2] + "/" + sha256
}

// Put keeps an object. It is there, whole, when this returns without an error.
func (b *Bucket) Put(ctx context.Context, sha256, mediaType string, raw []byte) error {
	_, err := b.client.PutObject(ctx, b.cfg.Bucket, b.name(sha256), bytes.NewReader(raw), int64(len(raw)), minio.PutObjectOptions{ContentType: mediaType, SendContentMd5: true})
	return b.failed("keep", sha256, err)
}

// Get reads an object; [ErrMissing] when it is not there.
func (b *Bucket) Get(ctx context.Context, sha256 string) ([]byte, error) {
	o, err := b.client.GetObject(ctx, b.cfg.Bucket, b.name(sha256), minio.GetObjectOptions{})
	if err != nil {
		return nil, b.failed("read", sha256, err)
	}
	defer o.Close()
	raw, err := io.ReadAll(io.LimitReader(o, mostObject))
	return raw, b.failed("read", sha256, err)
}

// Remove removes an object; one that is not there is removed.
func (b *Bucket) Remove(ctx context.Context, sha256 string) error {
	err := b.failed("remove", sha256, b.client.RemoveObject(ctx, b.cfg.Bucket, b.name(sha256), minio.RemoveObjectOptions{}))
	if errors.Is(err, ErrMissing) {
		return nil
	}
	return err
}

func (b *Bucket) failed(what, sha256 string, err error) error {
	if err == nil {
		return nil
	}
	if minio.ToErrorResponse(err).StatusCode == http.StatusNotFound {
		err = ErrMissing
	}
	return fmt.Errorf("%s %s in the bucket %s: %w", what, sha256, b.cfg.Bucket, err)
}
