package command

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tidemarker/internal/client"
)

func (g *group) approvals() *cobra.Command {
	var words string
	var goes bool
	ask := g.command("ask CHANGE", "Asks for an approval of a change as it is", cobra.ExactArgs(1), func(s *session, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		return s.approved(read[client.ChangeView](s.AskApproval(s, id, client.AskApprovalRequest{Words: words})))
	})
	decide := func(use, short, decision string) *cobra.Command {
		c := g.command(use+" CHANGE", short, cobra.ExactArgs(1), func(s *session, args []string) error {
			id, err := number(args[0])
			if err != nil {
				return err
			}
			body := client.DecideApprovalRequest{Decision: client.DecideApprovalRequestDecision(decision), Reason: words}
			if decision == "approve" {
				body.Goes = &goes
			}
			return s.approved(read[client.ChangeView](s.DecideApproval(s, id, body)))
		})
		return c
	}
	approve, refuse, question := decide("approve", "Approves a change as it is", "approve"), decide("refuse", "Refuses a change", "refuse"), decide("question", "Asks something before deciding", "question")
	approve.Flags().BoolVar(&goes, "goes", false, "it is promoted automatically when the calendar allows it")
	for _, c := range []*cobra.Command{ask, approve, refuse, question} {
		c.Flags().StringVar(&words, "words", "", "a sentence to it")
	}
	for _, c := range []*cobra.Command{ask, refuse, question} {
		_ = c.MarkFlagRequired("words")
	}
	withdraw := g.command("withdraw CHANGE", "Withdraws an approval, or that one is asked for", cobra.ExactArgs(1), func(s *session, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		return s.approved(read[client.ChangeView](s.WithdrawApproval(s, id)))
	})
	show := g.command("show CHANGE", "Approvals of a change", cobra.ExactArgs(1), func(s *session, args []string) error { return s.approved(s.change(args[0])) })
	return parent("approvals", "Approvals of changes: ask, approve, refuse, question, withdraw, show", show, ask, approve, refuse, question, withdraw)
}

func (s *session) approved(c client.ChangeView, err error) error {
	if err != nil {
		return err
	}
	return s.show(c.Approval, func(w io.Writer) {
		a := c.Approval
		state := string(a.State)
		if state == "" {
			state = "not asked for"
		}
		fmt.Fprintf(w, "Approval of change %d: %s.\n", c.Id, state)
		for _, said := range []string{a.Words, a.Reason, a.Calendar} {
			if said != "" {
				fmt.Fprintf(w, "  %s\n", line(said))
			}
		}
	})
}

// freezes are the commands about the calendar. Long because it is a list: one command after the other.
func (g *group) freezes() *cobra.Command {
	var site, title, begins, ends, zone, rule string
	var window bool
	of := func(s *session) (*int64, error) {
		if site == "" {
			return nil, nil
		}
		v, err := s.site(site)
		return &v.Id, err
	}
	list := g.command("list", "Freezes and windows of a site, or of all", cobra.NoArgs, func(s *session, _ []string) error {
		id, err := of(s)
		if err != nil {
			return err
		}
		v, err := read[client.CalendarView](s.GetCalendar(s, &client.GetCalendarParams{Site: id}))
		if err != nil {
			return err
		}
		return s.show(v, func(w io.Writer) {
			if v.Why != "" {
				fmt.Fprintln(w, line(v.Why))
			}
			var rows [][]string
			for _, e := range v.Entries {
				next := "over"
				if e.Next != nil {
					next = when(*e.Next)
				}
				rows = append(rows, []string{fmt.Sprint(e.Id), string(e.Entry.Kind), e.Entry.Title, e.Entry.Begins, e.Entry.Ends, e.Entry.Zone, next})
			}
			table(w, []string{"NUMBER", "KIND", "TITLE", "FROM", "TO", "ZONE", "NEXT"}, rows)
		})
	})
	add := g.command("add", "Adds a freeze, or with --window a window", cobra.NoArgs, func(s *session, _ []string) error {
		id, err := of(s)
		if err != nil {
			return err
		}
		e := client.Entry{Kind: "freeze", Title: title, Begins: begins, Ends: ends, Zone: zone}
		if window {
			e.Kind = "window"
		}
		if rule != "" {
			e.Rule = &rule
		}
		made, err := read[client.CalendarEntryView](s.AddCalendarEntry(s, &client.AddCalendarEntryParams{Site: id}, e))
		if err != nil {
			return err
		}
		return s.show(made, func(w io.Writer) { fmt.Fprintf(w, "%s %d: %s\n", made.Entry.Kind, made.Id, line(made.Entry.Title)) })
	})
	add.Flags().StringVar(&title, "title", "", "what it is called")
	add.Flags().StringVar(&begins, "from", "", "local date and time, as 2026-11-27T18:00")
	add.Flags().StringVar(&ends, "to", "", "local date and time")
	add.Flags().StringVar(&zone, "zone", time.Local.String(), "name of the time zone, as Europe/Vienna")
	add.Flags().StringVar(&rule, "rule", "", "recurrence rule of RFC 5545, as FREQ=WEEKLY")
	add.Flags().BoolVar(&window, "window", false, "it is a window: promotions begin in it only")
	for _, f := range []string{"title", "from", "to"} {
		_ = add.MarkFlagRequired(f)
	}
	remove := g.command("remove NUMBER", "Removes a freeze or a window", cobra.ExactArgs(1), func(s *session, args []string) error {
		n, err := number(args[0])
		if err != nil {
			return err
		}
		id, err := of(s)
		if err != nil {
			return err
		}
		v, err := read[client.CalendarView](s.GetCalendar(s, &client.GetCalendarParams{Site: id}))
		if err != nil {
			return err
		}
		for _, e := range v.Entries {
			if e.Id == n {
				_, err := read[struct{}](s.RemoveCalendarEntry(s, n, &client.RemoveCalendarEntryParams{Version: e.Version}))
				if err == nil {
					fmt.Fprintf(s.out, "Removed the %s %s.\n", e.Entry.Kind, line(e.Entry.Title))
				}
				return err
			}
		}
		return fmt.Errorf("the calendar has no entry %d. With --site it has that site's, too", n)
	})
	for _, c := range []*cobra.Command{list, add, remove} {
		c.Flags().StringVar(&site, "site", "", "name of the site; without one what is for all sites")
		_ = c.RegisterFlagCompletionFunc("site", g.sites)
	}
	return parent("freezes", "Freezes and windows: list, add, remove", list, add, remove)
}

// watches are the commands about watches. Long because it is a list: one command after the other.
func (g *group) watches() *cobra.Command {
	var site, reason string
	list := g.siteFlag(g.command("list", "Which promotions of a site are watched, or wait for a person after it", cobra.NoArgs, func(s *session, _ []string) error {
		v, err := s.site(site)
		if err != nil {
			return err
		}
		all, err := read[[]client.WatchView](s.ListWatches(s, v.Id))
		if err != nil {
			return err
		}
		return s.show(all, func(w io.Writer) {
			var rows [][]string
			for _, x := range all {
				rows = append(rows, []string{fmt.Sprint(x.Id), fmt.Sprint(x.Change), x.ChangeTitle, string(x.State), when(x.Ends), x.Why})
			}
			table(w, []string{"NUMBER", "CHANGE", "TITLE", "STATE", "ENDS", "WHY"}, rows)
		})
	}), &site)
	show := g.command("show CHANGE", "How the promotion of a change is watched", cobra.ExactArgs(1), func(s *session, args []string) error {
		c, err := s.change(args[0])
		if err != nil {
			return err
		}
		if c.Watch == nil {
			return fmt.Errorf("change %d is not watched", c.Id)
		}
		return s.show(c.Watch, func(w io.Writer) { watched(w, *c.Watch) })
	})
	decide := func(use, short string, keep bool) *cobra.Command {
		c := g.command(use+" NUMBER", short, cobra.ExactArgs(1), func(s *session, args []string) error {
			id, err := number(args[0])
			if err != nil {
				return err
			}
			var v client.WatchView
			if keep {
				v, err = read[client.WatchView](s.KeepChange(s, id, client.ReasonBody{Reason: reason}))
			} else {
				v, err = read[client.WatchView](s.StopWatch(s, id, client.ReasonBody{Reason: reason}))
			}
			if err != nil {
				return err
			}
			return s.show(v, func(w io.Writer) { watched(w, v) })
		})
		c.Flags().StringVar(&reason, "reason", "", "why; recorded in the history")
		_ = c.MarkFlagRequired("reason")
		return c
	}
	return parent("watch", "Watches of promotions: list, show, stop, keep", list, show, decide("stop", "Ends a watch before its time", false), decide("keep", "Stops a change that is announced to be rolled back automatically", true))
}

// watched prints a watch.
func watched(w io.Writer, x client.WatchView) {
	fmt.Fprintf(w, "Watch %d on %s until %s: %s. %s\n", x.Id, line(x.Environment), when(x.Ends), x.State, line(x.Why))
	if b := x.Back; b != nil {
		switch {
		case b.Refused != "":
			fmt.Fprintf(w, "  It was not rolled back automatically: %s\n", line(b.Refused))
		default:
			fmt.Fprintf(w, "  It is rolled back automatically at %s: %s\n", when(b.At), line(b.Why))
		}
	}
	var rows [][]string
	for _, l := range x.Looks {
		var why []string
		for _, p := range l.For {
			why = append(why, string(p.Reason))
		}
		run := ""
		if l.Run != nil {
			run = fmt.Sprint(*l.Run)
		}
		rows = append(rows, []string{when(l.At), string(l.State), strings.Join(why, ", "), run, l.Why})
	}
	table(w, []string{"LOOK AT", "STATE", "FOR", "RUN", "CAME TO"}, rows)
}
