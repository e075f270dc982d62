package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"slices"

	"github.com/spf13/cobra"

	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/run"
)

// The codes with which measure ends.
var measureCodes = map[measure.Verdict]int{measure.Faster: 0, measure.Same: 0, measure.Slower: 1, measure.Mixed: 2, measure.Noisy: 2, measure.NotMeasured: notChecked}

// measureCommand is the command that measures. Long because it is a list of flags.
func measureCommand(data *string) *cobra.Command {
	var siteName, envName, server, out string
	var sets []string
	var scope measure.Scope
	files := map[string]*string{"junit": new(string), "openmetrics": new(string), "har": new(string), "csv": new(string), "pdf": new(string)}
	c := &cobra.Command{
		Use:   "measure",
		Short: "Measures what settings do to speed, on staging",
		Long: `Loads pages with the settings and without them, in turns, until it is known which is faster or 15
rounds are over. Staging is restored afterwards. Without settings it measures how fast pages are as they are.

Ends with 0 when it is faster or no difference shows, 1 when it is slower or one of the site's
budgets is exceeded, 2 when some of both, or too noisy to say, 3 when it could not be measured.`,
		Example: `  tidemarker measure --site Fernhollow --set scripts.defer=true --json measure.json
  tidemarker measure --site Fernhollow --repeat --page / --junit budgets.xml`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			edits, err := settings.Values{}, error(nil)
			if len(sets) > 0 { // without any it is measured as it is
				if edits, err = parseSets(sets); err != nil {
					return &exit{notChecked, err}
				}
			}
			var report run.MeasureReport
			if server != "" {
				report, err = remoteMeasure(cmd.Context(), server, siteName, envName, edits, scope, files)
			} else {
				report, err = localMeasure(cmd.Context(), *data, siteName, envName, edits, scope, files)
			}
			if err != nil {
				report.Verdict, report.Summary = measure.NotMeasured, "Not measured: "+err.Error()
			}
			if report.Comparisons == nil {
				report.Comparisons = []run.MeasuredComparison{}
			}
			if writeErr := writeJSON(report, out); writeErr != nil {
				return &exit{notChecked, errors.Join(err, writeErr)}
			}
			if err != nil {
				return &exit{notChecked, err}
			}
			if out != "-" {
				printMeasured(cmd.OutOrStdout(), report)
			}
			return &exit{measureCode(report), nil}
		},
	}
	siteFlags(c, &siteName, &envName, &server)
	c.Flags().StringArrayVar(&sets, "set", nil, "a setting and its value as JSON, key=JSON; may be given more than once")
	c.Flags().StringArrayVar(&scope.Pages, "page", nil, "a path of the test plan; may be given more than once (of each class the first)")
	c.Flags().StringArrayVar(&scope.Devices, "device", nil, "desktop or phone (each that the pages have)")
	c.Flags().StringArrayVar(&scope.Personas, "as", nil, "a persona (visitor)")
	c.Flags().StringArrayVar(&scope.Journeys, "journey", nil, "a journey, for how fast pages react")
	c.Flags().BoolVar(&scope.Repeat, "repeat", false, "also a second visit of the same browser")
	c.Flags().BoolVar(&scope.Uncached, "uncached", false, "also past the page cache")
	c.Flags().BoolVar(&scope.Film, "film", false, "also how pages come into view")
	c.Flags().IntVar(&scope.Rounds, "rounds", 0, "rounds at most, up to 30 (15)")
	for _, format := range slices.Sorted(maps.Keys(files)) {
		c.Flags().StringVar(files[format], format, "", "file to write what was measured to, as "+format)
	}
	c.Flags().StringVar(&out, "json", "", "file to write the report to, - for standard output")
	return c
}

// measureCode is the code that a report ends with.
func measureCode(r run.MeasureReport) int {
	code := measureCodes[r.Verdict]
	for _, b := range r.Budgets {
		if !b.Held && code == 0 {
			code = 1
		}
	}
	return code
}

func printMeasured(w io.Writer, r run.MeasureReport) {
	fmt.Fprintln(w, r.Summary)
	for _, c := range r.Comparisons {
		if c.Page == "" {
			fmt.Fprintf(w, "  %-8s %-16s %10s → %-10s %s\n", c.Device, c.Title, measure.Shown(c.Unit, c.Before), measure.Shown(c.Unit, c.After), c.Result)
		}
	}
	if len(r.Comparisons) == 0 {
		for _, l := range r.Levels {
			fmt.Fprintf(w, "  %-8s %-24s %-16s %10s %s\n", l.Case, l.Page, l.Title, measure.Shown(l.Unit, l.Median), l.Rating)
		}
	}
	for _, b := range r.Budgets {
		fmt.Fprintf(w, "  %-8s %s, %s, %s: %s\n", b.Outcome, b.Budget, b.Page, b.Device, b.Why)
	}
	fmt.Fprintf(w, "  %d rounds", r.Rounds)
	if len(r.Busy) > 0 {
		fmt.Fprintf(w, ", of which %v do not count: the machine was busy", r.Busy)
	}
	fmt.Fprintln(w)
}

// localMeasure measures in this process, on the database that it opens.
func localMeasure(ctx context.Context, data, siteName, envName string, edits settings.Values, scope measure.Scope, files map[string]*string) (run.MeasureReport, error) {
	a, r, err := tried(ctx, data, siteName, envName, edits, release.MeasureRun, &scope)
	if err != nil {
		return run.MeasureReport{}, err
	}
	defer a.close()
	steady := context.WithoutCancel(ctx)
	report, err := run.ReportMeasure(steady, a.store, r)
	if err != nil {
		return report, err
	}
	for format, file := range files {
		if *file == "" {
			continue
		}
		f, err := a.runner.ExportMeasured(steady, r, run.Format(format), "")
		if err == nil {
			err = os.WriteFile(*file, f.Body, 0o644)
		}
		if err != nil {
			return report, fmt.Errorf("write %s: %w", format, err)
		}
	}
	return report, nil
}

// remoteMeasure has a server measure.
func remoteMeasure(ctx context.Context, server, siteName, envName string, edits settings.Values, scope measure.Scope, files map[string]*string) (run.MeasureReport, error) {
	var none run.MeasureReport
	c, err := newClient(server)
	if err != nil {
		return none, err
	}
	env, err := c.environment(ctx, siteName, envName)
	if err != nil {
		return none, err
	}
	id, err := c.begin(ctx, fmt.Sprintf("/environments/%d/measurements", env), map[string]any{"edits": edits, "scope": scope})
	if err != nil {
		return none, err
	}
	var view struct{ Measure run.MeasureReport }
	err = c.call(context.WithoutCancel(ctx), http.MethodGet, fmt.Sprintf("/runs/%d", id), nil, &view)
	for format, name := range files {
		if err != nil || *name == "" {
			continue
		}
		var raw file
		if err = c.call(context.WithoutCancel(ctx), http.MethodGet, fmt.Sprintf("/runs/%d/measured/export?format=%s", id, format), nil, &raw); err == nil {
			err = os.WriteFile(*name, raw, 0o644)
		}
	}
	return view.Measure, err
}
