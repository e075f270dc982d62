package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"tidemarker/internal/core/culprit"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/run"
	"tidemarker/internal/store"
)

// The codes with which find-culprit ends.
var culpritCodes = map[string]int{"found": 0, "not broken": 1, "not found": 2, "not checked": notChecked}

func findCulpritCommand(data *string) *cobra.Command {
	var siteName, envName, server, out string
	var sets []string
	c := &cobra.Command{
		Use:   "find-culprit",
		Short: "Finds which of several settings breaks staging",
		Long: `Tries all the settings on staging, and when that breaks something tries parts of them until it
is known which setting, or which entry of a list, does it. Staging is restored afterwards.

Ends with 0 when the culprit was found, 1 when nothing is broken, 2 when it was not found, 3 when
it could not be checked.`,
		Example: `  tidemarker find-culprit --site Fernhollow --set scripts.defer=true --set markup.compact=true --json culprit.json`,
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			edits, err := parseSets(sets)
			if err != nil {
				return &exit{notChecked, err}
			}
			var report run.CulpritReport
			if server != "" {
				report, err = remoteFindCulprit(cmd.Context(), server, siteName, envName, edits)
			} else {
				report, err = localFindCulprit(cmd.Context(), *data, siteName, envName, edits)
			}
			if err != nil {
				report.Verdict, report.Summary = "not checked", "Not checked: "+err.Error()
			}
			if report.Culprits == nil {
				report.Culprits, report.Innocent = []run.CulpritOfEdit{}, []string{}
			}
			if writeErr := writeJSON(report, out); writeErr != nil {
				return &exit{notChecked, errors.Join(err, writeErr)}
			}
			if err != nil {
				return &exit{notChecked, err}
			}
			printCulprits(cmd.OutOrStdout(), report)
			return &exit{culpritCodes[report.Verdict], nil}
		},
	}
	siteFlags(c, &siteName, &envName, &server)
	c.Flags().StringArrayVar(&sets, "set", nil, "a setting and its value as JSON, key=JSON; may be given more than once")
	c.Flags().StringVar(&out, "json", "", "file to write the report to, - for standard output")
	return c
}

func printCulprits(w io.Writer, r run.CulpritReport) {
	fmt.Fprintln(w, r.Summary)
	for _, c := range r.Culprits {
		var names []string
		for _, e := range c.Edits {
			said := e.Key
			if len(e.Entries) > 0 {
				said += ": " + strings.Join(e.Entries, ", ")
			} else if raw, err := json.Marshal(e.Value); err == nil {
				said += "=" + string(raw)
			}
			names = append(names, said)
		}
		fmt.Fprintf(w, "  %s", strings.Join(names, " together with "))
		if c.Cause != "" {
			fmt.Fprintf(w, ": %s", c.Cause)
		}
		fmt.Fprintln(w)
		for _, e := range c.Exclusions {
			fmt.Fprintf(w, "    may stay with %s: %s\n", e.Key, strings.Join(e.Patterns, ", "))
		}
	}
	if !r.Restored {
		fmt.Fprintln(os.Stderr, "tidemarker: staging could not be restored; see the site's page")
	}
}

// ofTry is what a try says of the culprit before anything is searched for; ok is false when there
// is something to search.
func ofTry(verdict evidence.Verdict, summary string, restored bool, edits settings.Values, found []evidence.Finding) (r run.CulpritReport, ok bool) {
	r = run.CulpritReport{Summary: summary, Restored: restored, Checks: 1}
	switch {
	case verdict == evidence.VerdictClear:
		r.Verdict = "not broken"
		return r, true
	case verdict == evidence.VerdictNotChecked:
		r.Verdict = "not checked"
		return r, true
	case len(edits) == 1:
		parts := culprit.Parts(settings.Values{}, edits)
		if len(parts) > 1 { // entries of one list
			return r, false
		}
		r.Verdict = "found"
		c := run.CulpritOfEdit{Edits: []run.ReportedEdit{{Key: parts[0].Key, Value: edits[parts[0].Key]}}}
		if len(found) > 0 {
			c.Cause = found[0].Title
		}
		r.Culprits, r.Innocent = []run.CulpritOfEdit{c}, []string{}
		return r, true
	}
	return r, false
}

// tried puts settings in force on an environment for a run of a kind, which restores what was there, in
// this process and on the database that it opens. An environment without a mark is marked first. Whoever
// asks closes the application.
func tried(ctx context.Context, data, siteName, envName string, edits settings.Values, kind release.RunKind, scope *measure.Scope) (*app, store.Run, error) {
	a, err := open(ctx, data)
	if err != nil {
		return nil, store.Run{}, err
	}
	r, err := func() (store.Run, error) {
		s, env, err := a.siteAndEnvironment(ctx, siteName, envName)
		if err != nil {
			return store.Run{}, err
		}
		if err := a.markFirst(ctx, s, env); err != nil {
			return store.Run{}, err
		}
		p, err := a.runner.Acts.Propose(ctx, env.ID, edits)
		if err != nil {
			return store.Run{}, err
		}
		return a.carryOut(ctx, store.Run{SiteID: s.ID, EnvironmentID: env.ID, Kind: kind, Target: p.Revision, Restores: true, RequestedBy: a.who, Measures: store.JSON[*measure.Scope]{V: scope}})
	}()
	if err != nil {
		a.close()
	}
	return a, r, err
}

// localFindCulprit searches in this process, on the database that it opens.
func localFindCulprit(ctx context.Context, data, siteName, envName string, edits settings.Values) (run.CulpritReport, error) {
	var none run.CulpritReport
	a, tried, err := tried(ctx, data, siteName, envName, edits, release.TryRun, nil)
	if err != nil {
		return none, err
	}
	defer a.close()
	rep, err := run.Report(ctx, a.store, tried.ID)
	if err != nil {
		return none, err
	}
	if r, known := ofTry(rep.Verdict, rep.Summary, rep.Restored, edits, rep.Findings); known {
		return r, nil
	}
	searched, err := a.attend(ctx, tried.SiteID, func(ctx context.Context) (int64, error) {
		r, err := a.runner.StartSearch(ctx, tried.ID, a.who)
		return r.ID, err
	})
	if err != nil {
		return none, err
	}
	steady := context.WithoutCancel(ctx)
	row, err := a.store.Run(steady, searched)
	if err != nil {
		return none, err
	}
	return run.ReportSearch(steady, a.store, row)
}

// remoteFindCulprit has a server search.
func remoteFindCulprit(ctx context.Context, server, siteName, envName string, edits settings.Values) (run.CulpritReport, error) {
	var none run.CulpritReport
	c, err := newClient(server)
	if err != nil {
		return none, err
	}
	env, err := c.environment(ctx, siteName, envName)
	if err != nil {
		return none, err
	}
	tried, err := c.begin(ctx, fmt.Sprintf("/environments/%d/tries", env), map[string]any{"edits": edits, "keep": false})
	if err != nil {
		return none, err
	}
	var rep evidence.Report
	steady := context.WithoutCancel(ctx)
	if err := c.call(steady, http.MethodGet, fmt.Sprintf("/runs/%d/report", tried), nil, &rep); err != nil {
		return none, err
	}
	if r, known := ofTry(rep.Verdict, rep.Summary, rep.Restored, edits, rep.Findings); known {
		return r, nil
	}
	searched, err := c.begin(ctx, fmt.Sprintf("/runs/%d/find-culprit", tried), map[string]any{})
	if err != nil {
		return none, err
	}
	var view struct {
		Search struct{ Report run.CulpritReport }
	}
	err = c.call(steady, http.MethodGet, fmt.Sprintf("/runs/%d", searched), nil, &view)
	return view.Search.Report, err
}
