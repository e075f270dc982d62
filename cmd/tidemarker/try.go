package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/run"
	"tidemarker/internal/store"
)

// The codes with which mark and try end.
var verdictCodes = map[evidence.Verdict]int{
	evidence.VerdictClear: 0, evidence.VerdictBroken: 1, evidence.VerdictUnsure: 2, evidence.VerdictNotChecked: 3,
}

const notChecked = 3

func markCommand(data *string) *cobra.Command {
	var siteName, envName, server string
	c := &cobra.Command{
		Use: "mark", Short: "Takes a mark: looks twice at an environment as it is, and records that it works", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx := cmd.Context()
			if server != "" {
				return remoteMark(ctx, cmd.OutOrStdout(), server, siteName, envName)
			}
			a, err := open(ctx, *data)
			if err != nil {
				return &exit{notChecked, err}
			}
			defer a.close()
			s, env, err := a.siteAndEnvironment(ctx, siteName, envName)
			if err != nil {
				return &exit{notChecked, err}
			}
			r, err := a.takeMark(ctx, s, env)
			if err != nil {
				return &exit{notChecked, err}
			}
			rep, err := run.Report(ctx, a.store, r.ID)
			printReport(cmd.OutOrStdout(), rep)
			return err
		},
	}
	siteFlags(c, &siteName, &envName, &server)
	return c
}

func siteFlags(c *cobra.Command, siteName, envName, server *string) {
	c.Flags().StringVar(server, "server", os.Getenv("TIDEMARKER_SERVER"), "address of a running Tide Marker that is to do it; the token comes from "+tokenVariable)
	c.Flags().StringVar(siteName, "site", "", "name of the site")
	c.Flags().StringVar(envName, "env", "staging", "name of the environment")
	_ = c.MarkFlagRequired("site")
}

func (a *app) takeMark(ctx context.Context, s store.Site, env store.Environment) (store.Run, error) {
	r, err := a.carryOut(ctx, store.Run{SiteID: s.ID, EnvironmentID: env.ID, Kind: release.MarkRun, RequestedBy: a.who})
	if err == nil && r.State != release.Done {
		err = errors.New(r.Problem)
	}
	return r, err
}

// carryOut works a run off in this process. When the process is told to end, the run is
// stopped, and restores what it is to restore.
func (a *app) carryOut(ctx context.Context, r store.Run) (store.Run, error) {
	id, err := a.attend(ctx, r.SiteID, func(ctx context.Context) (int64, error) { return a.runner.StartAttended(ctx, r) })
	if err != nil {
		return r, err
	}
	return a.store.Run(context.WithoutCancel(ctx), id)
}

// attend begins a run and works it off, as carryOut does.
func (a *app) attend(ctx context.Context, site int64, start func(context.Context) (int64, error)) (id int64, err error) {
	if err := a.runner.TakeUp(ctx, site); err != nil {
		return 0, err
	}
	if id, err = start(ctx); err != nil {
		return 0, err
	}
	steady := context.WithoutCancel(ctx)
	defer context.AfterFunc(ctx, func() { _ = a.runner.Stop(steady, id) })()
	for {
		r, err := a.store.Run(steady, id)
		if err != nil || r.State.Over() {
			return id, err
		}
		if r.ResumeAt == nil || time.Now().After(*r.ResumeAt) {
			err := a.runner.Run(steady, id)
			if r, again := a.store.Run(steady, id); again != nil || r.State.Over() {
				return id, again
			}
			if err != nil && !errors.Is(err, run.ErrNotFree) {
				a.log.Warn("the run goes on in a moment", "why", err)
			}
		}
		// Something else acts on the environment, or it has to be known first what it has.
		if err := a.runner.Recover(steady); err != nil {
			a.log.Warn("what waits could not be seen to", "why", err)
		}
		time.Sleep(time.Second)
	}
}

func tryCommand(data *string) *cobra.Command {
	var siteName, envName, server, out string
	var sets []string
	var keep bool
	c := &cobra.Command{
		Use:   "try",
		Short: "Tries settings on staging: applies, purges, warms, checks, and puts staging back",
		Long: `Applies settings on staging, clears and warms it, looks at every page of the test plan and
takes every journey, compares with the mark, writes what was found, and puts
staging back unless --keep is given.

Ends with 0 when the check is clear, 1 broken, 2 unsure, 3 not checked.`,
		Example: `  tidemarker try --site Fernhollow --set scripts.defer=true --set 'scripts.deferNot=["fern.js"]' --json report.json`,
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			edits, err := parseSets(sets)
			if err != nil {
				return &exit{notChecked, err}
			}
			var report evidence.Report
			if server != "" {
				report, err = remoteTry(cmd.Context(), server, siteName, envName, edits, keep)
			} else {
				report, err = localTry(cmd.Context(), *data, siteName, envName, edits, keep)
			}
			if err != nil {
				report.Verdict, report.Summary = evidence.VerdictNotChecked, "Not checked: "+err.Error()
			}
			if writeErr := writeJSON(report, out); writeErr != nil {
				return &exit{notChecked, errors.Join(err, writeErr)}
			}
			if err != nil {
				return &exit{notChecked, err}
			}
			printReport(cmd.OutOrStdout(), report)
			if !keep && !report.Restored {
				fmt.Fprintln(cmd.ErrOrStderr(), "tidemarker: staging could not be restored; see the site's page")
			}
			return &exit{verdictCodes[report.Verdict], nil}
		},
	}
	siteFlags(c, &siteName, &envName, &server)
	c.Flags().StringArrayVar(&sets, "set", nil, "a setting and its value as JSON, key=JSON; may be given more than once")
	c.Flags().BoolVar(&keep, "keep", false, "leave the settings on staging")
	c.Flags().StringVar(&out, "json", "", "file to write the report to, - for standard output")
	return c
}

func parseSets(sets []string) (settings.Values, error) {
	edits := settings.Values{}
	for _, s := range sets {
		key, raw, ok := strings.Cut(s, "=")
		if !ok || key == "" {
			return nil, fmt.Errorf("--set %q is not key=JSON", s)
		}
		var v any
		if err := json.Unmarshal([]byte(raw), &v); err != nil {
			return nil, fmt.Errorf("--set %s: %q is not JSON. A text needs its own quotes: --set '%s=\"…\"'", key, raw, key)
		}
		edits[key] = v
	}
	if len(edits) == 0 {
		return nil, errors.New("nothing to try: name at least one setting with --set key=JSON")
	}
	return edits, nil
}

// localTry tries in this process, on the database that it opens.
func localTry(ctx context.Context, data, siteName, envName string, edits settings.Values, keep bool) (evidence.Report, error) {
	a, err := open(ctx, data)
	if err != nil {
		return run.EmptyReport(siteName, envName, time.Now().UTC()), err
	}
	defer a.close()
	return a.try(ctx, siteName, envName, edits, keep)
}

// try carries a staging run out. The report is as complete as the run got, also
// when an error is returned.
func (a *app) try(ctx context.Context, siteName, envName string, edits settings.Values, keep bool) (evidence.Report, error) {
	rep := run.EmptyReport(siteName, envName, time.Now().UTC())
	s, env, err := a.siteAndEnvironment(ctx, siteName, envName)
	if err != nil {
		return rep, err
	}
	if err := a.markFirst(ctx, s, env); err != nil {
		return rep, err
	}
	p, err := a.runner.Acts.Propose(ctx, env.ID, edits)
	rep.Change, rep.Revision = append(rep.Change, p.Difference...), p.Revision
	if err != nil {
		return rep, err
	}
	r, err := a.carryOut(ctx, store.Run{SiteID: s.ID, EnvironmentID: env.ID, Kind: release.TryRun, Target: p.Revision, Restores: !keep, RequestedBy: a.who})
	if err != nil {
		rep.Restored = false
		return rep, err
	}
	return run.Report(context.WithoutCancel(ctx), a.store, r.ID)
}

// markFirst takes a mark of an environment that has none yet.
func (a *app) markFirst(ctx context.Context, s store.Site, env store.Environment) error {
	_, err := a.store.LatestMark(ctx, env.ID)
	if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	fmt.Fprintf(os.Stderr, "tidemarker: %s has no mark yet; one is taken first\n", env.Name)
	_, err = a.takeMark(ctx, s, env)
	return err
}

// newClient is a client for a server, with the token that the environment gives.
func newClient(server string) (*client, error) {
	token := os.Getenv(tokenVariable)
	if token == "" {
		return nil, fmt.Errorf("put a token into the environment variable %s. Signed in, you make one under your name", tokenVariable)
	}
	return &client{url: server, token: token}, nil
}

// remoteTry has a server try; it takes a first mark itself when there is none.
func remoteTry(ctx context.Context, server, siteName, envName string, edits settings.Values, keep bool) (evidence.Report, error) {
	rep := run.EmptyReport(siteName, envName, time.Now().UTC())
	c, err := newClient(server)
	if err != nil {
		return rep, err
	}
	env, err := c.environment(ctx, siteName, envName)
	if err != nil {
		return rep, err
	}
	got, err := c.carryOut(ctx, fmt.Sprintf("/environments/%d/tries", env), map[string]any{"edits": edits, "keep": keep})
	if err != nil {
		return rep, err
	}
	return got, nil
}

func remoteMark(ctx context.Context, w io.Writer, server, siteName, envName string) error {
	c, err := newClient(server)
	if err != nil {
		return &exit{notChecked, err}
	}
	env, err := c.environment(ctx, siteName, envName)
	if err != nil {
		return &exit{notChecked, err}
	}
	rep, err := c.carryOut(ctx, fmt.Sprintf("/environments/%d/marks", env), map[string]any{})
	if err != nil {
		return &exit{notChecked, err}
	}
	printReport(w, rep)
	if rep.Verdict == evidence.VerdictNotChecked {
		return &exit{notChecked, nil}
	}
	return nil
}

func writeJSON(report any, out string) error {
	if out == "" {
		return nil
	}
	raw, err := json.MarshalIndent(report, "", "  ")
	if err != nil {
		return err
	}
	raw = append(raw, '\n')
	if out == "-" {
		_, err = os.Stdout.Write(raw)
		return err
	}
	if err := os.WriteFile(out, raw, 0o644); err != nil {
		return fmt.Errorf("write the report: %w", err)
	}
	return nil
}

func printReport(w io.Writer, rep evidence.Report) {
	fmt.Fprintln(w, rep.Summary)
	for _, f := range rep.Findings {
		fmt.Fprintf(w, "  %-6s %-16s %s, %s on %s: %s\n", f.Severity, f.Kind, f.Page, f.Persona, f.Device, f.Title)
	}
}
