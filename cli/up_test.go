package cli

import (
	"bufio"
	"context"
	"errors"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"proudsieve/client"
	"proudsieve/demo"
	"proudsieve/postgres/postgrestest"
	"proudsieve/service"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

// up starts the program with a database of its own and returns what it printed until
// it was ready, and what stops it and returns its exit code.
func up(t *testing.T, program, directory string) (printed string, stop func() int) {
	t.Helper()
	c := exec.Command(program, "up", "--demo", "--data", directory, "--listen", "127.0.0.1:0")
	c.Stderr = os.Stderr
	out, err := c.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = c.Process.Signal(os.Interrupt) })
	var lines strings.Builder
	for in := bufio.NewScanner(out); in.Scan(); {
		lines.WriteString(in.Text() + "\n")
		if strings.HasPrefix(in.Text(), "Ctrl-C") {
			break
		}
	}
	return lines.String(), func() int {
		t.Helper()
		if err := c.Process.Signal(syscall.SIGINT); err != nil {
			t.Fatal(err)
		}
		started := time.Now()
		_ = c.Wait()
		if took := time.Since(started); took > 60*time.Second {
			t.Errorf("stopping took %s", took)
		}
		return c.ProcessState.ExitCode()
	}
}

func TestTheDemoComesUpStopsAndComesBack(t *testing.T) {
	program := build(t)
	directory, err := os.MkdirTemp("", "proudsieve-up-") // where the database's user can enter
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(directory) })
	datasets := func(printed string) []records.Dataset {
		t.Helper()
		_, after, ok := strings.Cut(printed, "The console is at ")
		url, _, _ := strings.Cut(after, "\n")
		token, err := os.ReadFile(filepath.Join(directory, "mara-token"))
		if !ok || err != nil {
			t.Fatalf("%s\n%v", printed, err)
		}
		all, err := servicetest.All[records.Dataset](context.Background(),
			&client.Client{Server: url, Token: strings.TrimSpace(string(token))}, "/datasets")
		if err != nil {
			t.Fatal(err)
		}
		return all
	}
	printed, stop := up(t, program, directory)
	for _, want := range []string{"Loading the Alder Vale river survey", "Sign in with the token in " + directory,
		"Ctrl-C stops it."} {
		if !strings.Contains(printed, want) {
			t.Errorf("%q is not in\n%s", want, printed)
		}
	}
	kept := filepath.Join(directory, "backup-of-it")
	keep := func(code int, want string, args ...string) {
		t.Helper()
		got, out, errs := run(args...)
		if got != code || !strings.Contains(out+errs, want) {
			t.Errorf("%v: exit %d, want %d with %q\n%s%s", args, got, code, want, out, errs)
		}
	}
	keep(0, "postgres://proudsieve:", "own-database", "--data", directory)
	keep(0, "postgres://proudsieve:", "database", "--data", directory) // as it was called before
	keep(0, "are new", "backup", kept, "--data", directory)
	keep(0, "are as they were kept", "check", "--data", directory)
	keep(2, "is in use by process", "up", "--data", directory, "--listen", "127.0.0.1:0")
	keep(2, "is there already", "restore", kept, "--data", directory, "--database-url", postgrestest.Database(t))
	first := datasets(printed)
	if want := len(demo.Deliveries) + 5; len(first) != want { // and the levels, the merged table, and the third source with its sums and days
		t.Errorf("%d datasets, want %d", len(first), want)
	}
	if code := stop(); code != 0 {
		t.Errorf("after Ctrl-C the exit code is %d", code)
	}
	// A stopped service is checked and backed up as well, and a backup comes up elsewhere.
	keep(0, "0 of them are new", "backup", kept, "--data", directory)
	elsewhere := filepath.Join(directory, "elsewhere")
	keep(0, "is put back", "restore", kept, "--data", elsewhere)
	keep(0, "are as they were kept", "check", "--data", elsewhere)
	spoil(t, filepath.Join(elsewhere, "files"))
	keep(1, "1 are missing", "check", "--data", elsewhere)
	keep(1, "1 were altered", "check", "--data", elsewhere)
	keep(1, "1 belong to no record", "check", "--data", elsewhere)

	printed, stop = up(t, program, directory)
	if strings.Contains(printed, "Loading") {
		t.Error("the demo is loaded a second time")
	}
	again := datasets(printed)
	if len(again) != len(first) || *again[0].Score != *first[0].Score || again[0].OpenIssues != first[0].OpenIssues {
		t.Errorf("after a restart: %+v, was %+v", again, first)
	}
	if code := stop(); code != 0 {
		t.Errorf("after Ctrl-C the exit code is %d", code)
	}
}

// spoil takes one file of a store away, alters one, and adds one.
func spoil(t *testing.T, store string) {
	t.Helper()
	var kept []string
	if err := filepath.WalkDir(store, func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() && len(d.Name()) == 64 {
			kept = append(kept, path)
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	raw, err := os.ReadFile(kept[1])
	if err != nil {
		t.Fatal(err)
	}
	raw[0] ^= 1
	extra := filepath.Join(store, "ab", "ab", strings.Repeat("ab", 32))
	if err := errors.Join(os.Remove(kept[0]), os.WriteFile(kept[1], raw, 0o600),
		os.MkdirAll(filepath.Dir(extra), 0o700), os.WriteFile(extra, []byte("x"), 0o600)); err != nil {
		t.Fatal(err)
	}
}

func TestUpEndsWithItsDatabase(t *testing.T) {
	directory, err := os.MkdirTemp("", "proudsieve-up-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(directory) })
	running, err := startPrivate(context.Background(), service.Options{Directory: directory, Listen: "127.0.0.1:0",
		Log: slog.New(slog.DiscardHandler)}, true)
	if err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- running.wait(context.Background()) }()
	if err := running.database.Stop(); err != nil {
		t.Fatal(err)
	}
	select {
	case err := <-ended:
		if err == nil || !strings.Contains(err.Error(), "the database server ended; its log is "+directory) {
			t.Errorf("%v", err)
		}
	case <-time.After(30 * time.Second):
		t.Fatal("it goes on without its database")
	}
}
