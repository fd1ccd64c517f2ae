package postgres

import (
	"context"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
)

func enterable(t *testing.T) string {
	t.Helper()
	// The server's user has to get at it, which it could not below t.TempDir().
	directory, err := os.MkdirTemp("", "proudsieve-postgres-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(directory) })
	if err := os.Chmod(directory, 0o711); err != nil {
		t.Fatal(err)
	}
	return filepath.Join(directory, "server")
}

func start(t *testing.T, directory string) *Server {
	t.Helper()
	s, err := Start(context.Background(), Options{Directory: directory, Passing: true})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Stop() })
	return s
}

func ask(t *testing.T, s *Server, query string) string {
	t.Helper()
	conn, err := pgx.Connect(context.Background(), s.URL())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	var answer string
	if err := conn.QueryRow(context.Background(), query).Scan(&answer); err != nil {
		t.Fatal(err)
	}
	return answer
}

func TestAServerKeepsItsRecordsAndSecretsOverRestartsAndCrashes(t *testing.T) {
	directory := enterable(t)
	s := start(t, directory)
	if got := ask(t, s, "SELECT current_database() || ' ' || current_setting('listen_addresses')"); got != "proudsieve 127.0.0.1" {
		t.Errorf("the database and its address: %s", got)
	}
	ask(t, s, "WITH t AS (SELECT 1) SELECT set_config('x.y', 'z', false)")
	conn, err := pgx.Connect(context.Background(), s.URL())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := conn.Exec(context.Background(), "CREATE TABLE kept AS SELECT 'still here' AS says"); err != nil {
		t.Fatal(err)
	}
	_ = conn.Close(context.Background())
	for _, name := range []string{"password", "server.log"} {
		info, err := os.Stat(filepath.Join(directory, name))
		if err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s has mode %v, %v", name, info.Mode(), err)
		}
	}
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	if err := s.Stop(); err != nil {
		t.Errorf("stopping a second time: %v", err)
	}

	again := start(t, directory)
	if got := ask(t, again, "SELECT says FROM kept"); got != "still here" {
		t.Errorf("after a restart: %s", got)
	}
	// Killed without a word, it leaves its lock file behind, and the next start has to cope.
	if err := again.process.Process.Signal(syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	<-again.done
	third := start(t, directory)
	if got := ask(t, third, "SELECT says FROM kept"); got != "still here" {
		t.Errorf("after a crash: %s", got)
	}
}

func TestTheServerWantsItsPassword(t *testing.T) {
	s := start(t, enterable(t))
	u, err := url.Parse(s.URL())
	if err != nil {
		t.Fatal(err)
	}
	u.User = url.UserPassword(ownerName, "guessed")
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if conn, err := pgx.Connect(ctx, u.String()); err == nil {
		_ = conn.Close(ctx)
		t.Error("a guessed password is let in")
	}
}

func TestADirectoryThatTheServersUserCannotEnter(t *testing.T) {
	if _, _, ok := serverUser(); !ok {
		t.Skip("only where the server runs as another user")
	}
	closed := t.TempDir()
	if err := os.Chmod(closed, 0o700); err != nil {
		t.Fatal(err)
	}
	_, err := Start(context.Background(), Options{Directory: filepath.Join(closed, "server")})
	if err == nil || !strings.Contains(err.Error(), "may not enter") || !strings.Contains(err.Error(), "chmod o+x") {
		t.Errorf("%v", err)
	}
}
