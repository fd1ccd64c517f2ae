// Package postgrestest gives the tests of a package one throw-away PostgreSQL server.
package postgrestest

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"sync/atomic"
	"testing"

	"github.com/jackc/pgx/v5"

	"proudsieve/postgres"
)

var (
	server    *postgres.Server
	databases atomic.Int64
)

// Main runs the tests of a package with a server, and is what its TestMain calls. What else they share is ended by after.
func Main(m *testing.M, after ...func()) {
	code, err := run(m)
	for _, one := range after {
		one()
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		code = 1
	}
	os.Exit(code)
}

func run(m *testing.M) (int, error) {
	directory, err := os.MkdirTemp("", "proudsieve-test-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(directory)
	if err := os.Chmod(directory, 0o711); err != nil {
		return 0, err
	}
	if server, err = postgres.Start(context.Background(), postgres.Options{Directory: directory + "/postgres",
		Passing: true}); err != nil {
		return 0, err
	}
	code := m.Run()
	return code, server.Stop()
}

// Database makes an empty database for one test and returns its address.
func Database(t testing.TB) string {
	t.Helper()
	name := fmt.Sprintf("test_%d", databases.Add(1))
	conn := Connect(t, server.URL())
	if _, err := conn.Exec(context.Background(), "CREATE DATABASE "+name); err != nil {
		t.Fatal(err)
	}
	u, err := url.Parse(server.URL())
	if err != nil {
		t.Fatal(err)
	}
	u.Path = name
	return u.String()
}

// Connect opens a connection that ends with the test.
func Connect(t testing.TB, address string) *pgx.Conn {
	t.Helper()
	conn, err := pgx.Connect(context.Background(), address)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = conn.Close(context.Background()) })
	return conn
}
