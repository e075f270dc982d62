// Package cluster runs a PostgreSQL server of Tide Marker's own on loopback, for when
// nobody gave it the address of another.
//
// [Start] makes the cluster at the first time, starts it, or joins the one that
// already runs from the same folder; [Cluster.Release] stops it when nobody else is
// connected. The server is reached with a password that only the owner of the folder
// can read.
package cluster

import (
	"bufio"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"hash/fnv"
	"io/fs"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Options say how a cluster is run. The zero value is for real use.
type Options struct {
	Fleeting bool // for tests: faster, and lost when the machine fails
}

// Cluster is a running server.
type Cluster struct {
	dir      string
	bin      string
	port     int
	password string
	owner    *syscall.Credential
}

const database = "tidemarker"

// Start runs the cluster in a folder and returns when it accepts connections. As root
// the server runs as the user postgres, because PostgreSQL refuses to run as root.
func Start(ctx context.Context, dir string, opt Options) (*Cluster, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	c := &Cluster{dir: dir, bin: bin}
	if os.Geteuid() == 0 {
		if err := c.becomeOwner(); err != nil {
			return nil, err
		}
	}
	unlock, err := lockFolder(dir)
	if err != nil {
		return nil, err
	}
	defer unlock()
	if err := c.create(ctx, opt); err != nil {
		return nil, err
	}
	if c.running(ctx) {
		return c, c.ensureDatabase(ctx)
	}
	if err := c.launch(ctx, opt); err != nil {
		return nil, err
	}
	return c, c.ensureDatabase(ctx)
}

// URL is the address of the product's database in the cluster.
func (c *Cluster) URL() string { return c.url(database) }

// Port is the loopback port of the server, Password that of its user postgres.
func (c *Cluster) Port() int        { return c.port }
func (c *Cluster) Password() string { return c.password }

func (c *Cluster) url(db string) string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword("postgres", c.password), Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(c.port)), Path: db}
	return u.String()
}

// Release stops the server when nobody else is connected to it.
func (c *Cluster) Release(ctx context.Context) error {
	unlock, err := lockFolder(c.dir)
	if err != nil {
		return err
	}
	defer unlock()
	conn, err := pgx.Connect(ctx, c.url("postgres"))
	if err != nil {
		return nil // it is down already
	}
	var others int
	err = conn.QueryRow(ctx, `SELECT count(*) FROM pg_stat_activity WHERE backend_type = 'client backend' AND pid <> pg_backend_pid()`).Scan(&others)
	_ = conn.Close(ctx)
	if err == nil && others > 0 {
		return nil
	}
	return c.Stop(ctx)
}

// Stop stops the server whoever is connected.
func (c *Cluster) Stop(ctx context.Context) error {
	return c.run(ctx, "pg_ctl", "stop", "-D", c.dir, "-m", "fast", "-w", "-t", "60")
}

func binaries() (string, error) {
	if p, err := exec.LookPath("pg_ctl"); err == nil {
		if real, err := filepath.EvalSymlinks(p); err == nil && exists(filepath.Join(filepath.Dir(real), "initdb")) {
			return filepath.Dir(real), nil
		}
	}
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/pg_ctl")
	if len(found) == 0 {
		return "", errors.New("no PostgreSQL server was found. Install Debian's package postgresql, or set DATABASE_URL to a server's address")
	}
	slices.Sort(found)
	return filepath.Dir(found[len(found)-1]), nil
}

func exists(p string) bool { _, err := os.Stat(p); return err == nil }

// becomeOwner chooses the user the server runs as, and another folder when that user
// cannot reach the one asked for.
func (c *Cluster) becomeOwner() error {
	u, err := user.Lookup("postgres")
	if err != nil {
		if u, err = user.Lookup("nobody"); err != nil {
			return errors.New("there is neither a user postgres nor nobody to run the database as, and it refuses to run as root")
		}
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	c.owner = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	if err := os.MkdirAll(filepath.Dir(c.dir), 0o755); err != nil {
		return err
	}
	if !reachable(filepath.Dir(c.dir)) {
		h := fnv.New64a()
		_, _ = h.Write([]byte(c.dir))
		c.dir = filepath.Join("/var/tmp", fmt.Sprintf("tidemarker-%x", h.Sum64()))
	}
	if err := os.MkdirAll(c.dir, 0o700); err != nil {
		return err
	}
	return os.Chown(c.dir, uid, gid)
}

// reachable tells whether every folder on the way may be passed by everybody.
func reachable(dir string) bool {
	for d := dir; ; d = filepath.Dir(d) {
		if info, err := os.Stat(d); err == nil && info.Mode().Perm()&0o001 == 0 {
			return false
		}
		if d == filepath.Dir(d) {
			return true
		}
	}
}

func lockFolder(dir string) (unlock func(), err error) {
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(dir+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX); err != nil {
		_ = f.Close()
		return nil, err
	}
	return func() { _ = f.Close() }, nil
}

func (c *Cluster) passwordFile() string { return filepath.Join(c.dir, "tidemarker.password") }

func (c *Cluster) create(ctx context.Context, opt Options) error {
	if raw, err := os.ReadFile(c.passwordFile()); err == nil && exists(filepath.Join(c.dir, "PG_VERSION")) {
		c.password = strings.TrimSpace(string(raw))
		return nil
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if exists(filepath.Join(c.dir, "PG_VERSION")) {
		return fmt.Errorf("%s holds a database that is not Tide Marker's. Name another folder with --data", c.dir)
	}
	c.password = rand.Text()
	pw, err := os.CreateTemp("", "tidemarker-password-*")
	if err != nil {
		return err
	}
	defer os.Remove(pw.Name())
	if _, err := pw.WriteString(c.password); err != nil {
		return err
	}
	if c.owner != nil {
		if err := pw.Chown(int(c.owner.Uid), int(c.owner.Gid)); err != nil {
			return err
		}
	}
	if err := pw.Close(); err != nil {
		return err
	}
	args := []string{"-D", c.dir, "-U", "postgres", "-A", "scram-sha-256", "--pwfile", pw.Name(), "-E", "UTF8", "--locale", "C"}
	if opt.Fleeting {
		args = append(args, "--no-sync")
	}
	if err := c.run(ctx, "initdb", args...); err != nil {
		return fmt.Errorf("make a database in %s: %w", c.dir, err)
	}
	if err := os.WriteFile(c.passwordFile(), []byte(c.password+"\n"), 0o600); err != nil {
		return err
	}
	if c.owner != nil {
		return os.Chown(c.passwordFile(), int(c.owner.Uid), int(c.owner.Gid))
	}
	return nil
}

// running tells whether a server runs from this folder and answers.
func (c *Cluster) running(ctx context.Context) bool {
	f, err := os.Open(filepath.Join(c.dir, "postmaster.pid"))
	if err != nil {
		return false
	}
	defer f.Close()
	var lines []string
	for s := bufio.NewScanner(f); s.Scan(); {
		lines = append(lines, s.Text())
	}
	if len(lines) < 4 {
		return false
	}
	if c.port, err = strconv.Atoi(strings.TrimSpace(lines[3])); err != nil {
		return false
	}
	return c.answers(ctx)
}

func (c *Cluster) answers(ctx context.Context) bool {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	conn, err := pgx.Connect(ctx, c.url("postgres"))
	if err != nil {
		return false
	}
	_ = conn.Close(ctx)
	return true
}

func (c *Cluster) launch(ctx context.Context, opt Options) error {
	var last error
	for range 5 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return err
		}
		c.port = l.Addr().(*net.TCPAddr).Port
		_ = l.Close()
		flags := fmt.Sprintf("-p %d -c listen_addresses=127.0.0.1 -c unix_socket_directories='' -c max_connections=200", c.port)
		if opt.Fleeting {
			flags += " -c fsync=off -c synchronous_commit=off -c full_page_writes=off"
		}
		last = c.run(ctx, "pg_ctl", "start", "-D", c.dir, "-w", "-t", "90", "-l", filepath.Join(c.dir, "server.log"), "-o", flags)
		if last == nil {
			return nil
		}
	}
	return fmt.Errorf("start the database in %s: %w (its log is server.log there)", c.dir, last)
}

func (c *Cluster) ensureDatabase(ctx context.Context) error {
	conn, err := pgx.Connect(ctx, c.url("postgres"))
	if err != nil {
		return fmt.Errorf("talk to the database in %s: %w", c.dir, err)
	}
	defer conn.Close(ctx)
	var there bool
	if err := conn.QueryRow(ctx, `SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)`, database).Scan(&there); err != nil || there {
		return err
	}
	_, err = conn.Exec(ctx, `CREATE DATABASE `+database)
	return err
}

func (c *Cluster) run(ctx context.Context, name string, args ...string) error {
	cmd := exec.CommandContext(ctx, filepath.Join(c.bin, name), args...)
	cmd.Dir = "/"
	cmd.Env = append(os.Environ(), "LC_ALL=C")
	if c.owner != nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: c.owner}
	}
	// The server inherits what pg_ctl writes to, so that must not be a pipe that is
	// waited for.
	out, err := os.CreateTemp("", "tidemarker-"+name+"-*")
	if err != nil {
		return err
	}
	defer os.Remove(out.Name())
	defer out.Close()
	cmd.Stdout, cmd.Stderr = out, out
	if err := cmd.Run(); err != nil {
		said, _ := os.ReadFile(out.Name())
		return fmt.Errorf("%s: %w: %s", name, err, strings.TrimSpace(string(said)))
	}
	return nil
}
