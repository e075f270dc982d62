package standin

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"

	"tidemarker/internal/core/settings"
)

func TestBrowsersKeepPagesOnlyAsLongAsTheSettingSays(t *testing.T) {
	s, _ := start(t, nil)
	assert.NotContains(t, s.get("/kits").header.Get("Cache-Control"), "max-age=600")
	s, _ = start(t, settings.Values{"browser.keepPages": 600})
	s.get("/kits")
	assert.Equal(t, "private, max-age=600", s.get("/kits").header.Get("Cache-Control"), "also when it comes from the page cache")
	assert.NotContains(t, s.get("/cart").header.Get("Cache-Control"), "max-age", "a page of one's own is never kept")
	assert.NotContains(t, s.fresh().as("wren", "harvest moon").get("/kits").header.Get("Cache-Control"), "max-age")
}

func TestTheWorkerIsThereOnlyWithItsSetting(t *testing.T) {
	s, _ := start(t, nil)
	assert.Equal(t, http.StatusNotFound, s.get(workerPath).status)
	assert.NotContains(t, s.get("/kits").body, "serviceWorker")
	s, _ = start(t, settings.Values{"browser.offline": true})
	assert.Contains(t, s.get("/kits").body, "serviceWorker")
	worker := s.get(workerPath)
	assert.Equal(t, "/", worker.header.Get("Service-Worker-Allowed"))
	assert.Contains(t, worker.header.Get("Content-Type"), "text/javascript")
}
