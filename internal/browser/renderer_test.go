package browser

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatDrawsIsKnownByWhatItDraws(t *testing.T) {
	of := func() (out struct {
		browser, sample string
		fonts           map[string]string
	}) {
		b, err := Start(Options{})
		require.NoError(t, err)
		defer b.Close()
		r := b.Renderer()
		out.browser, out.sample, out.fonts = r.Browser, r.Sample, r.Fonts
		return out
	}
	first, second := of(), of()
	assert.Equal(t, first, second, "one machine draws the same each time")
	assert.Regexp(t, `\d+\.\d+\.\d+\.\d+$`, first.browser)
	assert.Len(t, first.sample, 64)
	assert.NotEmpty(t, first.fonts["serif"])
	assert.NotEmpty(t, first.fonts["Cyrillic"])
	assert.NotEqual(t, first.fonts["serif"], first.fonts["monospace"])

	// A machine with other fonts: serif is what monospace was.
	dir, err := os.MkdirTemp("", "fonts-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755)) //nolint:gosec // whoever Chromium runs as reads it
	conf := filepath.Join(dir, "fonts.conf")
	require.NoError(t, os.WriteFile(conf, fmt.Appendf(nil, `<?xml version="1.0"?><!DOCTYPE fontconfig SYSTEM "fonts.dtd"><fontconfig><dir>/usr/share/fonts</dir><cachedir>%s</cachedir>
<match><test name="family"><string>serif</string></test><edit name="family" mode="assign" binding="strong"><string>%s</string></edit></match></fontconfig>`, t.TempDir(), first.fonts["monospace"]), 0o644)) //nolint:gosec // whoever Chromium runs as reads it
	t.Setenv("FONTCONFIG_FILE", conf)
	other := of()
	assert.Equal(t, first.browser, other.browser)
	assert.Equal(t, first.fonts["monospace"], other.fonts["serif"])
	assert.NotEqual(t, first.sample, other.sample)
}
