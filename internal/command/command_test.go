package command_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/api"
	"tidemarker/internal/client"
	"tidemarker/internal/command"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"
	"tidemarker/internal/testsite"
)

func TestMain(m *testing.M) { testdb.Main(m) }

// bench is a site, and the commands as somebody of a role.
type bench struct {
	*testsite.Site
	server *api.Server
}

func newBench(t *testing.T) *bench {
	t.Parallel()
	b := &bench{Site: testsite.New(t)}
	b.server = api.NewServer(b.Desk.Runner, nil, slog.New(slog.DiscardHandler))
	return b
}

// as runs a command as somebody, and returns what it printed and its code.
func (b *bench) as(name string, role people.Role, args ...string) (out string, code int, err error) {
	b.Helper()
	web := httptest.NewServer(b.server.As(name, role))
	defer web.Close()
	root := &cobra.Command{Use: "tidemarker", SilenceErrors: true, SilenceUsage: true}
	root.AddCommand(command.New(func(context.Context, string) (*client.Client, func() error, error) {
		c, err := client.NewClient(web.URL)
		return c, func() error { return nil }, err
	}, "")...)
	var printed bytes.Buffer
	root.SetOut(&printed)
	root.SetArgs(args)
	err = root.ExecuteContext(b.Context())
	if e, is := errors.AsType[*command.Exit](err); is {
		return printed.String(), e.Code, e.Err
	}
	if err != nil {
		code = 1
	}
	return printed.String(), code, err
}

// vera runs a command as an approver, which has to be done.
func (b *bench) vera(args ...string) string {
	b.Helper()
	out, code, err := b.as("Vera", people.Approver, args...)
	require.NoError(b, err, out)
	require.Zero(b, code, out)
	return out
}

func TestAChangeOnTheCommandLine(t *testing.T) {
	b := newBench(t)
	b.Marked(b.Environments().Staging, b.Environments().Production)
	out := b.vera("change", "begin", "--site", "Fernhollow", "--title", "Lazy", "--set", "images.lazy=true", "--set", "markup.compact=true")
	assert.Contains(t, out, "Change 1 of Fernhollow: Lazy")
	assert.Contains(t, out, "may: try")
	out = b.vera("change", "set", "1", "markup.compact=null", "pages.lifetime=1800")
	assert.NotContains(t, out, "may: promote")
	var c client.ChangeView
	require.NoError(t, json.Unmarshal([]byte(b.vera("change", "show", "1", "--json")), &c))
	assert.Equal(t, map[string]any{"images.lazy": true, "pages.lifetime": 1800.0}, c.Edits)
	assert.Contains(t, b.vera("change", "list", "--site", "Fernhollow"), "drafted")
	_, code, err := b.as("Vera", people.Approver, "change", "promote", "1")
	assert.Equal(t, 1, code)
	assert.Error(t, err)
	for _, wrong := range [][]string{{"change", "set", "1", "images.lazy"}, {"change", "set", "1", "images.lazy=yes"}, {"change", "set", "1", "weather=true"}, {"change", "show", "first"}, {"change", "show", "99"}} {
		_, code, err := b.as("Vera", people.Approver, wrong...)
		assert.Equal(t, 1, code, "%v", wrong)
		assert.Error(t, err)
	}
	_, _, err = b.as("Vera", people.Approver, "change", "list", "--site", "Fernholow")
	assert.EqualError(t, err, `there is no site "Fernholow". There are: "Fernhollow"`)
	_, _, err = b.as("Otto", people.Observer, "change", "try", "1")
	assert.ErrorContains(t, err, "maintainer")

	out = b.vera("change", "try", "1", "--wait=false")
	assert.Contains(t, out, "trying")
	assert.Contains(t, b.vera("runs", "list", "--site", "Fernhollow", "--env", "staging"), "queued")
	run := b.open(b.Environments().Staging)
	assert.Contains(t, b.vera("runs", "stop", run), "stopped")
	out, code, err = b.as("Vera", people.Approver, "runs", "show", run, "--wait")
	require.NoError(t, err)
	assert.Equal(t, 3, code, "not checked: %s", out)
	assert.Contains(t, b.vera("change", "discard", "1"), "discarded")
}

// open is the number of the run that is open on an environment.
func (b *bench) open(e store.Environment) string {
	b.Helper()
	r, err := b.Desk.Store.OpenRunOn(b.Context(), e.ID)
	require.NoError(b, err)
	return json.Number(strings.TrimSpace(string(must(json.Marshal(r.ID))))).String()
}

// day is a local date and time some days from now, as entries have them.
func day(n int) string { return time.Now().UTC().AddDate(0, 0, n).Format("2006-01-02T15:04") }

func must(raw []byte, _ error) []byte { return raw }

func TestVerdictsAreCodes(t *testing.T) {
	b := newBench(t)
	staging := b.Environments().Staging
	for verdict, want := range map[evidence.Verdict]int{evidence.VerdictClear: 0, evidence.VerdictBroken: 1, evidence.VerdictUnsure: 2, evidence.VerdictNotChecked: 3} {
		id := b.Ended(t.Context(), store.Run{EnvironmentID: staging.ID, Kind: release.CheckRun}, verdict,
			evidence.Finding{Kind: evidence.JourneyKind, Severity: evidence.Broken, Page: "/", Persona: "visitor", Device: "phone", Title: "Buying\x1b[31m does not work", Cause: string(verdict), Part: "p"})
		out, code, err := b.as("Vera", people.Approver, "runs", "show", string(must(json.Marshal(id))), "--wait")
		require.NoError(t, err)
		assert.Equal(t, want, code)
		assert.Contains(t, out, "does not work")
		assert.NotContains(t, out, "\x1b", "what a site says orders no terminal about")
	}
}

func TestApprovalsFreezesAndWatchesOnTheCommandLine(t *testing.T) {
	b := newBench(t)
	c, r := b.Promoted("Compact", settings.Values{"markup.compact": true})
	out := b.vera("freezes", "add", "--site", "Fernhollow", "--title", "Sale week", "--from", day(-1), "--to", day(300), "--zone", "UTC")
	assert.Contains(t, out, "freeze 1: Sale week")
	out = b.vera("freezes", "list", "--site", "Fernhollow")
	assert.Contains(t, out, "Frozen until")
	assert.Contains(t, out, "Sale week")
	_, _, err := b.as("Vera", people.Approver, "freezes", "add", "--title", "Wrong", "--from", "tomorrow", "--to", "later", "--zone", "UTC")
	assert.ErrorContains(t, err, "tomorrow")
	_, _, err = b.as("Vera", people.Approver, "freezes", "remove", "99", "--site", "Fernhollow")
	assert.ErrorContains(t, err, "no entry 99")
	assert.Contains(t, b.vera("freezes", "remove", "1", "--site", "Fernhollow"), "Removed the freeze Sale week")
	assert.Contains(t, b.vera("freezes", "list", "--site", "Fernhollow"), "None.")

	_, _, err = b.as("Marin", people.Maintainer, "approvals", "ask", "1", "--words", "Please.")
	assert.Error(t, err, "it is on production already")
	assert.Contains(t, b.vera("approvals", "show", "1"), "not asked for")
	assert.Contains(t, b.vera("watch", "list", "--site", "Fernhollow"), "None.")
	require.NoError(t, b.Desk.Store.Within(t.Context(), func(s *store.Store) error {
		_, err := s.NewWatch(t.Context(), store.Watch{SiteID: b.ID, EnvironmentID: r.EnvironmentID, ChangeID: c.ID, RunID: r.ID, Fingerprint: b.Environments().Production.Fingerprint, BegunAt: r.CreatedAt, EndsAt: r.CreatedAt.AddDate(0, 0, 1)}, nil)
		return err
	}))
	assert.Contains(t, b.vera("watch", "list", "--site", "Fernhollow"), "watching")
	assert.Contains(t, b.vera("watch", "show", "1"), "Watch 1 on production")
	_, _, err = b.as("Vera", people.Approver, "watch", "keep", "1", "--reason", "No.")
	assert.ErrorContains(t, err, "Nothing is announced")
	assert.Contains(t, b.vera("watch", "stop", "1", "--reason", "Enough."), "Watch 1")
}

func TestMarksDriftExclusionsAndPurgesOnTheCommandLine(t *testing.T) {
	b := newBench(t)
	envs := b.Environments()
	b.Marked(envs.Staging, envs.Production)
	assert.Contains(t, b.vera("marks", "--site", "Fernhollow"), "production")
	assert.Contains(t, b.vera("drift", "show", "--site", "Fernhollow"), "None.")
	_, _, err := b.as("Vera", people.Approver, "drift", "accept", "--site", "Fernhollow", "--env", "staging", "--reason", "It was us.")
	assert.ErrorContains(t, err, "was not changed outside")
	v, tag := b.Staging.Layer.Settings()
	_, matched := b.Staging.Layer.Replace(v.With(settings.Values{"images.lazy": true}), tag)
	require.True(t, matched)
	require.NoError(t, b.Desk.Acts.ReadAll(t.Context()))
	assert.Contains(t, b.vera("drift", "show", "--site", "Fernhollow"), "images.lazy")
	assert.Contains(t, b.vera("drift", "accept", "--site", "Fernhollow", "--env", "staging", "--reason", "It was us."), "accepted")
	assert.Contains(t, b.vera("drift", "show", "--site", "Fernhollow"), "None.")
	_, _, err = b.as("Vera", people.Approver, "drift", "show", "--site", "Nowhere")
	assert.ErrorContains(t, err, "there is no site")

	file := filepath.Join(t.TempDir(), "exclusions.csv")
	csv := b.vera("exclusions", "export", "--site", "Fernhollow")
	require.NotEmpty(t, csv)
	require.NoError(t, os.WriteFile(file, []byte(csv), 0o600))
	assert.Contains(t, b.vera("exclusions", "import", file, "--site", "Fernhollow"), "added")
	assert.NotEmpty(t, b.vera("exclusions", "list", "--site", "Fernhollow"))
	assert.Contains(t, b.vera("purge", "--site", "Fernhollow", "--env", "staging"), "Purged")
	_, _, err = b.as("Vera", people.Approver, "purge", "--site", "Fernhollow", "--env", "moon")
	assert.EqualError(t, err, `Fernhollow has no environment "moon". It has: "staging", "production"`)
}

func TestTheShellCompletesTheNamesOfSites(t *testing.T) {
	b := newBench(t)
	out, _, err := b.as("Vera", people.Approver, "__complete", "change", "list", "--site", "Fern")
	require.NoError(t, err)
	assert.Contains(t, out, "Fernhollow")
}
