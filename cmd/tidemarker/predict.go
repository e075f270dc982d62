package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"tidemarker/internal/core/prediction"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/inspect"
)

// predicted is what predict writes as JSON.
type predicted struct {
	Mark        int64                   `json:"mark"`
	Pages       int                     `json:"pages"`
	Predictions []prediction.Prediction `json:"predictions"`
}

func predictCommand(data *string) *cobra.Command {
	var siteName, envName, server, out string
	var sets []string
	c := &cobra.Command{
		Use:   "predict",
		Short: "Says what settings will do to a site, without touching it",
		Long: `Reads off what the pages of the newest mark were made of, and says what the settings will do to them:
which scripts will lack what they use, which rules scripts need will go, and what to exclude so that
it does not come. The site is not asked for anything.

Ends with 0 when that could be said, whatever it is, and with 3 when it could not.`,
		Example: `  tidemarker predict --site Fernhollow --set scripts.defer=true`,
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			edits, err := parseSets(sets)
			if err != nil {
				return &exit{notChecked, err}
			}
			var seen predicted
			if server != "" {
				seen, err = remotePredict(cmd.Context(), server, siteName, envName, edits)
			} else {
				seen, err = localPredict(cmd.Context(), *data, siteName, envName, edits)
			}
			if err != nil {
				return &exit{notChecked, err}
			}
			if seen.Predictions == nil {
				seen.Predictions = []prediction.Prediction{}
			}
			if err := writeJSON(seen, out); err != nil {
				return &exit{notChecked, err}
			}
			if out != "-" {
				printPredicted(cmd.OutOrStdout(), seen)
			}
			return nil
		},
	}
	siteFlags(c, &siteName, &envName, &server)
	c.Flags().StringArrayVar(&sets, "set", nil, "a setting and its value as JSON, key=JSON; may be given more than once")
	c.Flags().StringVar(&out, "json", "", "file to write the predictions to, - for standard output")
	return c
}

func printPredicted(w io.Writer, seen predicted) {
	if len(seen.Predictions) == 0 {
		fmt.Fprintf(w, "Nothing predicted, read off %d looks of mark %d. A check may find more.\n", seen.Pages, seen.Mark)
		return
	}
	for _, p := range seen.Predictions {
		sure := "likely"
		if p.Sure {
			sure = "sure"
		}
		fmt.Fprintf(w, "%s: %s (%s)\n  %s\n  on %s\n", p.Key, p.Title, sure, p.Why, strings.Join(p.Pages(), " "))
		lists := map[string][]string{}
		var keys []string
		for _, e := range p.Exclude {
			if lists[e.Key] == nil {
				keys = append(keys, e.Key)
			}
			lists[e.Key] = append(lists[e.Key], e.Pattern)
		}
		for _, key := range keys {
			fmt.Fprintf(w, "  exclude in %s: %s\n", key, strings.Join(lists[key], ", "))
		}
	}
}

func localPredict(ctx context.Context, data, siteName, envName string, edits settings.Values) (predicted, error) {
	a, err := open(ctx, data)
	if err != nil {
		return predicted{}, err
	}
	defer a.close()
	_, env, err := a.siteAndEnvironment(ctx, siteName, envName)
	if err != nil {
		return predicted{}, err
	}
	after, err := inspect.Edited(ctx, a.store, env, edits)
	if err != nil {
		return predicted{}, err
	}
	seen, m, err := inspect.PredictValues(ctx, a.store, a.store, env, after)
	return predicted{m.ID, seen.Pages, seen.Predictions}, err
}

// remotePredict asks a server.
func remotePredict(ctx context.Context, server, siteName, envName string, edits settings.Values) (predicted, error) {
	c, err := newClient(server)
	if err != nil {
		return predicted{}, err
	}
	env, err := c.environment(ctx, siteName, envName)
	if err != nil {
		return predicted{}, err
	}
	var seen struct {
		predicted
		Why string `json:"why"`
	}
	err = c.call(ctx, http.MethodPost, fmt.Sprintf("/environments/%d/predictions", env), map[string]any{"edits": edits}, &seen)
	if err == nil && seen.Why != "" {
		err = &inspect.NothingToPredict{Why: seen.Why}
	}
	return seen.predicted, err
}
