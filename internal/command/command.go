// Package command is the command line's way to do what the interface does: each command asks the API, of a server that runs
// somewhere or of the local database, through a client that is generated from the API's description (package client).
package command

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"tidemarker/internal/client"
)

// Connect gives a client, and what ends it. server is empty for the local database.
type Connect func(ctx context.Context, server string) (*client.Client, func() error, error)

// Exit is an error that ends the program with a code of its own.
type Exit struct {
	Code int
	Err  error
}

func (e *Exit) Error() string {
	if e.Err == nil {
		return ""
	}
	return e.Err.Error()
}

// The codes with which commands end that wait for a verdict; 1 is also that of everything else that failed.
var codes = map[string]int{"clear": 0, "broken": 1, "unsure": 2, "not checked": 3}

// session is one command being carried out.
type session struct {
	context.Context
	*client.Client
	out    io.Writer
	asJSON bool
}

// group makes commands that ask the API.
type group struct {
	connect Connect
	server  string
	json    bool
}

// run is what a command does with an open session.
type run func(s *session, args []string) error

// command makes a cobra command of it.
func (g *group) command(use, short string, args cobra.PositionalArgs, do run) *cobra.Command {
	return &cobra.Command{Use: use, Short: short, Args: args, RunE: func(cmd *cobra.Command, args []string) error {
		c, end, err := g.connect(cmd.Context(), g.server)
		if err != nil {
			return err
		}
		err = do(&session{cmd.Context(), c, cmd.OutOrStdout(), g.json}, args)
		return errors.Join(err, end())
	}}
}

// New are all commands that do what the interface does. server is where they ask when nobody says.
func New(connect Connect, server string) []*cobra.Command {
	g := &group{connect: connect}
	all := []*cobra.Command{g.changes(), g.runs(), g.marks(), g.drift(), g.exclusions(), g.purge(), g.approvals(), g.freezes(), g.watches(), g.rollouts(), g.schedules()}
	for _, c := range all {
		c.PersistentFlags().StringVar(&g.server, "server", server, "address of a running Tide Marker that is to do it; without one the local database is worked on")
		c.PersistentFlags().BoolVar(&g.json, "json", false, "print the API's answer as JSON")
	}
	return all
}

// parent is a command that only has others below it.
func parent(use, short string, children ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	c.AddCommand(children...)
	return c
}

// read takes an answer apart. What the server says went wrong is the error.
func read[T any](res *http.Response, err error) (T, error) {
	var v T
	if err != nil {
		return v, fmt.Errorf("the server does not answer: %w", err)
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, 64<<20))
	if err != nil {
		return v, err
	}
	if res.StatusCode >= 300 {
		var problem client.ErrorModel
		if json.Unmarshal(raw, &problem) != nil || problem.Detail == nil {
			return v, fmt.Errorf("%s was answered with %s", res.Request.URL.Path, res.Status)
		}
		said := *problem.Detail
		if problem.Errors != nil {
			for _, e := range *problem.Errors {
				if e.Message != nil {
					said += " " + *e.Message
				}
			}
		}
		return v, errors.New(said)
	}
	switch as := any(&v).(type) {
	case *[]byte:
		*as = raw
		return v, nil
	case *struct{}:
		return v, nil
	}
	if err := json.Unmarshal(raw, &v); err != nil {
		return v, fmt.Errorf("the server does not answer as Tide Marker does: %w", err)
	}
	return v, nil
}

// show prints a value, as JSON or as a person reads it.
func (s *session) show(v any, said func(w io.Writer)) error {
	if s.asJSON {
		e := json.NewEncoder(s.out)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		return e.Encode(v)
	}
	said(s.out)
	return nil
}

// table prints rows below their heads; cells of the site's own words are one line each.
func table(w io.Writer, heads []string, rows [][]string) {
	if len(rows) == 0 {
		fmt.Fprintln(w, "None.")
		return
	}
	var whole bytes.Buffer
	t := tabwriter.NewWriter(&whole, 0, 4, 2, ' ', 0)
	for _, r := range append([][]string{heads}, rows...) {
		for i := range r {
			r[i] = line(r[i])
		}
		fmt.Fprintln(t, strings.Join(r, "\t")+"\t")
	}
	_ = t.Flush()
	for l := range strings.Lines(whole.String()) {
		fmt.Fprintln(w, strings.TrimRight(l, " \n"))
	}
}

// line is a text on one line, without what a terminal would obey.
func line(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r >= 0x80 && r < 0xa0 {
			return ' '
		}
		return r
	}, text)
}

func when(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

func number(arg string) (int64, error) {
	n, err := strconv.ParseInt(arg, 10, 64)
	if err != nil || n < 1 {
		return 0, fmt.Errorf("%q is no number", arg)
	}
	return n, nil
}

// site finds a site by its name; the error lists those there are.
func (s *session) site(name string) (client.SiteView, error) {
	limit := int64(100)
	list, err := read[client.SiteList](s.ListSites(s, &client.ListSitesParams{Q: &name, Limit: &limit}))
	if err != nil {
		return client.SiteView{}, err
	}
	for _, x := range list.Sites {
		if x.Name == name {
			return read[client.SiteView](s.GetSite(s, x.Id))
		}
	}
	all, err := read[client.SiteList](s.ListSites(s, &client.ListSitesParams{Limit: &limit}))
	if err != nil {
		return client.SiteView{}, err
	}
	var names []string
	for _, x := range all.Sites {
		names = append(names, fmt.Sprintf("%q", x.Name))
	}
	return client.SiteView{}, fmt.Errorf("there is no site %q. There are: %s", name, strings.Join(names, ", "))
}

// environment finds an environment of a site.
func (s *session) environment(siteName, name string) (client.EnvironmentView, error) {
	v, err := s.site(siteName)
	if err != nil {
		return client.EnvironmentView{}, err
	}
	var names []string
	for _, e := range v.Environments {
		if e.Name == name {
			return e, nil
		}
		names = append(names, fmt.Sprintf("%q", e.Name))
	}
	return client.EnvironmentView{}, fmt.Errorf("%s has no environment %q. It has: %s", siteName, name, strings.Join(names, ", "))
}

// poll is how often it is asked how far a run is.
const poll = 500 * time.Millisecond

// ended waits until a run has ended, and returns it. Somebody who stops waiting stops nothing.
func (s *session) ended(id int64) (client.RunView, error) {
	tick := time.NewTicker(poll)
	defer tick.Stop()
	for {
		r, err := read[client.RunView](s.GetRun(s, id))
		if err != nil || r.FinishedAt != nil {
			return r, err
		}
		select {
		case <-s.Done():
			return r, fmt.Errorf("run %d goes on: %w", id, s.Err())
		case <-tick.C:
		}
	}
}

// sites completes the names of sites.
func (g *group) sites(cmd *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
	c, end, err := g.connect(cmd.Context(), g.server)
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	limit := int64(100)
	list, err := read[client.SiteList](c.ListSites(cmd.Context(), &client.ListSitesParams{Q: &begun, Limit: &limit}))
	if errors.Join(err, end()) != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	var names []string
	for _, x := range list.Sites {
		names = append(names, x.Name)
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

// siteFlag is the site that a command is about.
func (g *group) siteFlag(c *cobra.Command, into *string) *cobra.Command {
	c.Flags().StringVar(into, "site", "", "name of the site")
	_ = c.MarkFlagRequired("site")
	_ = c.RegisterFlagCompletionFunc("site", g.sites)
	return c
}
