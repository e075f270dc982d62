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
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// The codes with which mark and try end.
var verdictCodes = map[evidence.Verdict]int{
	evidence.VerdictClear: 0, evidence.VerdictBroken: 1, evidence.VerdictUnsure: 2, evidence.VerdictNotChecked: 3,
}

const notChecked = 3

func markCommand(data *string) *cobra.Command {
	var siteName, envName string
	c := &cobra.Command{
		Use: "mark", Short: "Takes a mark: looks twice at an environment as it is, and records that it works", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx := cmd.Context()
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
			fmt.Fprintln(cmd.OutOrStdout(), r.Summary)
			return printFindings(ctx, cmd.OutOrStdout(), a, r)
		},
	}
	siteFlags(c, &siteName, &envName)
	return c
}

func siteFlags(c *cobra.Command, siteName, envName *string) {
	c.Flags().StringVar(siteName, "site", "", "name of the site")
	c.Flags().StringVar(envName, "env", "staging", "name of the environment")
	_ = c.MarkFlagRequired("site")
}

func (a *app) takeMark(ctx context.Context, s store.Site, env store.Environment) (store.Round, error) {
	r, err := a.carryOut(ctx, store.Round{SiteID: s.ID, EnvironmentID: env.ID, Kind: store.MarkRound, RequestedBy: a.who})
	if err == nil && r.State != store.Done {
		err = errors.New(r.Problem)
	}
	return r, err
}

// carryOut works a round off in this process. When the process is told to end, the
// round is stopped, and puts back what it is to put back.
func (a *app) carryOut(ctx context.Context, r store.Round) (store.Round, error) {
	if err := a.runner.Recover(ctx); err != nil {
		return r, err
	}
	// Running from the start: no queue knows of it, and when this process dies it is to be
	// taken up by whoever comes next.
	r.State = store.Running
	id, err := a.store.NewRound(ctx, r)
	if err != nil {
		return r, err
	}
	steady := context.WithoutCancel(ctx)
	defer context.AfterFunc(ctx, func() { _ = a.store.AskToStop(steady, id) })()
	if err := a.runner.Run(steady, id); err != nil {
		return r, err
	}
	return a.store.Round(steady, id)
}

func tryCommand(data *string) *cobra.Command {
	var siteName, envName, out string
	var sets []string
	var keep bool
	c := &cobra.Command{
		Use:   "try",
		Short: "Tries settings on staging: applies, purges, warms, checks, and puts staging back",
		Long: `Applies settings on staging, clears and warms it, looks at every watched page and
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
			a, err := open(cmd.Context(), *data)
			if err != nil {
				return &exit{notChecked, err}
			}
			defer a.close()
			report, err := a.try(cmd.Context(), siteName, envName, edits, keep)
			if err != nil {
				report.Verdict, report.Summary = evidence.VerdictNotChecked, "Not checked: "+err.Error()
			}
			if writeErr := writeReport(report, out); writeErr != nil {
				return &exit{notChecked, errors.Join(err, writeErr)}
			}
			if err != nil {
				return &exit{notChecked, err}
			}
			fmt.Fprintln(cmd.OutOrStdout(), report.Summary)
			for _, f := range report.Findings {
				printFinding(cmd.OutOrStdout(), f)
			}
			if !keep && !report.Restored {
				fmt.Fprintln(cmd.ErrOrStderr(), "tidemarker: staging could not be put back; see the site's page")
			}
			return &exit{verdictCodes[report.Verdict], nil}
		},
	}
	siteFlags(c, &siteName, &envName)
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

// try carries a staging round out. The report is as complete as the round got, also
// when an error is returned.
func (a *app) try(ctx context.Context, siteName, envName string, edits settings.Values, keep bool) (evidence.Report, error) {
	now := time.Now().UTC()
	rep := evidence.Report{Site: siteName, Environment: envName, StartedAt: now, FinishedAt: now, Verdict: evidence.VerdictNotChecked,
		Change: []settings.Difference{}, Findings: []evidence.Finding{}, Restored: true}
	s, env, err := a.siteAndEnvironment(ctx, siteName, envName)
	if err != nil {
		return rep, err
	}
	if _, err := a.store.LatestMark(ctx, env.ID); errors.Is(err, store.ErrNotFound) {
		fmt.Fprintf(os.Stderr, "tidemarker: %s has no mark yet; taking one first\n", envName)
		if _, err := a.takeMark(ctx, s, env); err != nil {
			return rep, err
		}
	} else if err != nil {
		return rep, err
	}
	env, found, _, err := a.runner.Read(ctx, env.ID, a.who)
	if err != nil {
		return rep, err
	}
	target := found.Values.With(edits)
	rep.Change = settings.Diff(found.Values, target)
	if rep.Change == nil {
		rep.Change = []settings.Difference{}
	}
	if err := env.Catalogue.V.Validate(target); err != nil {
		return rep, fmt.Errorf("nothing was applied: %w", err)
	}
	if why := obstacles(env, found.Values, target); why != "" {
		return rep, fmt.Errorf("nothing was applied: %s", why)
	}
	if rep.Revision, err = a.store.SaveRevision(ctx, s.ID, target); err != nil {
		return rep, err
	}
	r, err := a.carryOut(ctx, store.Round{SiteID: s.ID, EnvironmentID: env.ID, Kind: store.TryRound, Target: rep.Revision, PutBack: !keep, RequestedBy: a.who})
	if err != nil {
		rep.Restored = false
		return rep, err
	}
	return a.report(context.WithoutCancel(ctx), rep, r)
}

// obstacles are what newly stands in the way of a set of values, in words.
func obstacles(env store.Environment, before, target settings.Values) string {
	host := env.About.V.Facts.Abilities()
	already := map[string]bool{}
	for _, q := range env.Catalogue.V.Consequences(before, host) {
		already[q.Text] = true
	}
	var why []string
	for _, q := range env.Catalogue.V.Consequences(target, host) {
		if q.Blocks && !already[q.Text] {
			why = append(why, q.Text)
		}
	}
	return strings.Join(why, " ")
}

func (a *app) report(ctx context.Context, rep evidence.Report, r store.Round) (evidence.Report, error) {
	rows, err := a.store.Findings(ctx, r.ID)
	if err != nil {
		return rep, err
	}
	for _, f := range rows {
		rep.Findings = append(rep.Findings, f.Document.V)
	}
	rep.Verdict, rep.Summary, rep.Restored, rep.Looks = r.Verdict, r.Summary, r.Restored, r.Progress.V.Looks
	if r.StartedAt != nil {
		rep.StartedAt = r.StartedAt.UTC()
	}
	if r.FinishedAt != nil {
		rep.FinishedAt = r.FinishedAt.UTC()
	}
	if r.MarkID != nil {
		m, err := a.store.Mark(ctx, *r.MarkID)
		if err != nil {
			return rep, err
		}
		rep.ComparedWith = m.Fingerprint
	}
	return rep, nil
}

func writeReport(rep evidence.Report, out string) error {
	if out == "" {
		return nil
	}
	raw, err := json.MarshalIndent(rep, "", "  ")
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

func printFindings(ctx context.Context, w io.Writer, a *app, r store.Round) error {
	rows, err := a.store.Findings(ctx, r.ID)
	if err != nil {
		return err
	}
	for _, f := range rows {
		printFinding(w, f.Document.V)
	}
	return nil
}

func printFinding(w io.Writer, f evidence.Finding) {
	fmt.Fprintf(w, "  %-6s %-16s %s, %s on %s: %s\n", f.Severity, f.Kind, f.Page, f.Persona, f.Device, f.Title)
}
