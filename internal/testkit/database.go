// Package testkit gives tests what is real: a PostgreSQL server, a database each, the built programs as processes.
package testkit

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"widelark/internal/access"
	"widelark/internal/account"
	"widelark/internal/postgres"
	"widelark/internal/postgres/cluster"
)

// Server is one PostgreSQL server for the tests of a package, with a migrated database to copy.
type Server struct {
	*cluster.Cluster
	made   atomic.Int64
	filled sync.Map // the names of templates, and for each a *sync.Once that fills it
}

// RunWithServer starts a server, runs the tests of a package, and stops it. It is for TestMain.
func RunWithServer(m *testing.M, server **Server) int {
	dir, err := os.MkdirTemp("", "widelark-test-")
	if err == nil {
		err = os.Chmod(dir, 0o755) // the server's user has to get in
	}
	defer os.RemoveAll(dir)
	ctx := context.Background()
	var db *cluster.Cluster
	if err == nil {
		db, err = cluster.Start(ctx, cluster.Config{Dir: filepath.Join(dir, "database"), Disposable: true})
	}
	if err == nil {
		err = db.EnsureDatabase(ctx, "template")
	}
	if err == nil {
		var store *postgres.Store
		if store, err = postgres.Open(ctx, db.URL("template")); err == nil {
			store.Close() // a template may have no connections
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "no database for the tests:", err)
		return 1
	}
	*server = &Server{Cluster: db}
	defer func() {
		_ = db.Stop()
		if built != "" {
			_ = os.RemoveAll(built)
		}
	}()
	return m.Run()
}

// EmptyDatabase makes a database without tables for one test and returns its URL.
func (s *Server) EmptyDatabase(t testing.TB) string { return s.create(t, "template0") }

// Database makes a migrated database for one test and returns its URL.
func (s *Server) Database(t testing.TB) string { return s.create(t, "template") }

// cheap is the cost of the password of a database that is copied: no test hangs on how dear it is.
var cheap = account.Cost{Memory: 64, Iterations: 1, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// let is the name of a migrated database in which [Name] has an account; made once.
func (s *Server) let(t testing.TB) string {
	t.Helper()
	const name = "let"
	once, _ := s.filled.LoadOrStore(name, &sync.Once{})
	once.(*sync.Once).Do(func() {
		s.copy(t, "template", name)
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
	once, _ := s.filled.LoadOrStore(name, &sync.Once{})
	once.(*sync.Once).Do(func() {
		s.copy(t, s.let(t), name)
		service := s.serve(t, s.URL(name))
		fill(service)
		require.NoError(t, service.Stop()) // a template may have no connections
	})
	return s.serve(t, s.create(t, name))
}

func (s *Server) create(t testing.TB, template string) string {
	t.Helper()
	name := fmt.Sprintf("t%d", s.made.Add(1))
	s.copy(t, template, name)
	return s.URL(name)
}

// copy makes a database from another, which nobody may be connected to.
func (s *Server) copy(t testing.TB, template, name string) {
	t.Helper()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, s.URL("postgres"))
	require.NoError(t, err)
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, "create database "+name+" template "+template+" strategy file_copy")
	require.NoError(t, err)
}
