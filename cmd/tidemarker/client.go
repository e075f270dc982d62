package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"time"

	"tidemarker/internal/core/evidence"
)

// tokenVariable is where commands that talk to a server take their token from, so
// that it stands in no command line.
const tokenVariable = "TIDEMARKER_TOKEN"

// client talks to a running Tide Marker through its API, with a token or as somebody
// who signed in.
type client struct {
	url, token string
	http       http.Client
}

// signedIn signs somebody in.
func signedIn(ctx context.Context, url, name, password string) (*client, error) {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, err
	}
	c := &client{url: url, http: http.Client{Jar: jar}}
	return c, c.call(ctx, http.MethodPost, "/session", map[string]any{"name": name, "password": password}, nil)
}

// call makes one request. What the server says went wrong is the error.
func (c *client) call(ctx context.Context, method, path string, body, into any) error {
	var payload io.Reader
	if body != nil {
		raw, err := json.Marshal(body)
		if err != nil {
			return err
		}
		payload = bytes.NewReader(raw)
	}
	req, err := http.NewRequestWithContext(ctx, method, trimmed(c.url)+"/api/v1"+path, payload)
	if err != nil {
		return fmt.Errorf("--server %q is not an address such as https://tide.example.org", c.url)
	}
	req.Header.Set("Content-Type", "application/json")
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	res, err := c.http.Do(req)
	if err != nil {
		return fmt.Errorf("%s does not answer: %w", c.url, err)
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, 64<<20))
	if err != nil {
		return err
	}
	if res.StatusCode >= 300 {
		var problem struct{ Title, Detail string }
		if json.Unmarshal(raw, &problem) != nil || problem.Detail == "" {
			return fmt.Errorf("%s %s was answered with %s", method, path, res.Status)
		}
		return errors.New(problem.Detail)
	}
	switch as := into.(type) {
	case nil:
		return nil
	case *file:
		*as = raw
		return nil
	}
	if err := json.Unmarshal(raw, into); err != nil {
		return fmt.Errorf("%s does not answer as Tide Marker does: %w", c.url, err)
	}
	return nil
}

// file is an answer that is kept as it comes.
type file []byte

// environment finds an environment's number by the names; the error lists those there are.
func (c *client) environment(ctx context.Context, siteName, envName string) (int64, error) {
	var list struct {
		Sites []struct {
			ID   int64
			Name string
		}
	}
	if err := c.call(ctx, http.MethodGet, "/sites?limit=100&q="+url.QueryEscape(siteName), nil, &list); err != nil {
		return 0, err
	}
	for _, s := range list.Sites {
		if s.Name != siteName {
			continue
		}
		var view struct {
			Environments []struct {
				ID   int64
				Name string
			}
		}
		if err := c.call(ctx, http.MethodGet, fmt.Sprintf("/sites/%d", s.ID), nil, &view); err != nil {
			return 0, err
		}
		var names []string
		for _, e := range view.Environments {
			if e.Name == envName {
				return e.ID, nil
			}
			names = append(names, fmt.Sprintf("%q", e.Name))
		}
		return 0, fmt.Errorf("%s has no environment %q. It has: %s", siteName, envName, strings.Join(names, ", "))
	}
	return 0, fmt.Errorf("the server has no site %q", siteName)
}

// carryOut asks for a run, waits until it is over and gives its report.
func (c *client) carryOut(ctx context.Context, path string, body any) (evidence.Report, error) {
	id, err := c.begin(ctx, path, body)
	if err != nil {
		return evidence.Report{}, err
	}
	var rep evidence.Report
	err = c.call(context.WithoutCancel(ctx), http.MethodGet, fmt.Sprintf("/runs/%d/report", id), nil, &rep)
	return rep, err
}

// begin asks for a run and waits until it is over. When the command is told to end, the run is
// asked to stop, and waited for still: it restores what it is to restore.
func (c *client) begin(ctx context.Context, path string, body any) (id int64, err error) {
	var run struct{ ID int64 }
	if err := c.call(ctx, http.MethodPost, path, body, &run); err != nil {
		return 0, err
	}
	steady := context.WithoutCancel(ctx)
	defer context.AfterFunc(ctx, func() {
		_ = c.call(steady, http.MethodPost, fmt.Sprintf("/runs/%d/stop", run.ID), map[string]any{}, nil)
	})()
	return run.ID, c.await(steady, run.ID)
}

// await waits until a run is over. A server that does not answer for a moment is
// asked again.
func (c *client) await(ctx context.Context, run int64) error {
	failed := 0
	for {
		var r struct{ State string }
		err := c.call(ctx, http.MethodGet, fmt.Sprintf("/runs/%d", run), nil, &r)
		switch {
		case err != nil && failed >= 20:
			return err
		case err != nil:
			failed++
		default:
			failed = 0
		}
		switch r.State {
		case "done", "stopped", "failed":
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}
