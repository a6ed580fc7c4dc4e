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

// ServeFilled is [Server.Serve] on a copy of a database that a service has been filled in: once for all tests, by the first that asks for
// it. What fill keeps outside the database has to outlive its test.
func (s *Server) ServeFilled(t testing.TB, name string, fill func(*Service)) *Service {
	t.Helper()
	once, _ := s.filled.LoadOrStore(name, &sync.Once{})
	once.(*sync.Once).Do(func() {
		require.NoError(t, s.EnsureDatabase(t.Context(), name))
		service := s.ServeOn(t, s.URL(name))
		fill(service)
		require.NoError(t, service.Stop()) // a template may have no connections
	})
	service := &Service{Database: s.create(t, name), Config: filepath.Join(t.TempDir(), "client.yaml")}
	service.begin(t)
	return service
}

func (s *Server) create(t testing.TB, template string) string {
	t.Helper()
	ctx := context.Background()
	name := fmt.Sprintf("t%d", s.made.Add(1))
	conn, err := pgx.Connect(ctx, s.URL("postgres"))
	require.NoError(t, err)
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, "create database "+name+" template "+template+" strategy file_copy")
	require.NoError(t, err)
	return s.URL(name)
}
