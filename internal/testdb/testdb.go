// Package testdb gives each test a fresh database on a PostgreSQL cluster that the
// tests start on loopback, once for each test program.
package testdb

import (
	"context"
	"crypto/rand"
	"database/sql"
	"fmt"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	_ "github.com/jackc/pgx/v5/stdlib" // the driver that pgtestdb opens
	"github.com/peterldowns/pgtestdb"

	"tidemarker/internal/cluster"
	"tidemarker/internal/secret"
	"tidemarker/internal/store"
)

var running *cluster.Cluster

// Main runs a test program with a cluster of its own and removes the cluster.
func Main(m *testing.M) {
	os.Exit(run(m))
}

func run(m *testing.M) int {
	// Not below the user's own folders, which the server's user may not pass.
	dir, err := os.MkdirTemp("/var/tmp", "tidemarker-test-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	ctx := context.Background()
	running, err = cluster.Start(ctx, filepath.Join(dir, "postgres"), cluster.Options{Fleeting: true})
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer func() { _ = running.Stop(ctx) }()
	return m.Run()
}

// Key is the key with which secrets are sealed in the tests' databases; other processes get it in their environment as
// TIDEMARKER_KEY.
var Key = secret.NewKey()

// Keys are the keys of the tests' databases.
func Keys(t testing.TB) secret.Keys {
	t.Helper()
	keys, err := secret.Parse(Key)
	if err != nil {
		t.Fatal(err)
	}
	return keys
}

// migrator brings the template database up to date once.
type migrator struct{}

func (migrator) Hash() (string, error) { return "tidemarker-1", nil }

func (migrator) Migrate(ctx context.Context, db *sql.DB, conf pgtestdb.Config) error {
	pool, err := pgxpool.New(ctx, conf.URL())
	if err != nil {
		return err
	}
	defer pool.Close()
	return store.Migrate(ctx, db, pool)
}

func testConfig() pgtestdb.Config {
	return pgtestdb.Config{DriverName: "pgx", Host: "127.0.0.1", Port: strconv.Itoa(running.Port()), User: "postgres",
		Password: running.Password(), Database: "postgres", Options: "sslmode=disable", ForceTerminateConnections: true}
}

// New gives a test a database of its own, and returns its address too, for other
// processes.
func New(t testing.TB) (*store.Store, string) {
	t.Helper()
	if running == nil {
		t.Fatal("the package's TestMain does not call testdb.Main")
	}
	conf := pgtestdb.Custom(t, testConfig(), migrator{})
	s, err := store.Open(t.Context(), conf.URL(), Keys(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s, conf.URL()
}

// Empty gives a test the address of a database in which there is nothing, not even a schema.
func Empty(t testing.TB) string {
	t.Helper()
	if running == nil {
		t.Fatal("the package's TestMain does not call testdb.Main")
	}
	at := url.URL{Scheme: "postgres", User: url.UserPassword("postgres", running.Password()), Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(running.Port())), Path: "postgres", RawQuery: "sslmode=disable"}
	name := "empty_" + strings.ToLower(rand.Text())
	do := func(query string) {
		conn, err := pgx.Connect(context.Background(), at.String())
		if err == nil {
			_, err = conn.Exec(context.Background(), query)
			_ = conn.Close(context.Background())
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	do(`CREATE DATABASE ` + name)
	t.Cleanup(func() { do(`DROP DATABASE ` + name + ` WITH (FORCE)`) })
	here := at
	here.Path = name
	return here.String()
}
