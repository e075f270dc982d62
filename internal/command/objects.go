package command

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"tidemarker/internal/client"
)

// runs are the commands about runs. Long because it is a list: one command after the other.
func (g *group) runs() *cobra.Command {
	var site, env string
	list := g.siteFlag(g.command("list", "The latest runs of a site", cobra.NoArgs, func(s *session, _ []string) error {
		v, err := s.site(site)
		if err != nil {
			return err
		}
		runs := []client.RunSummary{}
		for _, e := range v.Environments {
			if env == "" || e.Name == env {
				runs = append(runs, e.Runs...)
			}
		}
		return s.show(runs, func(w io.Writer) {
			var rows [][]string
			for _, r := range runs {
				rows = append(rows, []string{fmt.Sprint(r.Id), r.Environment, string(r.Kind), string(r.State), r.Verdict, when(r.CreatedAt), r.Summary})
			}
			table(w, []string{"NUMBER", "ENVIRONMENT", "KIND", "STATE", "VERDICT", "BEGUN", "SUMMARY"}, rows)
		})
	}), &site)
	list.Flags().StringVar(&env, "env", "", "of this environment only")
	wait := false
	show := g.command("show NUMBER", "What a run came to", cobra.ExactArgs(1), func(s *session, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		if wait {
			r, err := s.ended(id)
			if err != nil {
				return err
			}
			return s.verdict(r)
		}
		r, err := read[client.RunView](s.GetRun(s, id))
		if err != nil {
			return err
		}
		return s.ran(r)
	})
	show.Flags().BoolVar(&wait, "wait", false, "wait until it has ended; the code says how: 0 clear, 1 broken, 2 unsure, 3 not checked")
	stop := g.command("stop NUMBER", "Stops a run; what it changed is reverted", cobra.ExactArgs(1), func(s *session, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		r, err := read[client.RunView](s.StopRun(s, id))
		if err != nil {
			return err
		}
		return s.ran(r)
	})
	return parent("runs", "Runs: list, show, stop", list, show, stop)
}

// ran shows a run.
func (s *session) ran(r client.RunView) error {
	return s.show(r, func(w io.Writer) {
		fmt.Fprintf(w, "Run %d (%s) on %s: %s. %s\n", r.Id, r.Kind, r.Environment, r.State, line(r.Summary))
		var rows [][]string
		for _, f := range r.Findings {
			if f.Severity != "note" {
				rows = append(rows, []string{string(f.Severity), f.Page, f.Persona, string(f.Device), f.Title})
			}
		}
		if len(rows) > 0 {
			table(w, []string{"FOUND", "PAGE", "FOR", "ON", "WHAT"}, rows)
		}
	})
}

func (g *group) marks() *cobra.Command {
	var site string
	return g.siteFlag(g.command("marks", "The marks of a site: what was seen to work, and can be gone back to", cobra.NoArgs, func(s *session, _ []string) error {
		v, err := s.site(site)
		if err != nil {
			return err
		}
		return s.show(v.Environments, func(w io.Writer) {
			var rows [][]string
			for _, e := range v.Environments {
				for _, m := range e.Marks {
					rows = append(rows, []string{fmt.Sprint(m.Id), e.Name, m.Fingerprint[:min(8, len(m.Fingerprint))], when(m.TakenAt), m.Who, m.Reason})
				}
			}
			table(w, []string{"NUMBER", "ENVIRONMENT", "SETTINGS", "TAKEN", "BY", "WHY"}, rows)
		})
	}), &site)
}

// drift are the commands about what was changed outside. Long because it is a list: one command after the other.
func (g *group) drift() *cobra.Command {
	var site, env, reason string
	found := func(s *session) (client.EnvironmentView, error) {
		e, err := s.environment(site, env)
		if err == nil && e.Drift.Id == 0 {
			err = errors.New(env + " was not changed outside, as far as is known")
		}
		return e, err
	}
	show := g.siteFlag(g.command("show", "What was changed outside Tide Marker", cobra.NoArgs, func(s *session, _ []string) error {
		v, err := s.site(site)
		if err != nil {
			return err
		}
		return s.show(v.Environments, func(w io.Writer) {
			var rows [][]string
			for _, e := range v.Environments {
				for _, d := range e.Drift.Differences {
					rows = append(rows, []string{e.Name, d.Key, d.FromText, d.ToText, when(e.Drift.FoundAt)})
				}
			}
			table(w, []string{"ENVIRONMENT", "SETTING", "WAS", "IS", "FOUND"}, rows)
		})
	}), &site)
	accept := g.siteFlag(g.command("accept", "Accepts what was changed outside as it is", cobra.NoArgs, func(s *session, _ []string) error {
		e, err := found(s)
		if err != nil {
			return err
		}
		if _, err := read[struct{}](s.AcceptDrift(s, e.Drift.Id, client.AcceptDriftRequest{Found: e.Drift.Found, Reason: reason})); err != nil {
			return err
		}
		fmt.Fprintf(s.out, "What %s has is accepted.\n", line(env))
		return nil
	}), &site)
	accept.Flags().StringVar(&reason, "reason", "", "why; recorded in the history")
	_ = accept.MarkFlagRequired("reason")
	revert := g.siteFlag(g.command("revert", "Reverts what was changed outside, and checks it", cobra.NoArgs, func(s *session, _ []string) error {
		e, err := found(s)
		if err != nil {
			return err
		}
		begun, err := read[client.RunSummary](s.RevertDrift(s, e.Drift.Id))
		if err != nil {
			return err
		}
		r, err := s.ended(begun.Id)
		if err != nil {
			return err
		}
		return s.verdict(r)
	}), &site)
	for _, c := range []*cobra.Command{accept, revert} {
		c.Flags().StringVar(&env, "env", "", "the environment")
		_ = c.MarkFlagRequired("env")
	}
	return parent("drift", "What was changed outside: show, accept, revert", show, accept, revert)
}

// exclusions are the commands about exclusions. Long because it is a list: one command after the other.
func (g *group) exclusions() *cobra.Command {
	var site, key, pattern, reason, format string
	ledger := func(s *session, v client.LedgerView, err error) error {
		if err != nil {
			return err
		}
		return s.show(v, func(w io.Writer) {
			var rows [][]string
			for _, e := range v.Entries {
				rows = append(rows, []string{fmt.Sprint(e.Id), string(e.State), e.Key, e.Pattern, strings.Join(e.InForce, ", "), e.Reason})
			}
			table(w, []string{"NUMBER", "STATE", "SETTING", "PATTERN", "IN FORCE ON", "WHY"}, rows)
		})
	}
	list := g.siteFlag(g.command("list", "The exclusions of a site", cobra.NoArgs, func(s *session, _ []string) error {
		v, err := s.site(site)
		if err != nil {
			return err
		}
		limit := int64(500)
		l, err := read[client.LedgerView](s.ListExclusions(s, v.Id, &client.ListExclusionsParams{Limit: &limit}))
		return ledger(s, l, err)
	}), &site)
	add := g.siteFlag(g.command("add", "Records why something is excluded", cobra.NoArgs, func(s *session, _ []string) error {
		v, err := s.site(site)
		if err != nil {
			return err
		}
		_, err = read[struct{}](s.RecordExclusion(s, v.Id, client.RecordExclusionRequest{Key: key, Pattern: pattern, Reason: &reason}))
		if err == nil {
			fmt.Fprintf(s.out, "Recorded: %s in %s.\n", line(pattern), line(key))
		}
		return err
	}), &site)
	add.Flags().StringVar(&key, "key", "", "the setting")
	add.Flags().StringVar(&pattern, "pattern", "", "what is excluded")
	add.Flags().StringVar(&reason, "reason", "", "why")
	for _, f := range []string{"key", "pattern", "reason"} {
		_ = add.MarkFlagRequired(f)
	}
	retire := g.siteFlag(g.command("retire NUMBER...", "Retires exclusions that are no longer in force anywhere", cobra.MinimumNArgs(1), func(s *session, args []string) error {
		v, err := s.site(site)
		if err != nil {
			return err
		}
		var ids []int64
		for _, a := range args {
			id, err := number(a)
			if err != nil {
				return err
			}
			ids = append(ids, id)
		}
		l, err := read[client.LedgerView](s.RetireExclusions(s, v.Id, client.Why{Ids: ids, Why: reason}))
		return ledger(s, l, err)
	}), &site)
	retire.Flags().StringVar(&reason, "reason", "", "why")
	_ = retire.MarkFlagRequired("reason")
	bring := g.siteFlag(g.command("import FILE", "Reads exclusions from a CSV or JSON file", cobra.ExactArgs(1), func(s *session, args []string) error {
		v, err := s.site(site)
		if err != nil {
			return err
		}
		raw, err := os.ReadFile(args[0])
		if err != nil {
			return err
		}
		as := client.ImportExclusionsRequestFormat("csv")
		if strings.HasSuffix(args[0], ".json") {
			as = "json"
		}
		done, err := read[client.ImportedView](s.ImportExclusions(s, v.Id, client.ImportExclusionsRequest{Format: as, Text: string(raw)}))
		if err != nil {
			return err
		}
		return s.show(done, func(w io.Writer) { fmt.Fprintf(w, "%d added, %d skipped.\n", done.Added, done.Passed) })
	}), &site)
	export := g.siteFlag(g.command("export", "Writes the exclusions as CSV or JSON", cobra.NoArgs, func(s *session, _ []string) error {
		v, err := s.site(site)
		if err != nil {
			return err
		}
		as := client.ExportExclusionsParamsFormat(format)
		raw, err := read[[]byte](s.ExportExclusions(s, v.Id, &client.ExportExclusionsParams{Format: &as}))
		if err == nil {
			_, err = s.out.Write(raw)
		}
		return err
	}), &site)
	export.Flags().StringVar(&format, "format", "csv", "csv or json")
	return parent("exclusions", "Exclusions: list, add, retire, import, export", list, add, retire, bring, export)
}

func (g *group) purge() *cobra.Command {
	var site, env, page, class string
	var warm bool
	c := g.siteFlag(g.command("purge", "Takes pages out of an environment's page cache: all, those of a class, or one", cobra.NoArgs, func(s *session, _ []string) error {
		e, err := s.environment(site, env)
		if err != nil {
			return err
		}
		body := client.PurgeEnvironmentRequest{Warm: &warm}
		if page != "" {
			body.Page = &page
		}
		if class != "" {
			body.Class = &class
		}
		done, err := read[client.PurgeDone](s.PurgeEnvironment(s, e.Id, body))
		if err != nil {
			return err
		}
		return s.show(done, func(w io.Writer) { fmt.Fprintf(w, "Purged %d on %s.\n", done.Purged, line(env)) })
	}), &site)
	c.Flags().StringVar(&env, "env", "", "the environment")
	c.Flags().StringVar(&page, "page", "", "only this page, by its path")
	c.Flags().StringVar(&class, "class", "", "only pages of this class")
	c.Flags().BoolVar(&warm, "warm", false, "and have them warmed up")
	_ = c.MarkFlagRequired("env")
	return c
}
