package command

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"tidemarker/internal/client"
)

// edits reads KEY=JSON pairs.
func edits(pairs []string) (map[string]any, error) {
	out := map[string]any{}
	for _, p := range pairs {
		key, raw, ok := strings.Cut(p, "=")
		if !ok || key == "" {
			return nil, fmt.Errorf("%q is not written as KEY=JSON, as images.lazy=true", p)
		}
		var v any
		if err := json.Unmarshal([]byte(raw), &v); err != nil {
			return nil, fmt.Errorf("the value of %s is no JSON. Write text in quotes, as %s='\"text\"'", key, key)
		}
		out[key] = v
	}
	return out, nil
}

// changes are the commands about changes. Long because it is a list: one command after the other.
func (g *group) changes() *cobra.Command {
	var site, title, reason string
	var set []string
	list := g.siteFlag(g.command("list", "The changes of a site", cobra.NoArgs, func(s *session, _ []string) error {
		v, err := s.site(site)
		if err != nil {
			return err
		}
		return s.show(v.Changes, func(w io.Writer) {
			var rows [][]string
			for _, c := range v.Changes {
				rows = append(rows, []string{fmt.Sprint(c.Id), c.State, c.Title, c.CreatedBy, when(c.UpdatedAt)})
			}
			table(w, []string{"NUMBER", "STATE", "TITLE", "BY", "MOVED"}, rows)
		})
	}), &site)
	begin := g.siteFlag(g.command("begin", "Starts a change from what production has now", cobra.NoArgs, func(s *session, _ []string) error {
		values, err := edits(set)
		if err != nil {
			return err
		}
		v, err := s.site(site)
		if err != nil {
			return err
		}
		body := client.BeginChangeRequest{Title: title, Reason: reason}
		if len(values) > 0 {
			body.Edits = &values
		}
		return s.changed(read[client.ChangeView](s.BeginChange(s, v.Id, body)))
	}), &site)
	begin.Flags().StringVar(&title, "title", "", "what it is called")
	begin.Flags().StringVar(&reason, "reason", "", "why it is made")
	begin.Flags().StringArrayVar(&set, "set", nil, "a setting and its value, KEY=JSON; can be given several times")
	_ = begin.MarkFlagRequired("title")
	show := g.command("show NUMBER", "What a change would set, its state, and what may be done", cobra.ExactArgs(1), func(s *session, args []string) error {
		return s.changed(s.change(args[0]))
	})
	edit := g.command("set NUMBER KEY=JSON...", "Sets settings of a change; null takes one out", cobra.MinimumNArgs(2), func(s *session, args []string) error {
		values, err := edits(args[1:])
		if err != nil {
			return err
		}
		c, err := s.change(args[0])
		if err != nil {
			return err
		}
		for key, v := range values {
			if v == nil {
				delete(c.Edits, key)
				continue
			}
			c.Edits[key] = v
		}
		return s.changed(read[client.ChangeView](s.EditChange(s, c.Id, client.EditChangeRequest{Title: c.Title, Reason: c.Reason, Effect: c.Effect, Version: c.Version, Edits: c.Edits})))
	})
	return parent("change", "Changes: start, show, set, try, split, promote, roll back, settle, discard", append([]*cobra.Command{list, begin, show, edit}, g.moves()...)...)
}

// change reads the one that is meant.
func (s *session) change(arg string) (client.ChangeView, error) {
	id, err := number(arg)
	if err != nil {
		return client.ChangeView{}, err
	}
	return read[client.ChangeView](s.GetChange(s, id))
}

// changed shows a change.
func (s *session) changed(c client.ChangeView, err error) error {
	if err != nil {
		return err
	}
	return s.show(c, func(w io.Writer) {
		fmt.Fprintf(w, "Change %d of %s: %s\n%s. %s\n", c.Id, line(c.SiteName), line(c.Title), c.State, line(c.Explanation))
		for _, d := range c.Differences {
			fmt.Fprintf(w, "  %s: %s → %s\n", line(d.Title), line(d.FromText), line(d.ToText))
		}
		for _, q := range c.Consequences {
			fmt.Fprintf(w, "  ! %s\n", line(q.Text))
		}
		for _, x := range c.Choices {
			switch {
			case x.Allowed:
				fmt.Fprintf(w, "  may: %s\n", x.Event)
			case x.Why != nil:
				fmt.Fprintf(w, "  not yet: %s. %s\n", x.Event, line(*x.Why))
			}
		}
		if c.Watch != nil {
			watched(w, *c.Watch)
		}
	})
}

// after shows what became of a change's run, and ends with its verdict's code.
func (s *session) after(c client.ChangeView, wait bool) error {
	var open *client.RunSummary
	for i, r := range c.Runs {
		if r.FinishedAt == nil && r.State != "waiting" && open == nil {
			open = &c.Runs[i]
		}
	}
	if open == nil || !wait {
		return s.changed(c, nil)
	}
	r, err := s.ended(open.Id)
	if err != nil {
		return err
	}
	return s.verdict(r)
}

// verdict shows a run that has ended, and ends with its code.
func (s *session) verdict(r client.RunView) error {
	if err := s.ran(r); err != nil {
		return err
	}
	code, known := codes[string(r.Verdict)]
	if !known {
		code = codes["not checked"]
	}
	if code == 0 {
		return nil
	}
	return &Exit{Code: code}
}

// moves are the commands that move a change on. Long because it is a list: one command after the other.
func (g *group) moves() []*cobra.Command {
	type do func(s *session, id int64) (*http.Response, error)
	var out []*cobra.Command
	add := func(use, short string, runs bool, do do) *cobra.Command {
		wait := true
		c := g.command(use+" NUMBER", short, cobra.ExactArgs(1), func(s *session, args []string) error {
			id, err := number(args[0])
			if err != nil {
				return err
			}
			c, err := read[client.ChangeView](do(s, id))
			if err != nil {
				return err
			}
			return s.after(c, runs && wait)
		})
		if runs {
			c.Flags().BoolVar(&wait, "wait", true, "wait until it was checked; the code says how: 0 clear, 1 broken, 2 unsure, 3 not checked")
		}
		out = append(out, c)
		return c
	}
	add("try", "Tries a change on staging", true, func(s *session, id int64) (*http.Response, error) { return s.TryChange(s, id) })
	add("rebase", "Rebases a change on what production has now, with the same edits", false, func(s *session, id int64) (*http.Response, error) { return s.RebaseChange(s, id) })
	add("split", "Splits a change into an ordered series, the least risky first", false, func(s *session, id int64) (*http.Response, error) { return s.SplitChange(s, id) })
	var despite string
	promote := add("promote", "Promotes a change: production gets what was checked, and is checked", true, func(s *session, id int64) (*http.Response, error) {
		body := client.PromoteBody{}
		if despite != "" {
			body.Despite = &despite
		}
		return s.PromoteChange(s, id, body)
	})
	tidy := add("tidy", "Deletes on production what a tidy deletes", true, func(s *session, id int64) (*http.Response, error) {
		body := client.PromoteBody{}
		if despite != "" {
			body.Despite = &despite
		}
		return s.TidyChange(s, id, body)
	})
	for _, c := range []*cobra.Command{promote, tidy} {
		c.Flags().StringVar(&despite, "despite", "", "why it is promoted against the calendar; recorded in the history")
	}
	var all bool
	back := add("roll-back", "Rolls a change back where it is, and proves it", true, func(s *session, id int64) (*http.Response, error) {
		return s.RollBackChange(s, id, client.RollBackChangeRequest{All: &all})
	})
	back.Flags().BoolVar(&all, "all", false, "with the changes that were promoted on top of it")
	add("accept", "Accepts a check that is not clear as it is", false, func(s *session, id int64) (*http.Response, error) { return s.AcceptChange(s, id) })
	add("discard", "Discards a change that no environment has", false, func(s *session, id int64) (*http.Response, error) { return s.DiscardChange(s, id) })
	var why string
	settle := add("settle", "Settles a change although its watch was not clear", false, func(s *session, id int64) (*http.Response, error) {
		return s.SettleChange(s, id, client.ReasonBody{Reason: why})
	})
	settle.Flags().StringVar(&why, "reason", "", "why; recorded in the history")
	_ = settle.MarkFlagRequired("reason")
	return out
}
