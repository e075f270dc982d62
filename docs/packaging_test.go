package docs_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatIsBuiltInIsListedWithItsLicence holds docs/licences.md against what the program and the interface are made of.
func TestWhatIsBuiltInIsListedWithItsLicence(t *testing.T) {
	raw, err := os.ReadFile("licences.md")
	require.NoError(t, err)
	listed := map[string]string{}
	for _, m := range regexp.MustCompile(`(?m)^\| (\S+) \| (\S+) \| (\S+) \|$`).FindAllStringSubmatch(string(raw), -1) {
		listed[m[1]] = m[2]
	}
	has := func(name, version string) {
		t.Helper()
		for at, v := range listed { // of some modules several packages have a licence of their own
			if v == version && (at == name || strings.HasPrefix(at, name+"/")) {
				return
			}
		}
		assert.Fail(t, "not in docs/licences.md: run make licences", "%s %s", name, version)
	}
	out, err := exec.Command("go", "list", "-deps", "-f", "{{with .Module}}{{.Path}} {{.Version}}{{end}}", "../cmd/tidemarker").Output()
	require.NoError(t, err)
	n := 0
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		if name, version, ok := strings.Cut(line, " "); ok && name != "tidemarker" {
			has(name, version)
			n++
		}
	}
	assert.Greater(t, n, 50)
	lock, err := os.ReadFile("../web/package-lock.json")
	require.NoError(t, err)
	var packages struct {
		Packages map[string]struct {
			Version       string
			Dev, Optional bool
		}
	}
	require.NoError(t, json.Unmarshal(lock, &packages))
	for path, p := range packages.Packages {
		if path != "" && !p.Dev && !p.Optional {
			has("npm:"+path[strings.LastIndex(path, "node_modules/")+len("node_modules/"):], p.Version)
		}
	}
}

// TestTheServiceIsHardened asks systemd how exposed the units of the package are: 2.0 of 10 at most.
func TestTheServiceIsHardened(t *testing.T) {
	if _, err := exec.LookPath("systemd-analyze"); err != nil {
		t.Skip("this machine has no systemd to ask")
	}
	for _, unit := range []string{"tidemarker.service", "tidemarker-worker.service"} {
		out, err := exec.Command("systemd-analyze", "security", "--offline=true", "--no-pager", "../packaging/"+unit).CombinedOutput()
		require.NoError(t, err, string(out))
		m := regexp.MustCompile(`exposure level for \S+: ([\d.]+)`).FindStringSubmatch(string(out))
		require.NotNil(t, m, string(out))
		level, err := strconv.ParseFloat(m[1], 64)
		require.NoError(t, err)
		assert.LessOrEqual(t, level, 2.0, unit)
		assert.NotContains(t, string(out), "Unknown", "%s names what systemd does not know", unit)
	}
}
