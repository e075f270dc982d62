package main

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net/http"
	"os"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"tidemarker/internal/api"
	generated "tidemarker/internal/client"
	"tidemarker/internal/command"
	"tidemarker/internal/core/people"
)

// connector gives the commands of package command what they ask: a server, with the token of [tokenVariable], or the local
// database through the same API in this process, which then works off what it begins.
func connector(data *string) command.Connect {
	return func(ctx context.Context, server string) (*generated.Client, func() error, error) {
		if server != "" {
			c, err := generated.NewClient(trimmed(server), generated.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
				if token := os.Getenv(tokenVariable); token != "" {
					r.Header.Set("Authorization", "Bearer "+token)
				}
				return nil
			}))
			return c, func() error { return nil }, err
		}
		a, err := open(ctx, *data)
		if err != nil {
			return nil, nil, err
		}
		s := api.NewServer(a.runner, nil, a.log)
		q, err := a.queue(s, 1, timing{})
		if err == nil {
			err = q.Start(context.WithoutCancel(ctx))
		}
		if err != nil {
			return nil, nil, errors.Join(err, a.close())
		}
		c, err := generated.NewClient("http://localhost", generated.WithHTTPClient(inProcess{s.As(a.who+" (command line)", people.Administrator)}))
		return c, func() error {
			stopping, cancel := context.WithTimeout(context.Background(), 20*time.Second)
			defer cancel()
			q.Stop(stopping)
			return a.close()
		}, err
	}
}

// inProcess answers requests by a handler, without a network.
type inProcess struct{ http.Handler }

// Do answers a request.
func (p inProcess) Do(r *http.Request) (*http.Response, error) {
	w := &answer{header: http.Header{}, code: http.StatusOK}
	if r.Body == nil {
		r.Body = http.NoBody
	}
	p.ServeHTTP(w, r)
	return &http.Response{StatusCode: w.code, Status: http.StatusText(w.code), Header: w.header, Body: io.NopCloser(&w.body), Request: r}, nil
}

type answer struct {
	header http.Header
	code   int
	body   bytes.Buffer
}

func (a *answer) Header() http.Header         { return a.header }
func (a *answer) WriteHeader(code int)        { a.code = code }
func (a *answer) Write(b []byte) (int, error) { return a.body.Write(b) }

func manCommand(root *cobra.Command) *cobra.Command {
	return &cobra.Command{
		Use: "man FOLDER", Short: "Writes man pages of all commands into a folder", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return err
			}
			at := time.Date(2026, 11, 28, 0, 0, 0, 0, time.UTC) // the same pages each time
			return doc.GenManTree(root, &doc.GenManHeader{Title: "TIDEMARKER", Section: "1", Source: "Tide Marker", Manual: "Tide Marker", Date: &at}, args[0])
		},
	}
}
