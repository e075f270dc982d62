package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"

	"github.com/spf13/cobra"

	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/run"
)

// The codes with which measure ends.
var measureCodes = map[measure.Verdict]int{measure.Faster: 0, measure.Same: 0, measure.Slower: 1, measure.Mixed: 2, measure.Noisy: 2, measure.NotMeasured: notChecked}

func measureCommand(data *string) *cobra.Command {
	var siteName, envName, server, out string
	var sets []string
	c := &cobra.Command{
		Use:   "measure",
		Short: "Measures what settings do to speed, on staging",
		Long: `Loads pages with the settings and without them, in turns, until it is known which is faster or 15
rounds are over. Staging is put back.

Ends with 0 when it is faster or no difference shows, 1 when it is slower, 2 when some of both, or
too noisy to say, 3 when it could not be measured.`,
		Example: `  tidemarker measure --site Fernhollow --set scripts.defer=true --json measure.json`,
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			edits, err := parseSets(sets)
			if err != nil {
				return &exit{notChecked, err}
			}
			var report run.MeasureReport
			if server != "" {
				report, err = remoteMeasure(cmd.Context(), server, siteName, envName, edits)
			} else {
				report, err = localMeasure(cmd.Context(), *data, siteName, envName, edits)
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
			return &exit{measureCodes[report.Verdict], nil}
		},
	}
	siteFlags(c, &siteName, &envName, &server)
	c.Flags().StringArrayVar(&sets, "set", nil, "a setting and its value as JSON, key=JSON; may be given more than once")
	c.Flags().StringVar(&out, "json", "", "file to write the report to, - for standard output")
	return c
}

func printMeasured(w io.Writer, r run.MeasureReport) {
	fmt.Fprintln(w, r.Summary)
	for _, c := range r.Comparisons {
		if c.Page == "" {
			fmt.Fprintf(w, "  %-8s %-16s %10s → %-10s %s\n", c.Device, c.Title, measure.Shown(c.Unit, c.Before), measure.Shown(c.Unit, c.After), c.Result)
		}
	}
	fmt.Fprintf(w, "  %d rounds", r.Rounds)
	if len(r.Busy) > 0 {
		fmt.Fprintf(w, ", of which %v do not count: the machine was busy", r.Busy)
	}
	fmt.Fprintln(w)
}

// localMeasure measures in this process, on the database that it opens.
func localMeasure(ctx context.Context, data, siteName, envName string, edits settings.Values) (run.MeasureReport, error) {
	a, r, err := tried(ctx, data, siteName, envName, edits, release.MeasureRun)
	if err != nil {
		return run.MeasureReport{}, err
	}
	defer a.close()
	return run.ReportMeasure(context.WithoutCancel(ctx), a.store, r)
}

// remoteMeasure has a server measure.
func remoteMeasure(ctx context.Context, server, siteName, envName string, edits settings.Values) (run.MeasureReport, error) {
	var none run.MeasureReport
	c, err := newClient(server)
	if err != nil {
		return none, err
	}
	env, err := c.environment(ctx, siteName, envName)
	if err != nil {
		return none, err
	}
	id, err := c.begin(ctx, fmt.Sprintf("/environments/%d/measurements", env), map[string]any{"edits": edits})
	if err != nil {
		return none, err
	}
	var view struct{ Measure run.MeasureReport }
	err = c.call(context.WithoutCancel(ctx), http.MethodGet, fmt.Sprintf("/runs/%d", id), nil, &view)
	return view.Measure, err
}
