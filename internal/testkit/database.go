// Package testkit gives tests a real PostgreSQL server, a database for each test, and the built programs as processes.
package testkit

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"widelark/internal/access"
	"widelark/internal/account"
	"widelark/internal/postgres"
	"widelark/internal/postgres/cluster"
)

// Server is the PostgreSQL server of the tests of a package, with a migrated template database: one that all packages share (see [Share]), or
// its own.
type Server struct {
	url    func(database string) string
	own    string // prefix of the names of this process's databases
	made   atomic.Int64
	filled sync.Map // for the name of each template, the *sync.Once that fills it
}

// URL returns the address of a database of the server.
func (s *Server) URL(database string) string { return s.url(database) }

const (
	template  = "template"  // the migrated database that is copied
	template0 = "template0" // PostgreSQL's own empty one
)

// startDatabase starts a server with the migrated template.
func startDatabase(ctx context.Context, dir string) (*cluster.Cluster, error) {
	db, err := cluster.Start(ctx, cluster.Config{Dir: dir, Disposable: true})
	if err != nil {
		return nil, err
	}
	if err = db.EnsureDatabase(ctx, template); err == nil {
		var store *postgres.Store
		if store, err = postgres.Open(ctx, db.URL(template)); err == nil {
			store.Close() // a template may have no connections
			return db, nil
		}
	}
	return nil, errors.Join(err, db.Stop())
}

// RunWithServer runs the tests of a package with a server: the shared one, or one that it starts and stops. Call it from TestMain.
func RunWithServer(m *testing.M, server **Server) int {
	defer func() {
		if built != "" {
			_ = os.RemoveAll(built)
		}
	}()
	own := fmt.Sprintf("p%d_", os.Getpid())
	if address := os.Getenv(sharedDatabase); address != "" {
		*server = &Server{url: func(database string) string { return strings.Replace(address, "%s", database, 1) }, own: own}
		return m.Run()
	}
	dir, err := os.MkdirTemp("", "widelark-test-")
	if err == nil {
		err = os.Chmod(dir, 0o755) // the user that runs the server needs access
	}
	defer os.RemoveAll(dir)
	var db *cluster.Cluster
	if err == nil {
		db, err = startDatabase(context.Background(), filepath.Join(dir, "database"))
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "no database for the tests:", err)
		return 1
	}
	defer func() { _ = db.Stop() }()
	*server = &Server{url: db.URL, own: own}
	return m.Run()
}

// EmptyDatabase creates a database without tables for one test and returns its URL.
func (s *Server) EmptyDatabase(t testing.TB) string { return s.create(t, template0) }

// Database creates a migrated database for one test and returns its URL.
func (s *Server) Database(t testing.TB) string { return s.create(t, template) }

// cheap is a low cost for the password in template databases: no test depends on the cost.
var cheap = account.Cost{Memory: 64, Iterations: 1, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// let returns the name of a migrated database in which [Name] has an account. It creates the database once.
func (s *Server) let(t testing.TB) string {
	t.Helper()
	name := s.own + "let"
	once, _ := s.filled.LoadOrStore(name, &sync.Once{})
	once.(*sync.Once).Do(func() {
		s.copy(t, template, name)
		store, err := postgres.Open(t.Context(), s.URL(name))
		require.NoError(t, err)
		defer store.Close()
		_, err = account.NewAuthenticator(store, cheap, nil).Add(t.Context(), account.Account{Name: Name, FullName: "Edda Marsh"}, Password, access.Setup)
		require.NoError(t, err)
	})
	return name
}

// ServeFilled is [Server.Serve] on a copy of a database that fill has filled through a service: once for all tests, for the first test that asks for
// it. Whatever fill creates outside the database must outlive that test.
func (s *Server) ServeFilled(t testing.TB, name string, fill func(*Service)) *Service {
	t.Helper()
	name = s.own + name
	once, _ := s.filled.LoadOrStore(name, &sync.Once{})
	once.(*sync.Once).Do(func() {
		s.copy(t, s.let(t), name)
		service := s.serve(t, s.URL(name))
		fill(service)
		require.NoError(t, service.Stop()) // a template may have no connections
	})
	return s.serve(t, s.create(t, name))
}

func (s *Server) create(t testing.TB, from string) string {
	t.Helper()
	name := fmt.Sprintf("%st%d", s.own, s.made.Add(1))
	s.copy(t, from, name)
	t.Cleanup(func() { s.drop(name) }) // cleanups run in reverse order, so the service has ended before
	return s.URL(name)
}

// drop drops a database, so that the disk does not fill up. A database that cannot be dropped is removed with the server.
func (s *Server) drop(name string) {
	ctx, stop := context.WithTimeout(context.Background(), 10*time.Second)
	defer stop()
	conn, err := pgx.Connect(ctx, s.URL("postgres"))
	if err != nil {
		return
	}
	defer conn.Close(ctx)
	_, _ = conn.Exec(ctx, "drop database if exists "+name+" with (force)")
}

// copy creates a database from another one. Precondition: nobody is connected to that one.
func (s *Server) copy(t testing.TB, from, name string) {
	t.Helper()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, s.URL("postgres"))
	require.NoError(t, err)
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, "create database "+name+" template "+from+" strategy file_copy") // less work than by the log: a checkpoint costs nothing here
	require.NoError(t, err)
}
