package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/spf13/cobra"

	"tidemarker/internal/api"
	"tidemarker/internal/core/people"
	"tidemarker/internal/run"
	"tidemarker/internal/store"

	files "tidemarker/web"
)

// address is where the server listens, and where people find it.
type address struct {
	listen string
	public string // empty on a loopback address
}

func (a *address) flags(c *cobra.Command) {
	c.Flags().StringVar(&a.listen, "listen", "127.0.0.1:8080", "address to listen on")
	c.Flags().StringVar(&a.public, "public", "", "the HTTPS address under which people reach it through a proxy, such as https://tide.example.org; needed to listen on anything but loopback")
}

// url is the public address, or nil when there is none. It refuses addresses on which
// passwords would cross a network in the clear.
func (a *address) url() (*url.URL, error) {
	if a.public != "" {
		u, err := url.Parse(a.public)
		if err != nil || u.Scheme != "https" || u.Host == "" || strings.Trim(u.Path, "/") != "" || u.RawQuery != "" {
			return nil, fmt.Errorf("--public %q is not an address such as https://tide.example.org: HTTPS, without a path", a.public)
		}
		return u, nil
	}
	host, _, err := net.SplitHostPort(a.listen)
	if err != nil {
		return nil, fmt.Errorf("--listen %q is not host:port", a.listen)
	}
	if ip := net.ParseIP(host); host == "localhost" || ip != nil && ip.IsLoopback() {
		return nil, nil
	}
	return nil, fmt.Errorf("--listen %s is refused without --public: others could reach it, and passwords would cross the network in the clear. Put a proxy that speaks HTTPS in front and name its address with --public", a.listen)
}

func serveCommand(data *string) *cobra.Command {
	var at address
	var noWork bool
	var told string
	var times timing
	c := &cobra.Command{
		Use: "serve", Short: "Serves the interface and the API, and works runs off", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			public, err := at.url()
			if err != nil {
				return err
			}
			a, err := open(cmd.Context(), *data)
			if err != nil {
				return err
			}
			defer a.close()
			if err := a.tell(cmd.Context(), told); err != nil {
				return err
			}
			return a.serve(cmd.Context(), at.listen, public, noWork, times, func(here string) {
				if public != nil {
					here = public.String() + "/"
				}
				fmt.Fprintf(cmd.OutOrStdout(), "Tide Marker is at %s\n", here)
				if err := a.welcome(cmd.Context(), here, cmd.OutOrStdout()); err != nil {
					a.log.Error("the first invitation could not be made", "why", err)
				}
			})
		},
	}
	at.flags(c)
	times.flags(c)
	c.Flags().StringVar(&told, statusFlag, "", "address, such as 127.0.0.1:9465, under which the process tells what it does (/metrics, /healthz, /readyz) without anybody signing in; by default it tells nobody, and the server's own address has the last two")
	c.Flags().BoolVar(&noWork, "no-work", false, "leave the runs to tidemarker worker")
	return c
}

// welcome prints a link for the first administrator while there is nobody.
func (a *app) welcome(ctx context.Context, here string, w io.Writer) error {
	all, err := a.store.People(ctx)
	if err != nil || len(all) > 0 {
		return err
	}
	link, err := api.InvitationLink(ctx, a.store, store.Invitation{Role: people.Administrator, InvitedBy: a.who, Note: "the first administrator", ExpiresAt: time.Now().Add(24 * time.Hour)})
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(w, "Nobody can sign in yet. The first administrator creates an account here, once, within a day:\n  %s%s\n", trimmed(here), link)
	return err
}

func inviteCommand(data *string) *cobra.Command {
	var role, note, forWhom, server string
	c := &cobra.Command{
		Use: "invite", Short: "Makes a link with which somebody creates an account, or chooses a new password", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx := cmd.Context()
			if !people.Role(role).Known() {
				return fmt.Errorf("there is no role %q. There are: observer, maintainer, approver, administrator", role)
			}
			a, err := open(ctx, *data)
			if err != nil {
				return err
			}
			defer a.close()
			inv := store.Invitation{Role: people.Role(role), InvitedBy: a.who + " (command line)", Note: note, ExpiresAt: time.Now().Add(24 * time.Hour)}
			if forWhom != "" {
				p, err := a.store.PersonNamed(ctx, forWhom)
				if err != nil {
					return fmt.Errorf("nobody signs in as %q", forWhom)
				}
				inv.PersonID, inv.Role = &p.ID, p.Role
			}
			link, err := api.InvitationLink(ctx, a.store, inv)
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s%s\nIt works once, within a day.\n", trimmed(server), link)
			return nil
		},
	}
	c.Flags().StringVar(&role, "role", string(people.Maintainer), "observer, maintainer, approver or administrator")
	c.Flags().StringVar(&note, "note", "", "whom it is for")
	c.Flags().StringVar(&forWhom, "person", "", "the sign-in name of somebody who is to choose a new password")
	c.Flags().StringVar(&server, "server", "http://127.0.0.1:8080", "address of the server, for the link")
	return c
}

// serve runs until the context ends. ready is called with the address once it answers.
func (a *app) serve(ctx context.Context, listen string, public *url.URL, noWork bool, times timing, ready func(url string)) error {
	s := api.NewServer(a.runner, public, a.log)
	var err error
	if s.Provider, err = providerOf(os.Getenv); err != nil {
		return err
	}
	if s.Post.Mail = a.mail; s.Post.Mail == nil {
		if s.Post.Mail, err = mailOf(os.Getenv); err != nil {
			return err
		}
	}
	go s.Field.Keep(ctx)
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return fmt.Errorf("listen on %s: %w. Name another address with --listen", listen, err)
	}
	if s.Post.Base == "" {
		s.Post.Base = "http://" + l.Addr().String()
	}
	posting, stopPosting := context.WithCancel(ctx)
	posted := make(chan struct{})
	go func() { s.Post.Run(posting); close(posted) }()
	defer func() { stopPosting(); <-posted }()
	var q *run.Queue
	if !noWork {
		if q, err = a.queue(s, 2, times); err == nil {
			err = q.Start(context.WithoutCancel(ctx))
		}
		if err != nil {
			return errors.Join(err, l.Close())
		}
	}
	server := &http.Server{Handler: api.New(ctx, s, files.Files), ReadHeaderTimeout: 10 * time.Second, BaseContext: func(net.Listener) context.Context { return ctx }}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(l) }()
	ready("http://" + l.Addr().String() + "/")
	select {
	case <-ctx.Done():
	case err = <-failed:
	}
	stopping, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	if q != nil {
		q.Stop(stopping)
	}
	_ = server.Close()
	return err
}

func openAPICommand() *cobra.Command {
	return &cobra.Command{
		Use: "openapi", Short: "Prints the description of the API", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			raw, err := json.MarshalIndent((&api.Server{}).API(chi.NewRouter()).OpenAPI(), "", "  ")
			if err != nil {
				return err
			}
			fmt.Fprintln(cmd.OutOrStdout(), string(raw))
			return nil
		},
	}
}
