package api_test

import (
	"bytes"
	"log/slog"
	"net/http"
	"regexp"
	"strings"
	"sync"
	"testing"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/api"
)

// logged is a log that several may write.
type logged struct {
	mu  sync.Mutex
	buf bytes.Buffer
}

func (l *logged) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.buf.Write(p)
}

func (l *logged) text() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.buf.String()
}

// TestAFaultOfOursSaysANumberAndTheLogHasTheCause takes a table away.
func TestAFaultOfOursSaysANumberAndTheLogHasTheCause(t *testing.T) {
	r := newRecord(t)
	log, before := &logged{}, slog.Default()
	slog.SetDefault(slog.New(slog.NewTextHandler(log, nil)))
	t.Cleanup(func() { slog.SetDefault(before) })
	_, err := r.store.Pool.Exec(t.Context(), `ALTER TABLE bundles RENAME TO secret_name`)
	require.NoError(t, err)
	status, text := r.visitor(r.token).ask(http.MethodGet, "/bundles", nil, nil)
	require.Equal(t, http.StatusInternalServerError, status, text)
	number := regexp.MustCompile(`number (\w{12})`).FindStringSubmatch(text)
	require.NotNil(t, number, text)
	assert.NotContains(t, text, "bundles", "the cause is nobody's business outside")
	assert.Contains(t, log.text(), number[1])
	assert.Regexp(t, number[1]+`.*relation .*bundles`, log.text())
}

// TestWhoeverWatchesTheProcessIsAnswered: also under a name that the server does not know, and without signing in.
func TestWhoeverWatchesTheProcessIsAnswered(t *testing.T) {
	r := newRecord(t)
	asked := func(path string) int {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, r.url+path, nil)
		require.NoError(t, err)
		req.Host = "10.0.0.7"
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		return res.StatusCode
	}
	assert.Equal(t, http.StatusOK, asked("/healthz"))
	assert.Equal(t, http.StatusOK, asked("/readyz"))
	assert.Equal(t, http.StatusMisdirectedRequest, asked("/api/v1/session"))
	r.store.Pool.Close()
	assert.Equal(t, http.StatusOK, asked("/healthz"))
	assert.Equal(t, http.StatusServiceUnavailable, asked("/readyz"))
}

// TestBodiesMayBeAsLargeAsTheDescriptionSays compares each operation's limit with what its description lets somebody send,
// and sends a large one.
func TestBodiesMayBeAsLargeAsTheDescriptionSays(t *testing.T) {
	described := (&api.Server{}).API(chi.NewRouter()).OpenAPI()
	checked := 0
	for path, item := range described.Paths {
		for _, op := range []*huma.Operation{item.Post, item.Put, item.Patch} {
			if op == nil || op.RequestBody == nil {
				continue
			}
			media := op.RequestBody.Content["application/json"]
			if media == nil {
				continue
			}
			most := int64(0)
			schema := media.Schema
			if schema.Ref != "" {
				schema = described.Components.Schemas.SchemaFromRef(schema.Ref)
			}
			for _, p := range schema.Properties {
				if p.MaxLength != nil {
					most += 4 * int64(*p.MaxLength) // octets of a character in UTF-8
				}
				if p.MaxItems != nil {
					most += 400 * int64(*p.MaxItems)
				}
			}
			limit := op.MaxBodyBytes
			if limit == 0 {
				limit = 1 << 20
			}
			if most > 1<<20 {
				checked++
				assert.GreaterOrEqual(t, limit, most, "%s %s", op.Method, path)
			}
		}
	}
	assert.GreaterOrEqual(t, checked, 6)

	r := newRecord(t)
	big := "kind,pattern\n" + strings.Repeat("# a line of a large file\n", 100_000)
	status, text := r.visitor(r.token).ask(http.MethodPost, "/sites/1/exclusions/import", map[string]any{"format": "csv", "text": big}, nil)
	assert.NotEqual(t, http.StatusRequestEntityTooLarge, status, text[:min(len(text), 300)])
}
