package command

import (
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tidemarker/internal/client"
)

// rollouts are the commands about changes that go to other sites. Long because it is a list: one command after the other.
func (g *group) rollouts() *cobra.Command {
	var site, title, reason, pace, of string
	var to, confirm []string
	var measures bool
	list := g.command("list", "Rollouts, the latest first", cobra.NoArgs, func(s *session, _ []string) error {
		all, err := read[[]client.RolloutRef](s.ListRollouts(s, &client.ListRolloutsParams{}))
		if err != nil {
			return err
		}
		return s.show(all, func(w io.Writer) {
			var rows [][]string
			for _, r := range all {
				rows = append(rows, []string{fmt.Sprint(r.Id), r.Name, r.Title, string(r.State), fmt.Sprint(r.Sites), when(r.MadeAt), r.Why})
			}
			table(w, []string{"NUMBER", "FROM", "TITLE", "STATE", "SITES", "BEGUN", "WHY"}, rows)
		})
	})
	offers := g.command("offers CHANGE", "What a change would be on each of the other sites", cobra.ExactArgs(1), func(s *session, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		all, err := read[[]client.RolloutOffer](s.OfferChange(s, id))
		if err != nil {
			return err
		}
		return s.show(all, func(w io.Writer) {
			var rows [][]string
			for _, o := range all {
				var get, ask []string
				for _, m := range o.Fit.Mapped {
					if m.Confirm {
						ask = append(ask, m.Key)
					} else {
						get = append(get, m.Key)
					}
				}
				rows = append(rows, []string{o.Name, strings.Join(get, ", "), strings.Join(ask, ", "), fmt.Sprint(len(o.Fit.Without)), o.Why})
			}
			table(w, []string{"SITE", "WOULD GET", "ONLY IF CONFIRMED", "WITHOUT", "CANNOT"}, rows)
		})
	})
	begin := g.command("begin CHANGE", "Starts to roll a settled change out to other sites: tried on their stagings, promoted once released", cobra.ExactArgs(1), func(s *session, args []string) error {
		c, err := s.change(args[0])
		if err != nil {
			return err
		}
		sites, err := s.destinations(to, confirm)
		if err != nil {
			return err
		}
		body := client.Terms{Title: title, Pace: client.TermsPace(pace), Measures: &measures, Sites: sites}
		if title == "" {
			body.Title = c.Title
		}
		if reason != "" {
			body.Reason = &reason
		}
		r, err := read[client.RolloutView](s.BeginRollout(s, c.Id, body))
		if err != nil {
			return err
		}
		return s.show(r, func(w io.Writer) { rolledOut(w, r) })
	})
	begin.Flags().StringArrayVar(&to, "to", nil, "a site and its wave, as “The hill=2”; without a wave it is in the first (may be given again)")
	begin.Flags().StringArrayVar(&confirm, "confirm", nil, "a site and a key of it whose value is right there, as “The hill=skipPaths” (may be given again)")
	begin.Flags().StringVar(&title, "title", "", "of the changes that are begun; without one the change's own")
	begin.Flags().StringVar(&reason, "reason", "", "why")
	begin.Flags().StringVar(&pace, "pace", "check", "when the next wave follows: check, or watch")
	begin.Flags().BoolVar(&measures, "measure", false, "measure each staging")
	_ = begin.MarkFlagRequired("to")
	act := func(use, short string, do func(s *session, id int64) (*http.Response, error)) *cobra.Command {
		return g.command(use+" NUMBER", short, cobra.ExactArgs(1), func(s *session, args []string) error {
			id, err := number(args[0])
			if err != nil {
				return err
			}
			r, err := read[client.RolloutView](do(s, id))
			if err != nil {
				return err
			}
			return s.show(r, func(w io.Writer) { rolledOut(w, r) })
		})
	}
	leave := g.siteFlag(act("skip", "Lets a rollout go on without a site", func(s *session, id int64) (*http.Response, error) {
		v, err := s.site(site)
		if err != nil {
			return nil, err
		}
		return s.SkipRolloutSite(s, id, v.Id, client.ReasonBody{Reason: of})
	}), &site)
	leave.Flags().StringVar(&of, "reason", "", "why; recorded in the history")
	_ = leave.MarkFlagRequired("reason")
	return parent("rollout", "Changes that go to other sites: list, offers, begin, show, go, stop, skip, end", list, offers, begin,
		act("show", "How far a rollout is, site by site", func(s *session, id int64) (*http.Response, error) { return s.GetRollout(s, id) }),
		act("go", "Lets the waves of a rollout go", func(s *session, id int64) (*http.Response, error) { return s.LetRolloutGo(s, id) }),
		act("stop", "Lets nothing more of a rollout be promoted", func(s *session, id int64) (*http.Response, error) { return s.StopRollout(s, id) }),
		leave,
		act("end", "Ends a rollout; changes that it began stay as they are", func(s *session, id int64) (*http.Response, error) { return s.EndRollout(s, id) }))
}

// destinations reads the sites of a rollout as they are named on the command line.
func (s *session) destinations(to, confirm []string) (out []client.Destination, err error) {
	at := map[string]int{}
	for _, arg := range to {
		name, wave := arg, int64(1)
		if n, w, numbered := strings.Cut(arg, "="); numbered {
			name = n
			if wave, err = strconv.ParseInt(w, 10, 64); err != nil || wave < 1 {
				return nil, fmt.Errorf("%q is no wave. Write --to as “The hill=2”", w)
			}
		}
		v, err := s.site(name)
		if err != nil {
			return nil, err
		}
		at[name] = len(out)
		out = append(out, client.Destination{Site: v.Id, Wave: wave})
	}
	for _, arg := range confirm {
		name, key, _ := strings.Cut(arg, "=")
		i, there := at[name]
		if !there || key == "" {
			return nil, fmt.Errorf("%q names no site of --to and a key of it. Write --confirm as “The hill=skipPaths”", arg)
		}
		keys := []string{key}
		if out[i].Confirmed != nil {
			keys = append(*out[i].Confirmed, key)
		}
		out[i].Confirmed = &keys
	}
	return out, nil
}

// rolledOut prints a rollout.
func rolledOut(w io.Writer, r client.RolloutView) {
	fmt.Fprintf(w, "Rollout %d of %s from %s: %s. %s\n", r.Id, line(r.Title), line(r.Name), r.State, line(r.Why))
	var rows [][]string
	for _, m := range r.Members {
		change, speed, said := "", "", m.Said
		if m.Change != nil {
			change = fmt.Sprint(m.Change.Id)
		}
		if m.Measured != nil {
			speed = m.Measured.Summary
		}
		if said == "" && m.Staging != nil {
			said = m.Staging.Summary
		}
		if m.Skipped != "" {
			said = m.Skipped
		}
		rows = append(rows, []string{fmt.Sprint(m.Wave), m.Name, change, string(m.Stage), said, speed})
	}
	table(w, []string{"WAVE", "SITE", "CHANGE", "STAGE", "SAID", "SPEED"}, rows)
}

// schedules are the commands about what is done again and again.
func (g *group) schedules() *cobra.Command {
	var site, env, place string
	list := g.siteFlag(g.command("list", "What is scheduled on a site", cobra.NoArgs, func(s *session, _ []string) error {
		v, err := s.site(site)
		if err != nil {
			return err
		}
		all, err := read[[]client.ScheduleView](s.ListSchedules(s, v.Id))
		if err != nil {
			return err
		}
		return s.show(all, func(w io.Writer) {
			var rows [][]string
			for _, x := range all {
				next := "over"
				switch {
				case x.Paused:
					next = "paused"
				case x.Next != nil:
					next = when(*x.Next)
				}
				rows = append(rows, []string{fmt.Sprint(x.Id), string(x.Schedule.What), x.Schedule.Rule, next, x.Said})
			}
			table(w, []string{"NUMBER", "WHAT", "RULE", "NEXT", "SAID"}, rows)
		})
	}), &site)
	backup := g.siteFlag(g.command("record-backup", "Says that there is a backup of an environment, which a tidy waits for", cobra.NoArgs, func(s *session, _ []string) error {
		e, err := s.environment(site, env)
		if err != nil {
			return err
		}
		if _, err := read[struct{}](s.RecordBackup(s, e.Id, client.RecordBackupJSONRequestBody{Place: place})); err != nil {
			return err
		}
		fmt.Fprintf(s.out, "Recorded: there is a backup of %s. It counts for a day.\n", line(e.Name))
		return nil
	}), &site)
	backup.Flags().StringVar(&env, "env", "production", "name of the environment")
	backup.Flags().StringVar(&place, "place", "", "where it is")
	_ = backup.MarkFlagRequired("place")
	return parent("schedules", "Schedules: list, record-backup", list, backup)
}
