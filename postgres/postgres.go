// Package postgres runs a private PostgreSQL server on loopback: it finds the
// server's programs, makes a cluster in a data directory, and starts and stops it.
package postgres

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
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
	"sync/atomic"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"proudsieve/durable"
)

// ErrNotInstalled says that the server's programs are not on this machine.
var ErrNotInstalled = errors.New("the PostgreSQL server is not installed; install it with: apt-get install postgresql")

const (
	databaseName = "proudsieve"
	ownerName    = "proudsieve"
	startTimeout = 30 * time.Second
	// recoverTimeout is how long a server may take to put in order what a crash left behind.
	recoverTimeout = 30 * time.Minute
	stopTimeout    = 60 * time.Second
	// lingerTimeout is for how long a start is tried again where the server ends at once.
	lingerTimeout = 15 * time.Second
	lingerPause   = 300 * time.Millisecond
)

// Server is a running private server.
type Server struct {
	directory string
	programs  string
	passing   bool
	lock      atomic.Pointer[os.File]
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

// Start starts the server whose cluster is in the directory, which belongs to this process
// for as long as it lives: where another one of ours has it, Start returns an InUseError. A
// server that an earlier run left behind is stopped first.
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
	if err := s.run(ctx); err != nil {
		return nil, errors.Join(err, s.Stop())
	}
	return s, nil
}

func (s *Server) run(ctx context.Context) error {
	if err := s.prepare(ctx); err != nil {
		return err
	}
	s.stopLeftover(ctx)
	for deadline := time.Now().Add(lingerTimeout); ; {
		var err error
		if s.port, err = s.choosePort(); err != nil {
			return err
		}
		if err := s.launch(); err != nil {
			return err
		}
		if err = s.await(ctx); err == nil {
			return s.tellAddress()
		}
		if !errors.Is(err, errEnded) || time.Now().After(deadline) || ctx.Err() != nil {
			return err
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
	u := url.URL{Scheme: "postgres", User: url.UserPassword(ownerName, s.password),
		Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(s.port)), Path: databaseName, RawQuery: "sslmode=disable"}
	return u.String()
}

func (s *Server) cluster() string      { return filepath.Join(s.directory, "cluster") }
func (s *Server) passwordFile() string { return filepath.Join(s.directory, "password") }

// Done is closed when the server has ended, by Stop or by itself.
func (s *Server) Done() <-chan struct{} { return s.done }

// Log is the path of the server's log.
func (s *Server) Log() string { return filepath.Join(s.directory, "server.log") }

// prepare takes the directory and makes the cluster where there is none.
func (s *Server) prepare(ctx context.Context) error {
	if err := durable.MakeDirectory(s.directory, 0o700); err != nil {
		return err
	}
	if err := s.takeLock(); err != nil {
		return err
	}
	if err := s.own(s.directory); err != nil {
		return err
	}
	if err := s.reachable(); err != nil {
		return err
	}
	s.clear()
	_, err := os.Lstat(s.cluster())
	switch {
	case errors.Is(err, os.ErrNotExist):
		return s.makeCluster(ctx)
	case err != nil:
		return fmt.Errorf("looking at the database cluster: %w", err)
	}
	made, err := os.ReadFile(filepath.Join(s.cluster(), "PG_VERSION"))
	if err != nil {
		return fmt.Errorf("%s is there but is no whole database cluster (%w); put it back from a backup, or, where this service was never used, move it away", s.cluster(), err)
	}
	password, err := durable.ReadSecret(s.passwordFile())
	if err != nil {
		return fmt.Errorf("reading the password of the database: %w", err)
	}
	s.password = strings.TrimSpace(string(password))
	// Only the programs of the version that made a cluster can run it.
	if own := "/usr/lib/postgresql/" + strings.TrimSpace(string(made)) + "/bin"; own != s.programs {
		if _, err := os.Stat(own); err != nil {
			return fmt.Errorf("the database cluster was made by PostgreSQL %s, which is not installed; install it with: apt-get install postgresql-%[1]s", strings.TrimSpace(string(made)))
		}
		s.programs = own
	}
	return nil
}

// A cluster is made beside its place and renamed when it is whole. A directory with this
// beginning and the marker in it is work of ours that was never finished.
const (
	making = "making-"
	marker = "unfinished"
)

// clear removes what earlier runs did not finish. What cannot be removed, because a program
// of theirs still writes there, is left for the next time.
func (s *Server) clear() {
	left, _ := filepath.Glob(filepath.Join(s.directory, making+"*"))
	for _, one := range left {
		if _, err := os.Stat(filepath.Join(one, marker)); err == nil {
			_ = os.RemoveAll(one)
		}
	}
}

func (s *Server) makeCluster(ctx context.Context) error {
	raw := make([]byte, 24)
	if _, err := rand.Read(raw); err != nil {
		return err
	}
	s.password = hex.EncodeToString(raw)
	if err := durable.WriteFile(s.passwordFile(), []byte(s.password+"\n"), 0o600); err != nil {
		return err
	}
	if err := s.own(s.passwordFile()); err != nil {
		return err
	}
	work, err := os.MkdirTemp(s.directory, making)
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(work) }()
	if err := errors.Join(os.WriteFile(filepath.Join(work, marker), nil, 0o600), s.own(work)); err != nil {
		return err
	}
	cluster := filepath.Join(work, "cluster")
	args := []string{"--pgdata", cluster, "--username", ownerName, "--pwfile", s.passwordFile(),
		"--auth", "scram-sha-256", "--encoding", "UTF8", "--locale", "C", "--no-instructions"}
	if s.passing {
		args = append(args, "--no-sync")
	}
	initdb := s.command(ctx, "initdb", args...)
	initdb.SysProcAttr = merged(initdb.SysProcAttr, syscall.SIGKILL)
	out := &bytes.Buffer{}
	initdb.Stdout, initdb.Stderr = out, out
	if err := s.onItsThread(initdb.Run); err != nil {
		return fmt.Errorf("making the database cluster in %s: %w\n%s", s.cluster(), err, out)
	}
	return durable.Rename(cluster, s.cluster())
}

// onItsThread runs f on a thread that lives until it is done: the kernel ends a program when
// the thread that started it ends.
func (s *Server) onItsThread(f func() error) error {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	return f()
}

// InUseError says that another process has the cluster.
type InUseError struct{ Directory, Holder string }

// Error implements error.
func (e *InUseError) Error() string {
	return fmt.Sprintf("%s is in use by %s; stop that one first, or give this one a directory of its own", e.Directory,
		e.Holder)
}

// takeLock makes this process the only one that works on the directory. The lock ends with
// the process, however that ends.
func (s *Server) takeLock() error {
	f, err := os.OpenFile(filepath.Join(s.directory, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		holder, _ := io.ReadAll(io.LimitReader(f, 200))
		_ = f.Close()
		if errors.Is(err, syscall.EWOULDBLOCK) {
			return &InUseError{s.directory, cmp.Or(strings.TrimSpace(string(holder)), "another process")}
		}
		return err
	}
	s.lock.Store(f)
	who := fmt.Sprintf("process %d, since %s\n", os.Getpid(), time.Now().Format(time.RFC3339))
	_, err = f.WriteAt([]byte(who), 0)
	return errors.Join(err, f.Truncate(int64(len(who))))
}

func (s *Server) unlock() error {
	if f := s.lock.Swap(nil); f != nil {
		return f.Close()
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
		_ = s.command(ctx, "pg_ctl", "stop", "--pgdata", s.cluster(), "--mode", "fast", "--wait", "--timeout", "20").
			Run()
	}
}

func (s *Server) portFile() string { return filepath.Join(s.directory, "port") }

// AddressFile is where the address of the running database stands, password included, for an
// operator's own tools.
func AddressFile(directory string) string { return filepath.Join(directory, "address") }

// choosePort takes the port of the last run where it is free, so that the address stays.
func (s *Server) choosePort() (int, error) {
	if raw, err := os.ReadFile(s.portFile()); err == nil {
		if port, err := strconv.Atoi(strings.TrimSpace(string(raw))); err == nil && port > 0 && port < 65536 {
			if l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port))); err == nil {
				return port, l.Close()
			}
		}
	}
	return freePort()
}

// tellAddress writes down where the database is.
func (s *Server) tellAddress() error {
	return errors.Join(durable.WriteFile(s.portFile(), []byte(strconv.Itoa(s.port)+"\n"), 0o600),
		durable.WriteFile(AddressFile(s.directory), []byte(s.URL()+"\n"), 0o600))
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
	args := []string{"-D", s.cluster(), "-p", strconv.Itoa(s.port), "-c", "listen_addresses=127.0.0.1", "-c",
		"unix_socket_directories=", "-c", "max_connections=200"}
	if s.passing {
		args = append(args, "-c", "fsync=off", "-c", "full_page_writes=off")
	}
	s.process = s.command(context.Background(), "postgres", args...)
	s.process.Stdout, s.process.Stderr = log, log
	// Ctrl-C in the terminal is for us alone; we then stop the server in order.
	s.process.SysProcAttr = merged(s.process.SysProcAttr, syscall.SIGINT) // a fast shutdown
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

// merged adds that a program is not in our process group, and what it is sent where we are killed.
func merged(a *syscall.SysProcAttr, whenKilled syscall.Signal) *syscall.SysProcAttr {
	if a == nil {
		a = &syscall.SysProcAttr{}
	}
	a.Setpgid, a.Pdeathsig = true, whenKilled
	return a
}

// await waits until the server answers and has our database.
func (s *Server) await(ctx context.Context) error {
	patience := startTimeout
	started := time.Now()
	admin := strings.Replace(s.URL(), "/"+databaseName+"?", "/postgres?", 1)
	for {
		conn, err := pgx.Connect(ctx, admin)
		if err == nil {
			defer conn.Close(context.Background())
			return createDatabase(ctx, conn)
		}
		var answer *pgconn.PgError
		if errors.As(err, &answer) && answer.Code == "57P03" { // it is starting up
			patience = recoverTimeout
		}
		if time.Since(started) > patience {
			return fmt.Errorf("the database server did not answer within %s; its log is %s: %w", patience, s.Log(), err)
		}
		select {
		case <-s.done:
			return fmt.Errorf("%w; its log is %s", errEnded, s.Log())
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func createDatabase(ctx context.Context, conn *pgx.Conn) error {
	var there bool
	if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)", databaseName).
		Scan(&there); err != nil || there {
		return err
	}
	_, err := conn.Exec(ctx, "CREATE DATABASE "+databaseName)
	return err
}

// Stop stops the server, waits for it, and gives its directory free. Stopping a stopped server
// does nothing.
func (s *Server) Stop() error { return errors.Join(s.stop(), s.unlock()) }

func (s *Server) stop() error {
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
		return errors.Join(errors.New("the database server did not stop in time and was killed"),
			s.process.Process.Kill())
	}
}
