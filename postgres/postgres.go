// Package postgres runs a private PostgreSQL server on loopback: it finds the
// server's programs, makes a cluster in a data directory, and starts and stops it.
package postgres

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// ErrNotInstalled says that the server's programs are not on this machine.
var ErrNotInstalled = errors.New("the PostgreSQL server is not installed; install it with: apt-get install postgresql")

const (
	databaseName = "proudsieve"
	ownerName    = "proudsieve"
	startTimeout = 30 * time.Second
	stopTimeout  = 60 * time.Second
	// lingerTimeout is for how long a start is tried again where the server ends at once.
	lingerTimeout = 15 * time.Second
	lingerPause   = 300 * time.Millisecond
)

// Server is a running private server.
type Server struct {
	directory string
	programs  string
	passing   bool
	process   *exec.Cmd
	done      chan struct{}
	port      int
	password  string
}

// Programs returns the directory of the server's programs, or ErrNotInstalled.
func Programs() (string, error) {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if err != nil {
		return "", err
	}
	slices.SortFunc(found, func(a, b string) int { return version(b) - version(a) })
	if len(found) > 0 {
		return filepath.Dir(found[0]), nil
	}
	if path, err := exec.LookPath("initdb"); err == nil {
		if resolved, err := filepath.EvalSymlinks(path); err == nil {
			return filepath.Dir(resolved), nil
		}
	}
	return "", ErrNotInstalled
}

// version is the number in /usr/lib/postgresql/15/bin/initdb.
func version(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

// Options say where a server is and what it is for.
type Options struct {
	Directory string // of the cluster; made where it is not there yet
	// Passing is for a server that is thrown away afterwards: it does not wait for the disk.
	Passing bool
}

// Start starts the server whose cluster is in the directory. A server that an
// earlier run of ours left behind is stopped first.
func Start(ctx context.Context, o Options) (*Server, error) {
	programs, err := Programs()
	if err != nil {
		return nil, err
	}
	directory, err := filepath.Abs(o.Directory)
	if err != nil {
		return nil, err
	}
	s := &Server{directory: directory, programs: programs, passing: o.Passing}
	if err := s.prepare(ctx); err != nil {
		return nil, err
	}
	s.stopLeftover(ctx)
	for deadline := time.Now().Add(lingerTimeout); ; {
		if s.port, err = freePort(); err != nil {
			return nil, err
		}
		if err := s.launch(); err != nil {
			return nil, err
		}
		err := s.await(ctx)
		if err == nil {
			return s, nil
		}
		if !errors.Is(err, errEnded) || time.Now().After(deadline) || ctx.Err() != nil {
			return nil, errors.Join(err, s.Stop())
		}
		// The processes of a server that was killed hold on to its memory for a moment,
		// and somebody else may have taken the port.
		time.Sleep(lingerPause)
	}
}

// errEnded says that the server ended while it was starting.
var errEnded = errors.New("the database server stopped while it was starting")

// URL is the address of the database, password included.
func (s *Server) URL() string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword(ownerName, s.password), Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(s.port)), Path: databaseName, RawQuery: "sslmode=disable"}
	return u.String()
}

func (s *Server) cluster() string      { return filepath.Join(s.directory, "cluster") }
func (s *Server) passwordFile() string { return filepath.Join(s.directory, "password") }

// Done is closed when the server has ended, by Stop or by itself.
func (s *Server) Done() <-chan struct{} { return s.done }

// Log is the path of the server's log.
func (s *Server) Log() string { return filepath.Join(s.directory, "server.log") }

func (s *Server) prepare(ctx context.Context) error {
	if err := os.MkdirAll(s.directory, 0o700); err != nil {
		return err
	}
	if err := s.own(s.directory); err != nil {
		return err
	}
	if err := s.reachable(); err != nil {
		return err
	}
	password, err := os.ReadFile(s.passwordFile())
	switch {
	case err == nil:
		s.password = strings.TrimSpace(string(password))
	case errors.Is(err, os.ErrNotExist):
		raw := make([]byte, 24)
		if _, err := rand.Read(raw); err != nil {
			return err
		}
		s.password = hex.EncodeToString(raw)
		if err := os.WriteFile(s.passwordFile(), []byte(s.password+"\n"), 0o600); err != nil {
			return err
		}
		if err := s.own(s.passwordFile()); err != nil {
			return err
		}
	default:
		return err
	}
	if _, err := os.Stat(filepath.Join(s.cluster(), "PG_VERSION")); err == nil {
		return nil
	}
	// A cluster whose making was cut off has no PG_VERSION or an unusable rest: it never held anything.
	if err := os.RemoveAll(s.cluster()); err != nil {
		return err
	}
	args := []string{"--pgdata", s.cluster(), "--username", ownerName, "--pwfile", s.passwordFile(),
		"--auth", "scram-sha-256", "--encoding", "UTF8", "--locale", "C", "--no-instructions"}
	if s.passing {
		args = append(args, "--no-sync")
	}
	out, err := s.command(ctx, "initdb", args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("making the database cluster in %s: %w\n%s", s.cluster(), err, out)
	}
	return nil
}

// command runs a program of the server, as the user postgres where we are root,
// since the server refuses to run as root.
func (s *Server) command(ctx context.Context, program string, args ...string) *exec.Cmd {
	c := exec.CommandContext(ctx, filepath.Join(s.programs, program), args...)
	c.Dir = s.directory
	if uid, gid, ok := serverUser(); ok {
		c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: gid}}
		c.Env = append(os.Environ(), "HOME="+s.directory)
	}
	return c
}

// serverUser returns the ids of the user postgres where we are root.
func serverUser() (uid, gid uint32, ok bool) {
	if os.Geteuid() != 0 {
		return 0, 0, false
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return 0, 0, false
	}
	id, err := strconv.ParseUint(u.Uid, 10, 32)
	if err != nil {
		return 0, 0, false
	}
	group, err := strconv.ParseUint(u.Gid, 10, 32)
	return uint32(id), uint32(group), err == nil
}

func (s *Server) own(path string) error {
	uid, gid, ok := serverUser()
	if !ok {
		return nil
	}
	return os.Chown(path, int(uid), int(gid))
}

// reachable says so where the user postgres cannot get to the directory.
func (s *Server) reachable() error {
	if _, _, ok := serverUser(); !ok {
		return nil
	}
	for dir := filepath.Dir(s.directory); dir != "/"; dir = filepath.Dir(dir) {
		info, err := os.Stat(dir)
		if err != nil {
			return err
		}
		if info.Mode().Perm()&0o001 == 0 {
			return fmt.Errorf("the user postgres, as whom the database server runs, may not enter %s; choose a data directory elsewhere, or allow it with: chmod o+x %s", dir, dir)
		}
	}
	return nil
}

// stopLeftover stops a server that still runs on the cluster because our process was killed.
func (s *Server) stopLeftover(ctx context.Context) {
	if _, err := os.Stat(filepath.Join(s.cluster(), "postmaster.pid")); err == nil {
		_ = s.command(ctx, "pg_ctl", "stop", "--pgdata", s.cluster(), "--mode", "fast", "--wait", "--timeout", "20").Run()
	}
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

func (s *Server) launch() error {
	log, err := os.OpenFile(s.Log(), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	args := []string{"-D", s.cluster(), "-p", strconv.Itoa(s.port), "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=", "-c", "max_connections=60"}
	if s.passing {
		args = append(args, "-c", "fsync=off", "-c", "full_page_writes=off")
	}
	s.process = s.command(context.Background(), "postgres", args...)
	s.process.Stdout, s.process.Stderr = log, log
	// Ctrl-C in the terminal is for us alone; we then stop the server in order.
	s.process.SysProcAttr = merged(s.process.SysProcAttr)
	s.done = make(chan struct{})
	started := make(chan error)
	go func() {
		// The kernel ends the server when the thread that started it ends, so that
		// thread is kept for as long as the server runs.
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		defer close(s.done)
		err := s.process.Start()
		started <- err
		if err == nil {
			_ = s.process.Wait()
		}
	}()
	if err := <-started; err != nil {
		return fmt.Errorf("starting the database server: %w", err)
	}
	return nil
}

func merged(a *syscall.SysProcAttr) *syscall.SysProcAttr {
	if a == nil {
		a = &syscall.SysProcAttr{}
	}
	a.Setpgid = true
	a.Pdeathsig = syscall.SIGINT // fast shutdown where we are killed
	return a
}

// await waits until the server answers and has our database.
func (s *Server) await(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, startTimeout)
	defer cancel()
	admin := strings.Replace(s.URL(), "/"+databaseName+"?", "/postgres?", 1)
	for {
		conn, err := pgx.Connect(ctx, admin)
		if err == nil {
			defer conn.Close(context.Background())
			return createDatabase(ctx, conn)
		}
		select {
		case <-s.done:
			return fmt.Errorf("%w; its log is %s", errEnded, s.Log())
		case <-ctx.Done():
			return fmt.Errorf("the database server did not answer within %s; its log is %s: %w", startTimeout, s.Log(), err)
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func createDatabase(ctx context.Context, conn *pgx.Conn) error {
	var there bool
	if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)", databaseName).Scan(&there); err != nil || there {
		return err
	}
	_, err := conn.Exec(ctx, "CREATE DATABASE "+databaseName)
	return err
}

// Stop stops the server and waits for it. Stopping a stopped server does nothing.
func (s *Server) Stop() error {
	if s.process == nil || s.process.Process == nil {
		return nil // it was never started
	}
	select {
	case <-s.done:
		return nil
	default:
	}
	if err := s.process.Process.Signal(syscall.SIGINT); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	select {
	case <-s.done:
		return nil
	case <-time.After(stopTimeout):
		return errors.Join(errors.New("the database server did not stop in time and was killed"), s.process.Process.Kill())
	}
}
