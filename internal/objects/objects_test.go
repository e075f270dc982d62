package objects

import (
	"net/http/httptest"
	"testing"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/stretchr/testify/require"
)

func TestABucketThatIsNotThereIsSaid(t *testing.T) {
	server := httptest.NewServer(gofakes3.New(s3mem.New()).Server())
	defer server.Close()
	for why, cfg := range map[string]Config{
		"there is no bucket tide": {URL: server.URL, Bucket: "tide", Region: "us-east-1", Key: "k", Secret: "s"},
		"is not the address":      {URL: "s3.example.org", Bucket: "tide"},
		"for the bucket tide":     {URL: "http://127.0.0.1:1", Bucket: "tide", Region: "us-east-1", Key: "k", Secret: "s"},
	} {
		_, err := Open(t.Context(), cfg)
		require.ErrorContains(t, err, why)
	}
}
