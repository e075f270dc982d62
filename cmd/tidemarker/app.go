package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"tidemarker/internal/act"
	"tidemarker/internal/api"
	"tidemarker/internal/browser"
	"tidemarker/internal/cluster"
	"tidemarker/internal/inspect"
	"tidemarker/internal/post"
	"tidemarker/internal/run"
	"tidemarker/internal/secret"
	"tidemarker/internal/speedlayer/kinds"
	"tidemarker/internal/store"
)

// app is what every command works with.
type app struct {
	store   *store.Store
	runner  *run.Runner
	log     *slog.Logger
	who     string
	cluster *cluster.Cluster
	mail    *post.Server // that the demo sends mail by; others say it in variables

	mu      sync.Mutex
	browser *browser.Browser
}

// logVariable says how the log is written: json, or lines of text.
const logVariable = "TIDEMARKER_LOG"

func logged(w io.Writer, how string) *slog.Logger {
	if how == "json" {
		return slog.New(slog.NewJSONHandler(w, nil))
	}
	return slog.New(slog.NewTextHandler(w, nil))
}

// open connects to the database that DATABASE_URL names, or runs one, and brings its
// schema up to date.
func open(ctx context.Context, data string) (*app, error) {
	a := &app{log: logged(os.Stderr, os.Getenv(logVariable)), who: "command line"}
	slog.SetDefault(a.log)
	if u, err := user.Current(); err == nil {
		a.who = u.Username
	}
	url := os.Getenv("DATABASE_URL")
	if url == "" {
		c, err := cluster.Start(ctx, filepath.Join(data, "postgres"), cluster.Options{})
		if err != nil {
			return nil, err
		}
		a.cluster, url = c, c.URL()
	}
	keys, err := keysOf(data, a.cluster != nil)
	if err != nil {
		return nil, errors.Join(err, a.close())
	}
	st, err := store.Open(ctx, url, keys)
	if err != nil {
		return nil, errors.Join(err, a.close())
	}
	a.store = st
	if err := errors.Join(st.Migrate(ctx), a.useObjects(ctx)); err != nil {
		return nil, errors.Join(err, a.close())
	}
	switch n, err := st.SealUnsealed(ctx); {
	case errors.Is(err, secret.ErrNoKey):
		a.log.Warn("secrets lie readable in the database, and none can be added: this process has no key", "mend", "name a file with one in "+keyFileVariable+"; tidemarker key prints a new one")
	case err != nil:
		return nil, errors.Join(err, a.close())
	case n > 0:
		a.log.Info("secrets that lay readable in the database were sealed", "sites and environments", n)
	}
	acts := &act.Acts{Store: st, Kinds: kinds.All, Log: a.log, Variables: strings.Fields(strings.ReplaceAll(os.Getenv(variablesVariable), ",", " "))}
	if a.runner, err = run.New(acts, &inspect.Tools{Blobs: st, Browser: a.startBrowser}, a.log); err != nil {
		return nil, errors.Join(err, a.close())
	}
	a.runner.Patience = patience
	return a, nil
}

// patience is for how long runs ask a speed layer again that brings no answer: as long as a server takes to start anew.
const patience = 2 * time.Minute

func (a *app) startBrowser() (*browser.Browser, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.browser == nil {
		b, err := browser.Start(browser.Options{})
		if err != nil {
			return nil, err
		}
		a.browser = b
		if how := b.Confinement(); how.Sandbox {
			a.log.Info("Chromium runs " + how.String())
		} else {
			a.log.Warn("Chromium runs "+how.String(), "mend", "let it have user namespaces, and run Tide Marker as a user of its own (docs/running.md, “The browser”)")
		}
	}
	return a.browser, nil
}

// queue works jobs off in this process, with a number of workers.
func (a *app) queue(s *api.Server, workers int, t timing) (*run.Queue, error) {
	a.runner.Tools.ReadyFor, a.runner.Tools.Little = t.readyFor, 3
	return run.NewQueue(a.runner, run.Options{Workers: workers, ReadEvery: t.readEvery, Survey: s.Onboard.Survey, StepUp: s.Changes.ContinueStepUps, GoOut: s.Changes.GoOut, Scheduled: s.Scheduled.GoOn, Watch: s.Watching.GoOn, Rollouts: s.Rollouts.GoOn})
}

// close ends what the command started.
func (a *app) close() error {
	if a.browser != nil {
		a.browser.Close()
	}
	if a.store != nil {
		a.store.Close()
	}
	if a.cluster != nil {
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		return a.cluster.Release(ctx)
	}
	return nil
}

// siteAndEnvironment finds both by name; the error lists the names there are.
func (a *app) siteAndEnvironment(ctx context.Context, siteName, envName string) (store.Site, store.Environment, error) {
	s, err := a.store.SiteNamed(ctx, siteName)
	if errors.Is(err, store.ErrNotFound) {
		all, _, listErr := a.store.Sites(ctx, "", 20, 0)
		if listErr != nil {
			return s, store.Environment{}, listErr
		}
		names := ""
		for _, s := range all {
			names += fmt.Sprintf(" %q", s.Name)
		}
		if names == "" {
			return s, store.Environment{}, fmt.Errorf("there is no site %q: no site is registered yet. Read a site file with: tidemarker site import FILE", siteName)
		}
		return s, store.Environment{}, fmt.Errorf("there is no site %q. There are:%s", siteName, names)
	}
	if err != nil {
		return s, store.Environment{}, err
	}
	envs, err := a.store.Environments(ctx, s.ID)
	if err != nil {
		return s, store.Environment{}, err
	}
	names := ""
	for _, e := range envs {
		if e.Name == envName {
			return s, e, nil
		}
		names += fmt.Sprintf(" %q", e.Name)
	}
	return s, store.Environment{}, fmt.Errorf("%s has no environment %q. It has:%s", siteName, envName, names)
}
