// Package core_test keeps the core pure: rules and computation only.
package core_test

import (
	"encoding/json"
	"errors"
	"io"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// pureStandard are the packages of the standard library that the core may use: none
// that reads a clock, a file, the network or the environment. What runtime and maphash give (how
// many processors there are, digests that are others in each process) decides nothing.
var pureStandard = []string{"bytes", "cmp", "compress/gzip", "container/heap", "crypto/sha256", "crypto/subtle", "encoding/csv", "encoding/binary", "encoding/hex", "encoding/json", "encoding/xml", "errors", "fmt", "hash/crc32", "hash/maphash", "image", "image/color", "math/rand/v2",
	"image/draw", "image/png", "io", "maps", "math", "math/bits", "net/url", "path", "reflect", "regexp", "runtime", "slices", "sort", "strconv", "strings", "sync", "time", "unicode", "unicode/utf8"}

// pureLibraries compute and nothing else.
var pureLibraries = []string{"github.com/gowebpki/jcs", "github.com/dunglas/httpsfv", "github.com/goccy/go-yaml", "github.com/teambition/rrule-go", "github.com/emersion/go-ical", "github.com/klauspost/compress/flate", "github.com/PuerkitoBio/goquery", "github.com/wI2L/jsondiff",
	"github.com/santhosh-tekuri/jsonschema/v6", "github.com/andybalholm/cascadia", "github.com/tdewolff/parse/v2", "github.com/tdewolff/parse/v2/css", "github.com/tdewolff/parse/v2/js", "golang.org/x/image/draw", "golang.org/x/image/webp", "golang.org/x/net/html", "golang.org/x/text/language", "golang.org/x/text/message", "github.com/pquerna/otp/totp", "github.com/trustelem/zxcvbn", "tidemarker/docs/contract"}

func TestCoreImportsOnlyWhatIsPure(t *testing.T) {
	raw, err := exec.Command("go", "list", "-json=ImportPath,Imports", "tidemarker/internal/core/...").Output()
	require.NoError(t, err)
	dec := json.NewDecoder(strings.NewReader(string(raw)))
	n := 0
	for {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := dec.Decode(&p); errors.Is(err, io.EOF) {
			break
		} else {
			require.NoError(t, err)
		}
		n++
		for _, i := range p.Imports {
			ok := strings.HasPrefix(i, "tidemarker/internal/core/") || slices.Contains(pureStandard, i) || slices.Contains(pureLibraries, i)
			require.True(t, ok, "%s imports %s, which is not on the list of what is pure", p.ImportPath, i)
		}
	}
	require.Greater(t, n, 8, "the packages of the core were not found")
}

// TestCoreReadsNoClockAndDrawsNoLots: package time is allowed for its durations only, and rand with a seed that is given.
func TestCoreReadsNoClockAndDrawsNoLots(t *testing.T) {
	out, err := exec.Command("grep", "-rnE", `time\.(Now|Since|Until|After|Sleep|Tick|NewTimer|NewTicker)\(|\brand\.(Int|Uint|Float|Exp|Norm|Perm|Shuffle|N\()`, "--include=*.go", ".").Output()
	if err != nil {
		exit, ok := errors.AsType[*exec.ExitError](err)
		require.True(t, ok && exit.ExitCode() == 1, "grep: %v", err)
	}
	for line := range strings.Lines(string(out)) {
		require.Contains(t, line, "_test.go", "the core reads the clock, or draws lots")
	}
}
