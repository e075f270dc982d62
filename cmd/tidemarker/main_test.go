package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/smtp"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/docs/contract"
	"tidemarker/internal/core/site"
	"tidemarker/internal/standin"
	"tidemarker/internal/testdb"
)

func TestMain(m *testing.M) { testdb.Main(m) }

const oneSite = `
site: One
environments: [{ name: staging, url: "URL", connector: { kind: http, url: "URL/_speed/v1", token: "env:ONE_TOKEN" } }]
pages: [{ path: /contact, class: form, devices: [desktop] }]
journeys: [{ name: menu, devices: [phone], steps: [{ go: /contact }, { click: { role: button, name: Menu } }, { expect: { visible: { role: link, name: Library } } }] }]
`

// cli runs the built product and returns its exit code and what it printed.
func cli(t *testing.T, bin, database string, args ...string) (int, string) {
	t.Helper()
	cmd := exec.Command(bin, args...)
	cmd.Env = append(os.Environ(), "DATABASE_URL="+database, "ONE_TOKEN=s3cret-token", "TIDEMARKER_KEY="+testdb.Key, "TIDEMARKER_TOKEN_VARIABLES=ANOTHER,ONE_TOKEN")
	out, err := cmd.CombinedOutput()
	assert.NotContains(t, string(out), "s3cret-token", "a token is never printed")
	if e, ok := errors.AsType[*exec.ExitError](err); ok {
		return e.ExitCode(), string(out)
	}
	require.NoError(t, err, string(out))
	return 0, string(out)
}

// built is the product, built once.
var built = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "tidemarker-test-")
	if err != nil {
		return "", err
	}
	bin := filepath.Join(dir, "tidemarker")
	out, err := exec.Command("go", "build", "-o", bin, ".").CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	return bin, nil
})

// workplace is the built product, a database, a site and its file.
func workplace(t *testing.T) (bin, database string, inst *standin.Instance, file string) {
	t.Helper()
	bin, err := built()
	require.NoError(t, err)
	_, database = testdb.New(t)
	inst, err = standin.StartFernhollow(standin.Options{Environment: "staging", Addr: "127.0.0.1:0", Token: "s3cret-token"})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, inst.Close()) })
	file = filepath.Join(t.TempDir(), "one.yaml")
	require.NoError(t, os.WriteFile(file, []byte(strings.ReplaceAll(oneSite, "URL", inst.URL)), 0o600))
	return bin, database, inst, file
}

// running starts the product in the background and waits until it prints what a pattern
// finds. stop ends it as Ctrl-C does, and waits.
func running(t *testing.T, database string, found *regexp.Regexp, args ...string) (match []string, stop func()) {
	t.Helper()
	bin, err := built()
	require.NoError(t, err)
	cmd := exec.Command(bin, args...)
	cmd.Env = append(os.Environ(), "DATABASE_URL="+database, "ONE_TOKEN=s3cret-token", "TIDEMARKER_KEY="+testdb.Key, "TIDEMARKER_TOKEN_VARIABLES=ANOTHER,ONE_TOKEN")
	printed, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	stop = sync.OnceFunc(func() {
		assert.NoError(t, cmd.Process.Signal(os.Interrupt))
		assert.NoError(t, cmd.Wait(), "it ends well when it is told to")
	})
	t.Cleanup(stop)
	lines := bufio.NewScanner(printed)
	for match == nil && lines.Scan() {
		match = found.FindStringSubmatch(lines.Text())
	}
	require.NotNil(t, match, "it did not print %s", found)
	go func() { // the rest is read, so that it never waits for us
		for lines.Scan() {
		}
	}()
	return match, stop
}

func TestTheDemoOpensWithItsRecordTwiceInARow(t *testing.T) {
	_, database := testdb.New(t)
	data := t.TempDir()
	taken, err := net.Listen("tcp", "127.0.0.1:9101") // a port that it would like is not free
	if err == nil {
		t.Cleanup(func() { _ = taken.Close() })
	}
	for range 2 {
		at, stop := running(t, database, regexp.MustCompile(`Tide Marker +(http://\S+)`), "--data", data, "demo", "--folder", "../../demo", "--listen", "127.0.0.1:0")
		otto, err := signedIn(t.Context(), at[1], "Otto", demoPassword)
		require.NoError(t, err)
		var list struct {
			Sites []struct {
				ID            int64
				Name, Waiting string
			}
		}
		require.NoError(t, otto.call(t.Context(), http.MethodGet, "/sites", nil, &list))
		require.Len(t, list.Sites, 2)
		assert.Equal(t, "Fernhollow", list.Sites[0].Name, "what waits comes first")
		assert.Contains(t, list.Sites[0].Waiting, "Approval of Lazy pictures and compact markup was requested")
		var shop struct {
			Environments []struct {
				ID    int64
				URL   string
				Marks []struct{ ID int64 }
				Drift *struct{}
			}
			Changes []struct{ State string }
		}
		require.NoError(t, otto.call(t.Context(), http.MethodGet, fmt.Sprintf("/sites/%d", list.Sites[0].ID), nil, &shop))
		states := []string{}
		for _, c := range shop.Changes {
			states = append(states, c.State)
		}
		assert.ElementsMatch(t, []string{"drafted", "checked", "settled", "rolled back", "settled"}, states)
		for _, e := range shop.Environments {
			assert.NotEmpty(t, e.Marks)
			assert.Nil(t, e.Drift, "the sites have the settings that the record left them with")
			assert.NotEqual(t, "http://127.0.0.1:9101", e.URL)
		}
		marin, err := signedIn(t.Context(), at[1], "Marin", demoPassword)
		require.NoError(t, err)
		for _, e := range shop.Environments {
			require.NoError(t, marin.call(t.Context(), http.MethodPost, fmt.Sprintf("/environments/%d/read", e.ID), map[string]any{}, nil), "its sites can be worked on")
		}
		assert.Error(t, otto.call(t.Context(), http.MethodPost, fmt.Sprintf("/sites/%d/changes", list.Sites[0].ID), map[string]any{"title": "T", "reason": "", "effect": ""}, nil), "an observer changes nothing")
		stop()
	}
}

func TestAStagingRunFromTheCommandLine(t *testing.T) {
	bin, database, inst, file := workplace(t)

	code, said := cli(t, bin, database, "mark", "--site", "One")
	assert.Equal(t, 3, code)
	assert.Contains(t, said, "tidemarker site import FILE")
	code, said = cli(t, bin, database, "site", "import", file)
	assert.Zero(t, code)
	assert.Contains(t, said, "1 environments, 1 pages")
	code, said = cli(t, bin, database, "site", "export", "One")
	assert.Zero(t, code)
	assert.NotContains(t, said, "token:")
	doc, err := site.Parse([]byte(said))
	require.NoError(t, err, "what goes out can come in")
	assert.Equal(t, "One", doc.Name)
	code, said = cli(t, bin, database, "site", "export", "Two")
	assert.NotZero(t, code)
	assert.Contains(t, said, "tidemarker site list")
	code, said = cli(t, bin, database, "mark", "--site", "One", "--env", "staging")
	assert.Zero(t, code, said)

	schema := reportSchema(t)
	report := filepath.Join(t.TempDir(), "report.json")
	before, _ := inst.Layer.Settings()
	for _, tc := range []struct {
		name string
		args []string
		code int
		says string
	}{
		{"clear", []string{"--set", "markup.compact=true"}, 0, "Clear: 2 looks"},
		{"broken", []string{"--set", "scripts.defer=true"}, 1, "Fern is not defined"},
		{"a value of the wrong type", []string{"--set", `pages.lifetime="long"`}, 3, "must be a whole number"},
		{"a key that is none", []string{"--set", "pages.lifetimes=3"}, 3, "no setting of that name"},
		{"a collision", []string{"--set", "scripts.defer=true", "--set", "scripts.delay=true"}, 3, "collides with"},
	} {
		t.Run(tc.name, func(t *testing.T) {
			code, said := cli(t, bin, database, append([]string{"try", "--site", "One", "--json", report}, tc.args...)...)
			assert.Equal(t, tc.code, code, said)
			raw, err := os.ReadFile(report)
			require.NoError(t, err)
			assert.Contains(t, said+string(raw), tc.says)
			doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
			require.NoError(t, err)
			require.NoError(t, schema.Validate(doc))
			var r struct {
				Restored bool
				Verdict  string
			}
			require.NoError(t, json.Unmarshal(raw, &r))
			assert.True(t, r.Restored)
			now, _ := inst.Layer.Settings()
			assert.Equal(t, before, now, "staging is as it was")
		})
	}
	culprits := schemaOf(t, contract.CulpritReportSchema)
	for _, tc := range []struct {
		name string
		sets []string
		code int
		says string
	}{
		{"one of four", []string{"scripts.defer=true", "markup.compact=true", "images.keyFirst=true", "warm.every=7200"}, 0, "may stay with scripts.deferNot: /assets/fern.js"},
		{"one alone", []string{"scripts.defer=true"}, 0, "scripts.defer=true"},
		{"none", []string{"markup.compact=true"}, 1, "Clear: 2 looks"},
	} {
		t.Run("culprit: "+tc.name, func(t *testing.T) {
			args := []string{"find-culprit", "--site", "One", "--json", report}
			for _, s := range tc.sets {
				args = append(args, "--set", s)
			}
			code, said := cli(t, bin, database, args...)
			assert.Equal(t, tc.code, code, said)
			raw, err := os.ReadFile(report)
			require.NoError(t, err)
			assert.Contains(t, said+string(raw), tc.says)
			doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
			require.NoError(t, err)
			require.NoError(t, culprits.Validate(doc))
			now, _ := inst.Layer.Settings()
			assert.Equal(t, before, now, "staging is as it was")
		})
	}
	code, said = cli(t, bin, database, "predict", "--site", "One", "--set", "scripts.defer=true")
	assert.Zero(t, code, said)
	assert.Contains(t, said, "uses “Fern” before it is defined (sure)")
	assert.Contains(t, said, "exclude in scripts.deferNot: /assets/fern.js")
	code, said = cli(t, bin, database, "predict", "--site", "One", "--set", "scripts.defer=true", "--set", `scripts.deferNot=["/assets/fern.js"]`)
	assert.Zero(t, code, said)
	assert.Contains(t, said, "Nothing predicted")
	code, said = cli(t, bin, database, "predict", "--site", "One", "--set", "scripts.defer=7")
	assert.Equal(t, 3, code, said)
	code, said = cli(t, bin, database, "measure", "--site", "One", "--set", "scripts.combine=true", "--rounds", "5", "--json", report, "--junit", report+".xml")
	assert.Contains(t, []int{0, 2}, code, said)
	build, err := os.ReadFile(report + ".xml")
	require.NoError(t, err)
	assert.Contains(t, string(build), `<testsuite name="One"`)
	code, said = cli(t, bin, database, "measure", "--site", "One", "--rounds", "1", "--json", report+".alone")
	assert.Zero(t, code, said)
	assert.Contains(t, said, "Measured as it is, in 1 rounds")
	assert.Contains(t, said, "largest paint")
	raw, err := os.ReadFile(report)
	require.NoError(t, err)
	speed, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	require.NoError(t, err)
	require.NoError(t, schemaOf(t, contract.MeasureReportSchema).Validate(speed))
	assert.Contains(t, said, "rounds")
	measured, _ := inst.Layer.Settings()
	assert.Equal(t, before, measured, "staging is as it was")
	code, said = cli(t, bin, database, "try", "--site", "One", "--set", "markup.compact=true", "--keep")
	assert.Zero(t, code, said)
	now, _ := inst.Layer.Settings()
	assert.Equal(t, true, now["markup.compact"], "kept")
	code, said = cli(t, bin, database, "serve", "--listen", "0.0.0.0:0")
	assert.Equal(t, 1, code)
	assert.Contains(t, said, "refused without --public")
}

// TestAServerIsMovedIntoAndWorkedWithFromElsewhere starts a server that nobody has
// used, comes in by the link it prints, and tries a setting with a token.
func TestAServerIsMovedIntoAndWorkedWithFromElsewhere(t *testing.T) {
	bin, database, inst, file := workplace(t)
	code, said := cli(t, bin, database, "site", "import", file)
	require.Zero(t, code, said)

	link := regexp.MustCompile(`(http://\S+)/join#(\S+)`)
	status := freePort(t)
	at, _ := running(t, database, link, "serve", "--listen", "127.0.0.1:0", "--status-listen", "127.0.0.1:"+status) // it prints how the first administrator comes in
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	ada := &client{url: at[1], http: http.Client{Jar: jar}}
	require.NoError(t, ada.call(t.Context(), http.MethodPost, "/session/invited", map[string]any{"secret": at[2], "name": "Ada", "password": "three words here"}, nil))
	var made struct{ Secret string }
	require.NoError(t, ada.call(t.Context(), http.MethodPost, "/tokens", map[string]any{"name": "nightly", "most": "maintainer", "days": 1}, &made))

	metrics := get(t, "http://127.0.0.1:"+status+"/metrics")
	assert.Contains(t, metrics, "# EOF", "OpenMetrics")
	for _, has := range []string{`tidemarker_environments_unknown 0`, `tidemarker_database_connections{state="in use"}`, `tidemarker_http_request_duration_seconds_count{method="POST",status="201"} 2`, "go_goroutines"} {
		assert.Contains(t, metrics, has)
	}
	assert.NotContains(t, metrics, made.Secret)
	assert.Contains(t, get(t, "http://127.0.0.1:"+status+"/readyz"), "ready")

	t.Setenv(tokenVariable, "")
	try := []string{"--server", at[1], "--site", "One", "--set", "markup.compact=true"}
	code, said = cli(t, bin, database, append([]string{"try"}, try...)...)
	assert.Equal(t, 3, code)
	assert.Contains(t, said, tokenVariable)
	t.Setenv(tokenVariable, made.Secret)
	code, said = cli(t, bin, database, "mark", "--server", at[1], "--site", "One")
	assert.Zero(t, code, said)
	before, _ := inst.Layer.Settings()
	report := filepath.Join(t.TempDir(), "report.json")
	code, said = cli(t, bin, database, append([]string{"try", "--json", report}, try...)...)
	assert.Zero(t, code, said)
	assert.NotContains(t, said, made.Secret)
	raw, err := os.ReadFile(report)
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	require.NoError(t, err)
	require.NoError(t, reportSchema(t).Validate(doc))
	now, _ := inst.Layer.Settings()
	assert.Equal(t, before, now, "staging is as it was")
	code, said = cli(t, bin, database, "try", "--server", at[1], "--site", "Two", "--set", "a=1")
	assert.Equal(t, 3, code)
	assert.Contains(t, said, `the server has no site "Two"`)

	code, said = cli(t, bin, database, "invite", "--person", "ada", "--server", at[1])
	assert.Zero(t, code, said)
	again := link.FindStringSubmatch(said)
	require.NotNil(t, again)
	require.NoError(t, ada.call(t.Context(), http.MethodPost, "/session/invited", map[string]any{"secret": again[2], "name": "", "password": "other words here"}, nil))
	_, err = signedIn(t.Context(), at[1], "Ada", "other words here")
	assert.NoError(t, err, "who forgot the password chooses another")
}

func reportSchema(t *testing.T) *jsonschema.Schema { return schemaOf(t, contract.ReportSchema) }

func schemaOf(t *testing.T, raw []byte) *jsonschema.Schema {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	require.NoError(t, c.AddResource("report.json", doc))
	s, err := c.Compile("report.json")
	require.NoError(t, err)
	return s
}

func TestSetsAreJSON(t *testing.T) {
	v, err := parseSets([]string{"a=true", `b=["/x=y"]`, "c=3"})
	require.NoError(t, err)
	assert.Equal(t, []any{"/x=y"}, v["b"])
	for _, bad := range [][]string{{"a"}, {"=1"}, {"a=yes"}, nil} {
		_, err := parseSets(bad)
		assert.Error(t, err, "%v", bad)
	}
}

func TestTheOutboxTakesMailAndEndsWhenItIsTold(t *testing.T) {
	bin, err := built()
	require.NoError(t, err)
	cmd := exec.Command(bin, "outbox", "--mail", "127.0.0.1:0", "--web", "127.0.0.1:0", "--key", "s3cret-key")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	lines := bufio.NewScanner(out)
	require.True(t, lines.Scan())
	_, mail, _ := strings.Cut(lines.Text(), "mail (SMTP): ")
	require.True(t, lines.Scan())
	_, web, _ := strings.Cut(lines.Text(), ": ")
	require.NoError(t, smtp.SendMail(mail, nil, "shop@example.org", []string{"ada@example.org"}, []byte("Subject: An order\r\n\r\nTwo boxes.\r\n")))
	res, err := http.Get(web + "messages.json")
	require.NoError(t, err)
	defer res.Body.Close()
	var caught []struct{ Subject string }
	require.NoError(t, json.NewDecoder(res.Body).Decode(&caught))
	require.Len(t, caught, 1)
	assert.Equal(t, "An order", caught[0].Subject)
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	require.NoError(t, cmd.Wait())

	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	code, text := cli(t, bin, "", "outbox", "--mail", taken.Addr().String())
	assert.Equal(t, 1, code)
	assert.Contains(t, text, "listen for mail")
}
