// Package testkit gives tests what is real: a PostgreSQL server, a database each, the built programs as processes.
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

// Server is the PostgreSQL server of the tests of a package, with a migrated database to copy: one that all packages share (see [Share]), or
// its own.
type Server struct {
	url    func(database string) string
	own    string // begins the names of databases of this process
	made   atomic.Int64
	filled sync.Map // the names of templates, and for each a *sync.Once that fills it
}

// URL returns the address of a database of the server.
func (s *Server) URL(database string) string { return s.url(database) }

const (
	template  = "template"  // the migrated database that is copied
	template0 = "template0" // PostgreSQL's own empty one
)

// startDatabase starts a server with that database.
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

// RunWithServer runs the tests of a package with a server: the shared one, or one that it starts and stops. It is for TestMain.
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
		err = os.Chmod(dir, 0o755) // the server's user has to get in
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

// EmptyDatabase makes a database without tables for one test and returns its URL.
func (s *Server) EmptyDatabase(t testing.TB) string { return s.create(t, template0) }

// Database makes a migrated database for one test and returns its URL.
func (s *Server) Database(t testing.TB) string { return s.create(t, template) }

// cheap is the cost of the password of a database that is copied: no test depends on how expensive it is.
var cheap = account.Cost{Memory: 64, Iterations: 1, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// let is the name of a migrated database in which [Name] has an account; made once.
func (s *Server) let(t testing.TB) string {
	t.Helper()
	name := s.own + "let"
	once, _ := s.filled.LoadOrStore(name, &sync.Once{})
	once.(*sync.Once).Do(func() {
		s.copy(t, template, name)
		store, err := postgres.Open(t.Context(), s.URL(name))
		require.NoError(t, err)
		defer store.Close()
		_, err = account.NewAuthenticator(store, cheap).Add(t.Context(), account.Account{Name: Name, FullName: "Edda Marsh"}, Password, access.Setup)
		require.NoError(t, err)
	})
	return name
}

// ServeFilled is [Server.Serve] on a copy of a database that a service has been filled in: once for all tests, by the first that asks for
// it. What fill keeps outside the database has to outlive its test.
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
	if from != template && from != s.own+"let" { // a large one
		t.Cleanup(func() { s.drop(name) }) // its service ends before: what is made last is cleaned up first
	}
	return s.URL(name)
}

// drop takes a database away, so that the server's disk does not fill. One that stays for whatever reason goes with the server.
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

// copy makes a database from another, which nobody may be connected to.
func (s *Server) copy(t testing.TB, from, name string) {
	t.Helper()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, s.URL("postgres"))
	require.NoError(t, err)
	defer conn.Close(ctx)
	strategy := "wal_log"
	if from != template0 && from != template && from != s.own+"let" {
		strategy = "file_copy" // less work for a large one, at the price of a checkpoint
	}
	_, err = conn.Exec(ctx, "create database "+name+" template "+from+" strategy "+strategy)
	require.NoError(t, err)
}
