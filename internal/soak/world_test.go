package soak_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tidemarker/internal/api"
	"tidemarker/internal/cluster"
	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/site"
	"tidemarker/internal/secret"
	"tidemarker/internal/store"
)

const (
	password = "three words here"
	token    = "a-token-that-is-nowhere-told" // of every connector
)

// switches are what is changed: harmless ones mostly, and some that break the site.
var switches = []string{"markup.compact", "styles.compact", "scripts.compact", "images.dimensions", "links.ahead", "fonts.early", "pages.notModified", "browser.keep", "scripts.delay", "styles.combine"}

// shop is a site with the truth about both of its environments.
type shop struct {
	id                  int64
	name                string
	staging, production *environment
	envs                [2]int64 // staging's and production's numbers
}

// world is all that there is: a database, processes, sites and people.
type world struct {
	*testing.T
	seed     uint64
	folder   string
	key      string // with which secrets are sealed
	cluster  *cluster.Cluster
	direct   atomic.Pointer[store.Store] // past all lines
	server   string
	programs []*program
	shops    []*shop
	people   []*person
	counts   *counts
}

func newWorld(t *testing.T, seed uint64) *world {
	t.Helper()
	folder, err := os.MkdirTemp("/var/tmp", "tidemarker-soak-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(folder, 0o755)) // the database's user has to pass it
	t.Cleanup(func() { _ = os.RemoveAll(folder) })
	w := &world{T: t, seed: seed, folder: folder, key: secret.NewKey(), counts: newCounts()}
	w.startDatabase()
	t.Cleanup(func() { require.NoError(t, w.cluster.Stop(context.Background())) }) // the test's own context is over by then
	w.open()
	require.NoError(t, w.db().Migrate(t.Context()))
	w.addShops()
	w.addPrograms()
	w.addPeople()
	return w
}

func (w *world) startDatabase() {
	w.Helper()
	c, err := cluster.Start(w.Context(), filepath.Join(w.folder, "postgres"), cluster.Options{})
	require.NoError(w, err)
	w.cluster = c
	for _, p := range w.programs {
		p.line.leadTo(w.database())
	}
}

func (w *world) database() string {
	return net.JoinHostPort("127.0.0.1", strconv.Itoa(w.cluster.Port()))
}

// db is the store that only the checks use, and people who look for what they can do something to.
func (w *world) db() *store.Store { return w.direct.Load() }

// open opens the store that only the checks use.
func (w *world) open() {
	w.Helper()
	keys, err := secret.Parse(w.key)
	require.NoError(w, err)
	st, err := store.Open(w.Context(), w.cluster.URL(), keys)
	require.NoError(w, err)
	if before := w.direct.Swap(st); before != nil {
		before.Close()
	}
}

// restartDatabase ends the database in the middle of all, as a failing machine does, and starts it again.
func (w *world) restartDatabase() {
	w.Helper()
	raw, err := os.ReadFile(filepath.Join(w.folder, "postgres", "postmaster.pid"))
	require.NoError(w, err)
	pid, err := strconv.Atoi(strings.Fields(string(raw))[0])
	require.NoError(w, err)
	require.NoError(w, syscall.Kill(pid, syscall.SIGQUIT))
	require.Eventually(w, func() bool { return syscall.Kill(pid, 0) != nil }, time.Minute, 10*time.Millisecond)
	w.startDatabase()
	w.open()
}

func (w *world) addShops() {
	w.Helper()
	for i, name := range []string{"Fernhollow", "Fernhollow South", "Fernhollow North", "Fernhollow East", "Fernhollow West"} {
		s := &shop{name: name, staging: newEnvironment(w.T, "staging"), production: newEnvironment(w.T, "production")}
		doc := site.Site{Name: name, Pages: []site.Page{{Path: "/contact", Class: "form", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}}}}
		if i == 0 {
			doc = edited(doc)
		}
		for _, e := range []*environment{s.staging, s.production} {
			doc.Environments = append(doc.Environments, site.Environment{Name: e.inst.Environment, URL: e.inst.URL, Hosts: []string{e.inst.OtherHost}, Connector: &site.Connector{Kind: "http", URL: e.connector, Token: token}})
		}
		row, err := w.db().SaveSite(w.Context(), doc, false, "soak")
		require.NoError(w, err)
		s.id = row.ID
		envs, err := w.db().Environments(w.Context(), row.ID)
		require.NoError(w, err)
		for _, e := range envs {
			at := 0
			if e.Name == "production" {
				at = 1
			}
			s.envs[at] = e.ID
		}
		w.shops = append(w.shops, s)
	}
}

const (
	editorPassword = "second edition" // as the stand-in has it

	article = "/library/reading-the-first-pins"
	lead    = "Soak lead, by "
)

// edited is a site on whose staging a test edit is published with each check.
func edited(doc site.Site) site.Site {
	target := func(role, name string) *journey.Target { return &journey.Target{Role: role, Name: name} }
	sign := []journey.Step{{Go: "/account"}, {Fill: &journey.Input{In: journey.Target{Label: "Name"}, Value: "ida"}}, {Fill: &journey.Input{In: journey.Target{Label: "Password"}, Value: editorPassword, Secret: true}},
		{Click: target("button", "Sign in")}, {Expect: &journey.Expect{URL: "/account"}}}
	said := journey.Step{Expect: &journey.Expect{Text: &journey.Containing{In: journey.Target{CSS: "main"}, Contains: "It is published"}}}
	doc.Personas = []site.Persona{{Name: "ida", Kind: "editor", Prepare: sign}}
	doc.Pages = append(doc.Pages, site.Page{Path: article, Class: "article", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}})
	doc.Publishing = []site.PublishingTest{{Name: "a new lead", Persona: "ida",
		Steps: []journey.Step{{Go: article + "/edit"}, {Fill: &journey.Input{In: journey.Target{Label: "Lead"}, Value: lead + journey.Canary}}, {Click: target("button", "Publish")}, said},
		Undo:  []journey.Step{{Go: article + "/edit"}, {Click: target("button", "Take it back")}, said},
		Shows: []site.Showing{{Page: article}}}}
	return doc
}

func (w *world) addPrograms() {
	w.Helper()
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(w, err)
	listen := free.Addr().String()
	require.NoError(w, free.Close())
	w.server = "http://" + listen
	worker, server := points()
	add := func(name string, points []string, args ...string) {
		l := newLine(w.T, w.database())
		at, err := url.Parse(w.cluster.URL())
		require.NoError(w, err)
		at.Host = l.addr()
		w.programs = append(w.programs, &program{name: name, args: args, line: l, folder: w.folder, points: points, random: rand.New(rand.NewPCG(w.seed, uint64(10+len(w.programs)))),
			env: []string{"DATABASE_URL=" + at.String(), "TIDEMARKER_KEY=" + w.key, w.mark()}})
	}
	add("server", server, "serve", "--listen", listen, "--no-work", "--read-every", "0")
	add("worker-1", worker, "worker", "--read-every", "20s")
	add("worker-2", worker, "worker", "--read-every", "20s")
	for _, p := range w.programs {
		p.start(w.T, "")
	}
	w.Cleanup(func() {
		for _, p := range w.programs {
			p.still(false)
			p.kill()
		}
	})
	w.serves()
}

// mark is in the environment of each process, and of those that it starts.
func (w *world) mark() string { return fmt.Sprintf("TIDEMARKER_SOAK=%d-%d", os.Getpid(), w.seed) }

// serves waits until the server answers.
func (w *world) serves() {
	w.Helper()
	require.Eventually(w, func() bool {
		res, err := http.Get(w.server + "/readyz")
		if err != nil {
			return false
		}
		_ = res.Body.Close()
		return res.StatusCode == http.StatusOK
	}, time.Minute, 50*time.Millisecond, "the server does not answer")
}

func (w *world) addPeople() {
	w.Helper()
	hash, err := api.HashPassword(password)
	require.NoError(w, err)
	for i, who := range []struct {
		name string
		role people.Role
	}{{"marin", people.Maintainer}, {"ada", people.Approver}, {"root", people.Administrator}} {
		_, err := w.db().AddPerson(w.Context(), who.name, hash, who.role)
		require.NoError(w, err)
		w.people = append(w.people, newPerson(w, who.name, rand.New(rand.NewPCG(w.seed, uint64(100+i)))))
	}
}

func newReader(b []byte) io.Reader { return bytes.NewReader(b) }
