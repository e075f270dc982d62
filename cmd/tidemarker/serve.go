package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/spf13/cobra"

	"tidemarker/internal/web"
	"tidemarker/internal/work"
	files "tidemarker/web"
)

func serveCommand(data *string) *cobra.Command {
	var listen string
	var noWork bool
	c := &cobra.Command{
		Use: "serve", Short: "Serves the interface and the API, and works rounds off", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := loopbackOnly(listen); err != nil {
				return err
			}
			a, err := open(cmd.Context(), *data)
			if err != nil {
				return err
			}
			defer a.close()
			return a.serve(cmd.Context(), listen, noWork, func(url string) {
				fmt.Fprintf(cmd.OutOrStdout(), "Tide Marker is at %s\n", url)
			})
		},
	}
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:8080", "loopback address to listen on")
	c.Flags().BoolVar(&noWork, "no-work", false, "leave the rounds to tidemarker worker")
	return c
}

// loopbackOnly refuses addresses that others could reach: until people can sign in,
// whoever reaches Tide Marker can change sites.
func loopbackOnly(listen string) error {
	host, _, err := net.SplitHostPort(listen)
	if err != nil {
		return fmt.Errorf("--listen %q is not host:port", listen)
	}
	if ip := net.ParseIP(host); host == "localhost" || ip != nil && ip.IsLoopback() {
		return nil
	}
	return fmt.Errorf("--listen %s is refused: until people can sign in, Tide Marker listens only on a loopback address such as 127.0.0.1:8080", listen)
}

// serve runs until the context ends. ready is called with the address once it answers.
func (a *app) serve(ctx context.Context, listen string, noWork bool, ready func(url string)) error {
	workers := 2
	if noWork {
		workers = 0
	}
	q, err := work.NewQueue(a.runner, workers)
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return fmt.Errorf("listen on %s: %w. Name another address with --listen", listen, err)
	}
	if workers > 0 {
		if err := q.Start(context.WithoutCancel(ctx)); err != nil {
			return errors.Join(err, l.Close())
		}
	}
	s := &web.Server{Store: a.store, Runner: a.runner, Log: a.log, Who: a.who}
	server := &http.Server{Handler: web.New(ctx, s, files.Files), ReadHeaderTimeout: 10 * time.Second, BaseContext: func(net.Listener) context.Context { return ctx }}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(l) }()
	ready("http://" + l.Addr().String() + "/")
	select {
	case <-ctx.Done():
	case err = <-failed:
	}
	stopping, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	q.Stop(stopping)
	_ = server.Close()
	return err
}

func openAPICommand() *cobra.Command {
	return &cobra.Command{
		Use: "openapi", Short: "Prints the description of the API", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			api := (&web.Server{}).API(chi.NewRouter())
			raw, err := json.MarshalIndent(api.OpenAPI(), "", "  ")
			if err != nil {
				return err
			}
			fmt.Fprintln(cmd.OutOrStdout(), string(raw))
			return nil
		},
	}
}
