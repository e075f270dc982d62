// Package sedge is the origin of the invented Sedge Archive: letters, and a keeper who works in
// the administration of a real framework, Debian's python3-django, with its habits: a list of
// recent actions, tokens that are others in each form, messages that are shown once.
//
// [New] starts it as a program of its own on loopback; it is for the corpus, not for the demo.
package sedge

import (
	"bufio"
	_ "embed"
	"errors"
	"fmt"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"tidemarker/internal/standin/origin"
)

//go:embed site.py
var program []byte

// python is Debian's own, which Debian's packages are for.
const python = "/usr/bin/python3"

// MemberCookie is the cookie of whoever is signed in.
const MemberCookie = "sessionid"

// startLimit is how long the framework may take to be ready.
const startLimit = time.Minute

// Installed tells whether the framework is there.
func Installed() bool { return exec.Command(python, "-c", "import django").Run() == nil }

// Archive is one instance.
type Archive struct {
	proxy *httputil.ReverseProxy
	run   *exec.Cmd
	home  string
}

// New starts an instance. Its clock is the machine's; where it is reached it need not know.
func New(string, func() time.Time, origin.Desk) (*Archive, error) {
	home, err := os.MkdirTemp("", "sedge")
	if err != nil {
		return nil, fmt.Errorf("start the Sedge Archive: %w", err)
	}
	a := &Archive{home: home}
	port, err := a.start()
	if err != nil {
		return nil, errors.Join(fmt.Errorf("start the Sedge Archive: %w", err), a.Close())
	}
	to := &url.URL{Scheme: "http", Host: "127.0.0.1:" + port}
	a.proxy = &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(to)
		r.Out.Host = r.In.Host
	}}
	return a, nil
}

func (a *Archive) start() (port string, err error) {
	file := filepath.Join(a.home, "site.py")
	if err := os.WriteFile(file, program, 0o600); err != nil {
		return "", err
	}
	a.run = exec.Command(python, file, a.home, "0")
	a.run.Stderr = os.Stderr
	said, err := a.run.StdoutPipe()
	if err != nil {
		return "", err
	}
	if err := a.run.Start(); err != nil {
		a.run = nil
		return "", err
	}
	ready := make(chan string, 1)
	go func() {
		defer close(ready)
		lines := bufio.NewScanner(said)
		for lines.Scan() {
			var port string
			if n, _ := fmt.Sscanf(lines.Text(), "ready %s", &port); n == 1 {
				ready <- port
				return
			}
		}
	}()
	select {
	case port, ok := <-ready:
		if !ok {
			return "", errors.New("it ended before it was ready")
		}
		return port, nil
	case <-time.After(startLimit):
		return "", fmt.Errorf("it was not ready within %s", startLimit)
	}
}

// ServeHTTP passes a request on.
func (a *Archive) ServeHTTP(w http.ResponseWriter, r *http.Request) { a.proxy.ServeHTTP(w, r) }

// Count is 0: nothing gathers here that a tidy would delete.
func (a *Archive) Count(string) int { return 0 }

// Gather adds nothing.
func (a *Archive) Gather(string, int) {}

// Tidy deletes nothing.
func (a *Archive) Tidy(string, int) int { return 0 }

// Close ends the program and removes what it kept.
func (a *Archive) Close() error {
	if a.run != nil {
		_ = a.run.Process.Kill()
		_ = a.run.Wait() // it says that it was killed
	}
	return os.RemoveAll(a.home)
}
