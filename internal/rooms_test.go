// Package internal_test keeps the arrows between the rooms going one way: down.
package internal_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rooms are the packages from top to bottom, as docs/architecture.md draws them; those
// of one row know nothing of each other.
var rooms = [][]string{
	{"cmd/tidemarker", "cmd/screenshots", "internal/soak"},
	{"internal/api", "internal/command"},
	{"internal/exclusions", "internal/onboard", "internal/field", "internal/scheduled", "internal/watching", "internal/rollouts", "internal/testsite", "internal/post"},
	{"internal/changes"},
	{"internal/run"},
	{"internal/act", "internal/inspect"},
	{"internal/testdb", "internal/speedlayer/kinds", "internal/standin"},
	{"internal/speedlayer/connector", "internal/speedlayer/byhand", "internal/standin/fernhollow", "internal/standin/quillet", "internal/standin/sedge", "internal/standin/mutation", "internal/standin/traffic"},
	{"internal/speedlayer", "internal/store", "internal/browser", "internal/standin/origin"},
	{"internal/cluster", "internal/outbox", "internal/status", "internal/trouble", "internal/secret", "internal/reach", "internal/objects", "internal/client", "internal/core"},
}

// rowOf is the row of a package of this project, from the top; -1 when it has none.
func rowOf(path string) int {
	path = strings.TrimPrefix(path, "tidemarker/")
	if strings.HasPrefix(path, "internal/core/") {
		path = "internal/core"
	}
	return slices.IndexFunc(rooms, func(row []string) bool { return slices.Contains(row, path) })
}

func TestNoArrowGoesUp(t *testing.T) {
	raw, err := exec.Command("go", "list", "-json=ImportPath,Imports", "tidemarker/cmd/...", "tidemarker/internal/...").Output()
	require.NoError(t, err)
	n := 0
	for dec := json.NewDecoder(bytes.NewReader(raw)); ; n++ {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := dec.Decode(&p); errors.Is(err, io.EOF) {
			break
		} else {
			require.NoError(t, err)
		}
		if p.ImportPath == "tidemarker/internal" {
			continue // this test
		}
		from := rowOf(p.ImportPath)
		if !assert.GreaterOrEqual(t, from, 0, "%s has no place among the rooms", p.ImportPath) {
			continue
		}
		for _, i := range p.Imports {
			to := rowOf(i)
			if !strings.HasPrefix(i, "tidemarker/internal/") || strings.HasPrefix(i, "tidemarker/internal/core/") && from == len(rooms)-1 {
				continue // TestCoreImportsOnlyWhatIsPure looks at the core
			}
			assert.Greater(t, to, from, "%s imports %s", p.ImportPath, i)
		}
	}
	require.Greater(t, n, 25, "the packages were not found")
}

// Of the interface no file has more than 300 lines, and each stands in a room.
func TestPartsOfTheInterfaceAreShortAndInRooms(t *testing.T) {
	n := 0
	require.NoError(t, filepath.WalkDir("../web/src", func(path string, _ fs.DirEntry, err error) error {
		if err != nil || strings.HasSuffix(path, ".gen.ts") || !slices.Contains([]string{".vue", ".ts", ".css"}, filepath.Ext(path)) {
			return err
		}
		n++
		raw, err := os.ReadFile(path)
		assert.LessOrEqual(t, strings.Count(string(raw), "\n"), 300, "%s has more than 300 lines", path)
		if filepath.Dir(path) == filepath.Clean("../web/src") {
			assert.Contains(t, []string{"App.vue", "main.ts", "router.ts"}, filepath.Base(path), "it belongs into a room")
		}
		return err
	}))
	require.Greater(t, n, 100, "the interface was not found")
}

// Who opens a file of this project can read it: none has more than 400 lines, and a
// function of more than 60 says at its head why it is long; a test tells a story, and may.
func TestFilesAndFunctionsAreShort(t *testing.T) {
	files := token.NewFileSet()
	n := 0
	for _, root := range []string{"../internal", "../cmd", "../docs"} {
		require.NoError(t, filepath.WalkDir(root, func(path string, _ fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, ".gen.go") {
				return err
			}
			f, err := parser.ParseFile(files, path, nil, parser.ParseComments)
			if err != nil {
				return err
			}
			n++
			assert.LessOrEqual(t, files.Position(f.FileEnd).Line, 401, "%s has more than 400 lines", path)
			for _, d := range f.Decls {
				fn, ok := d.(*ast.FuncDecl)
				if !ok || strings.HasSuffix(path, "_test.go") || files.Position(fn.End()).Line-files.Position(fn.Pos()).Line < 60 {
					continue
				}
				assert.Contains(t, fn.Doc.Text(), "Long because", "%s: %s is long and does not say why", path, fn.Name.Name)
			}
			return nil
		}))
	}
	require.Greater(t, n, 150, "the files were not found")
}
