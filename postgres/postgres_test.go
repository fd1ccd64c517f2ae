package postgres

import (
	"context"
	"errors"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
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
	if got := ask(t, s,
		"SELECT current_database() || ' ' || current_setting('listen_addresses')"); got != "proudsieve 127.0.0.1" {
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
	if err := again.Stop(); err != nil { // it gives the directory free
		t.Fatal(err)
	}
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

func TestASecondServerOnADirectoryIsToldWhoHasIt(t *testing.T) {
	directory := enterable(t)
	first := start(t, directory)
	_, err := Start(context.Background(), Options{Directory: directory, Passing: true})
	var taken *InUseError
	if !errors.As(err, &taken) || !strings.Contains(err.Error(), "is in use by process "+strconv.Itoa(os.Getpid())) {
		t.Fatalf("%v", err)
	}
	if got := ask(t, first, "SELECT 'alive'"); got != "alive" {
		t.Error("the first one was stopped")
	}
	if err := first.Stop(); err != nil {
		t.Fatal(err)
	}
	start(t, directory)
}

func TestNothingIsRemovedThatIsNotProvablyUnfinishedWork(t *testing.T) {
	directory := enterable(t)
	for _, d := range []string{"cluster/base", "making-1", "making-2"} {
		if err := os.MkdirAll(filepath.Join(directory, d), 0o700); err != nil {
			t.Fatal(err)
		}
	}
	for _, f := range []string{"cluster/base/1", "making-1/somebody's", "making-2/unfinished"} {
		if err := os.WriteFile(filepath.Join(directory, f), []byte("x"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	// Looking at this file fails in a way that says nothing of whether it is there.
	if err := os.Symlink("PG_VERSION", filepath.Join(directory, "cluster/PG_VERSION")); err != nil {
		t.Fatal(err)
	}
	_, err := Start(context.Background(), Options{Directory: directory, Passing: true})
	if err == nil || !strings.Contains(err.Error(), "is no whole database cluster") {
		t.Errorf("%v", err)
	}
	for f, want := range map[string]bool{"cluster/base/1": true, "making-1/somebody's": true, "making-2": false} {
		if _, err := os.Stat(filepath.Join(directory, f)); (err == nil) != want {
			t.Errorf("%s is there: %v, want %v", f, err == nil, want)
		}
	}
}

// TestCutOff is the process that the next test kills.
func TestCutOff(t *testing.T) {
	directory := os.Getenv("PROUDSIEVE_CUT_OFF")
	if directory == "" {
		t.Skip("it is run by another test")
	}
	if _, err := Start(context.Background(), Options{Directory: directory, Passing: true}); err != nil {
		t.Fatal(err)
	}
	time.Sleep(time.Minute)
}

func TestAFirstStartThatIsCutOffAtAnyMomentStartsTheNextTime(t *testing.T) {
	for _, after := range []time.Duration{20, 80, 150, 300, 500, 800, 1100} {
		directory := enterable(t)
		c := exec.Command(os.Args[0], "-test.run", "^TestCutOff$")
		c.Env = append(os.Environ(), "PROUDSIEVE_CUT_OFF="+directory)
		c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(after * time.Millisecond)
		if err := syscall.Kill(-c.Process.Pid, syscall.SIGKILL); err != nil {
			t.Fatal(err)
		}
		_ = c.Wait()
		s := start(t, directory)
		if got := ask(t, s, "SELECT 'up'"); got != "up" {
			t.Errorf("after %d ms: %s", after, got)
		}
		if err := s.Stop(); err != nil {
			t.Error(err)
		}
	}
}

func TestAnEmptyPasswordIsNotAccepted(t *testing.T) {
	directory := enterable(t)
	s := start(t, directory)
	address, err := os.ReadFile(AddressFile(directory))
	if err != nil || strings.TrimSpace(string(address)) != s.URL() {
		t.Errorf("the address is told as %q, %v", address, err)
	}
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(directory, "password"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Start(context.Background(), Options{Directory: directory, Passing: true}); err == nil ||
		!strings.Contains(err.Error(), "password is empty") {
		t.Errorf("%v", err)
	}
}
