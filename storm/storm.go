// Package storm kills a service again and again while several people work with it, and then
// looks whether anything that was accepted is lost, doubled or stuck. Everything happens on
// loopback, is bounded in count and time, and depends on a seed but for what the kernel decides.
package storm

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"proudsieve/client"
	"proudsieve/postgres"
	"proudsieve/service"
	"proudsieve/service/keeping"
	"proudsieve/service/records"
)

// Options say how hard it blows.
type Options struct {
	Program     string // the built program
	Directory   string // an empty one that the database's user may enter
	Seed        uint64
	Kills       int           // of a service that people work with
	FirstStarts int           // that are cut off, each in a directory of its own
	Callers     int           // who work at the same time
	Between     time.Duration // the longest pause between two kills
	// Bucket has the files in a bucket of a server that fails now and then, with three nodes that have data directories of their
	// own; else two nodes share one directory.
	Bucket bool
	// Earlier is the program of the release before, on which everything begins: after a third of the kills the second node is
	// started with Program, which brings the records to its form, and after two thirds the first one. Empty for Program throughout.
	Earlier string
	Out     io.Writer // for what happens
}

// Result is what was found.
type Result struct {
	Kills       map[string]int // by kind
	Accepted    map[string]int // by kind
	GivenUp     int            // jobs that were started as often as they may be, and failed with their reason
	Wrong       []string       // what is lost, doubled, stuck or did not start
	SlowestEnd  time.Duration  // how long the last job took to end after the last kill
	FilesLeft   int            // that no record speaks of, after the sweep
	StartsTried int
	Told        int // letters and events that arrived, each counted once
	ToldAgain   int // that came once more: their sender was killed before it knew that they had arrived
}

const (
	startPatience = 60 * time.Second
	stuckAfter    = time.Minute
)

// storm is one under way.
type storm struct {
	Options
	rand   *rand.Rand
	data   string
	nodes  []*node
	bucket *bucket // nil for a directory
	admin  string
	mutex  sync.Mutex
	result Result
	things []thing
	people [2]string // tokens of a steward and a certifier
	told   told
}

// node is one of the processes on one database; the first one has the database.
type node struct {
	port    string
	data    string
	program string
	process *exec.Cmd // nil before its first start
}

// thing is something that the service accepted.
type thing struct {
	kind   string // delivery, job, version, certificate
	id     int64
	digest string
	name   string
}

// Run runs a storm.
func Run(ctx context.Context, o Options) (*Result, error) {
	s := &storm{Options: o, rand: rand.New(rand.NewPCG(o.Seed, 1)), data: filepath.Join(o.Directory, "data")}
	s.result.Kills, s.result.Accepted = map[string]int{}, map[string]int{}
	if err := s.told.begin(); err != nil {
		return &s.result, err
	}
	defer s.told.end()
	if o.Bucket {
		var err error
		if s.bucket, err = startBucket(o.Seed); err != nil {
			return &s.result, err
		}
		defer s.bucket.server.Stop()
	}
	defer s.end()
	if err := s.firstStarts(ctx); err != nil {
		return &s.result, err
	}
	if err := s.begin(ctx); err != nil {
		return &s.result, err
	}
	working, stop := context.WithCancel(ctx)
	var group sync.WaitGroup
	for i := range o.Callers {
		group.Go(func() { s.work(working, rand.New(rand.NewPCG(o.Seed, uint64(i)+100))) })
	}
	for i := range o.Kills {
		s.pause(ctx, time.Duration(s.rand.Int64N(int64(o.Between))))
		s.maybeOut()
		err := s.maybeUpgrade(ctx, i)
		if err == nil {
			err = s.kill(ctx)
		}
		if err != nil {
			stop()
			group.Wait()
			return &s.result, err
		}
		if (i+1)%20 == 0 {
			s.say("%d of %d kills; accepted so far: %v", i+1, o.Kills, s.counts())
		}
		if ctx.Err() != nil {
			break
		}
	}
	stop()
	group.Wait()
	return &s.result, errors.Join(s.judge(ctx), ctx.Err())
}

func (s *storm) say(format string, args ...any) { fmt.Fprintf(s.Out, format+"\n", args...) }

func (s *storm) wrong(format string, args ...any) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.result.Wrong = append(s.result.Wrong, fmt.Sprintf(format, args...))
}

func (s *storm) counts() map[string]int {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	out := map[string]int{}
	for k, n := range s.result.Accepted {
		out[k] = n
	}
	return out
}

func (s *storm) accept(t thing) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.things = append(s.things, t)
	s.result.Accepted[t.kind]++
}

// some returns a random accepted thing of a kind.
func (s *storm) some(r *rand.Rand, kind string) (thing, bool) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	var all []thing
	for _, t := range s.things {
		if t.kind == kind {
			all = append(all, t)
		}
	}
	if len(all) == 0 {
		return thing{}, false
	}
	return all[r.IntN(len(all))], true
}

func (s *storm) pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// firstStarts cuts first starts off, and looks whether the next one comes up.
func (s *storm) firstStarts(ctx context.Context) error {
	for i := range s.FirstStarts {
		directory := filepath.Join(s.Directory, fmt.Sprintf("first-%d", i))
		port, err := freePort()
		if err != nil {
			return err
		}
		c := s.command("up", &node{port: port, data: directory})
		if err := c.Start(); err != nil {
			return err
		}
		s.pause(ctx, time.Duration(s.rand.Int64N(int64(1800*time.Millisecond))))
		s.strike(c, directory, s.rand.IntN(2) == 0)
		s.count("first start")
		again := s.command("up", &node{port: port, data: directory})
		if err := again.Start(); err != nil {
			return err
		}
		if !s.ready(ctx, port, again) {
			s.wrong("a start after a first start that was cut off (number %d) does not come up", i)
		}
		_ = again.Process.Signal(syscall.SIGTERM)
		_ = again.Wait()
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	return nil
}

func (s *storm) count(kind string) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.result.Kills[kind]++
}

func freePort() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	defer l.Close()
	_, port, err := net.SplitHostPort(l.Addr().String())
	return port, err
}

// command is a service in a process group of its own; serve takes the database of up.
func (s *storm) command(how string, n *node) *exec.Cmd {
	c := exec.Command(cmp.Or(n.program, s.Program), append([]string{how, "--data", n.data, "--listen", "127.0.0.1:" + n.port}, s.told.options()...)...)
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	c.Env = os.Environ()
	if how == "serve" {
		address, _ := os.ReadFile(postgres.AddressFile(filepath.Join(s.data, "postgres")))
		c.Env = append(c.Env, "PROUDSIEVE_DATABASE_URL="+strings.TrimSpace(string(address)))
	}
	if s.bucket != nil {
		c.Env = append(c.Env, s.bucket.environment()...)
	}
	if log, err := os.OpenFile(filepath.Join(s.Directory, "service-"+n.port+".log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY,
		0o600); err == nil {
		c.Stderr = log
	}
	return c
}

// strike kills a process at once, and its database's with it where all is true.
func (s *storm) strike(c *exec.Cmd, directory string, all bool) {
	if all {
		if raw, err := os.ReadFile(filepath.Join(directory, "postgres", "cluster", "postmaster.pid")); err == nil {
			killTree(strings.SplitN(string(raw), "\n", 2)[0])
		}
	}
	_ = syscall.Kill(-c.Process.Pid, syscall.SIGKILL)
	_ = c.Wait()
}

// killTree kills a process and the group that it leads.
func killTree(pid string) {
	var n int
	if _, err := fmt.Sscan(pid, &n); err == nil && n > 1 {
		_ = syscall.Kill(-n, syscall.SIGKILL)
		_ = syscall.Kill(n, syscall.SIGKILL)
	}
}

// ready waits until a service answers.
func (s *storm) ready(ctx context.Context, port string, c *exec.Cmd) bool {
	s.mutex.Lock()
	s.result.StartsTried++
	s.mutex.Unlock()
	for deadline := time.Now().Add(startPatience); time.Now().Before(deadline) &&
		ctx.Err() == nil; time.Sleep(50 * time.Millisecond) {
		if response, err := http.Get("http://127.0.0.1:" + port + "/readyz"); err == nil {
			_ = response.Body.Close()
			if response.StatusCode == http.StatusOK {
				return true
			}
		}
		if syscall.Kill(c.Process.Pid, 0) != nil {
			return false
		}
		var status syscall.WaitStatus
		if pid, err := syscall.Wait4(c.Process.Pid, &status, syscall.WNOHANG, nil); err == nil && pid == c.Process.Pid {
			return false // it ended by itself
		}
	}
	return false
}

const (
	rulebook = "dataset: samples\ncolumns:\n  - {name: sample, required: true}\n  - {name: value, type: decimal, required: true}\nkeys:\n  - {id: one_sample, columns: [sample]}\nmeasures: [value]\npass_mark: 50\n"
	fixPlan  = "fix_plan: clean\ndataset: samples\nsteps:\n  - {do: trim, columns: [sample], reason: Spaces are strays.}\n"
	mergeOf  = "merge: survey\nstack: [samples]\n"
	surveys  = "dataset: survey\ncolumns:\n  - {name: sample, required: true}\n  - {name: value, type: decimal}\nmeasures: [value]\npass_mark: 10\n"
)

// begin starts nodes on one database and one file store, and makes people and declarations.
func (s *storm) begin(ctx context.Context) error {
	data := []string{s.data, s.data}
	if s.bucket != nil {
		data = []string{s.data, filepath.Join(s.Directory, "data-1"), filepath.Join(s.Directory, "data-2")}
	}
	for i := range data {
		port, err := freePort()
		if err != nil {
			return err
		}
		s.nodes = append(s.nodes, &node{port: port, data: data[i], program: s.Earlier})
		if err := s.shareSecrets(data[i]); err != nil {
			return err
		}
		if !s.start(ctx, i) {
			return errors.New("the service does not start")
		}
	}
	raw, err := os.ReadFile(service.TokenFile(s.data))
	if err != nil {
		return err
	}
	s.admin = strings.TrimSpace(string(raw))
	admin := s.client(0, s.admin)
	if err := s.told.introduce(ctx, admin); err != nil {
		return err
	}
	for i, role := range []string{"steward", "certifier"} {
		made, err := admin.AddPerson(ctx, client.NewPersonBody{Name: role, Role: client.NewPersonBodyRole(role)})
		if err != nil {
			return err
		}
		s.people[i] = made.Secret
	}
	steward := s.client(0, s.people[0])
	for _, one := range [][2]string{{"rulebooks", rulebook}, {"fix-plans", fixPlan}, {"merges", mergeOf},
		{"rulebooks", surveys}} {
		if _, err := steward.Declare(ctx, one[0], []byte(one[1])); err != nil {
			return err
		}
	}
	_, err = steward.KeepMerged(ctx, "survey", client.KeptBody{Kept: true}) // so that audits begin merges in the records that they make
	return err
}

// shareSecrets does what is done by hand for a node on another machine: the first one's key and secret go to its directory.
func (s *storm) shareSecrets(data string) error {
	if data == s.data {
		return nil
	}
	if err := os.MkdirAll(data, 0o700); err != nil {
		return err
	}
	return keeping.CarrySecrets(s.data, data)
}

func (s *storm) start(ctx context.Context, number int) bool {
	how, n := "serve", s.nodes[number]
	if number == 0 {
		how = "up"
	}
	n.process = s.command(how, n)
	return n.process.Start() == nil && s.ready(ctx, n.port, n.process)
}

func (s *storm) client(node int, token string) *client.Client {
	return &client.Client{Server: "http://127.0.0.1:" + s.nodes[node].port, Token: token,
		HTTP: &http.Client{Timeout: 30 * time.Second}}
}

// maybeUpgrade starts a node with the new program where it is time for it.
func (s *storm) maybeUpgrade(ctx context.Context, kill int) error {
	number := map[int]int{s.Kills / 3: 1, 2 * s.Kills / 3: 0}
	i, now := number[kill]
	if s.Earlier == "" || !now {
		return nil
	}
	n := s.nodes[i]
	n.program = ""
	_ = n.process.Process.Signal(syscall.SIGTERM)
	_ = n.process.Wait()
	if !s.start(ctx, i) {
		s.wrong("the new program does not come up")
		return errors.New("the new program does not start")
	}
	s.say("node %d has the new program", i)
	if i == 0 && !s.answers(1) { // it had the database
		s.strike(s.nodes[1].process, s.data, false)
		if !s.start(ctx, 1) {
			return errors.New("a node does not start again")
		}
	}
	return nil
}

// mixed says that the nodes have two programs: the earlier one knows nothing of the rule by which a later release may start it.
func (s *storm) mixed() bool { return s.nodes[0].program != s.nodes[1].program }

// kill kills something and starts what is down.
func (s *storm) kill(ctx context.Context) error {
	kinds := []string{"service", "service", "whole group", "database", "database", "node", "node", "node", "in order"}
	if s.bucket != nil {
		kinds = append(kinds, "node", "file store", "file store")
	}
	if s.mixed() {
		kinds = []string{"node"}
	}
	kind := kinds[s.rand.IntN(len(kinds))]
	s.count(kind)
	first, struck := s.nodes[0], 0
	switch kind {
	case "service":
		s.strike(first.process, s.data, false)
	case "whole group":
		s.strike(first.process, s.data, true)
	case "database":
		if raw, err := os.ReadFile(filepath.Join(s.data, "postgres", "cluster", "postmaster.pid")); err == nil {
			killTree(strings.SplitN(string(raw), "\n", 2)[0])
		}
		_ = first.process.Wait() // it ends with its database
	case "node":
		struck = 1 + s.rand.IntN(len(s.nodes)-1)
		s.strike(s.nodes[struck].process, s.data, false)
	case "in order":
		_ = first.process.Process.Signal(syscall.SIGTERM)
		_ = first.process.Wait()
	case "file store":
		s.bucket.server.Down(true)
		s.pause(ctx, time.Duration(s.rand.Int64N(int64(4*time.Second))))
		s.bucket.server.Down(false)
		return nil
	}
	if struck == 0 {
		s.pause(ctx, time.Duration(s.rand.Int64N(int64(300*time.Millisecond))))
		if !s.start(ctx, 0) {
			s.wrong("a start after a kill (%s) does not come up", kind)
			return errors.New("the service does not start again")
		}
	}
	for i := 1; i < len(s.nodes); i++ {
		if i != struck {
			if s.answers(i) {
				continue
			}
			s.strike(s.nodes[i].process, s.data, false) // it may have lost its database for good: the address is another one
		}
		if !s.start(ctx, i) {
			s.wrong("a node does not come up again")
			return errors.New("a node does not start again")
		}
	}
	return nil
}

func (s *storm) answers(node int) bool {
	response, err := http.Get("http://127.0.0.1:" + s.nodes[node].port + "/readyz")
	if err != nil {
		return false
	}
	_ = response.Body.Close()
	return response.StatusCode == http.StatusOK
}

// work does what people do, until ctx ends. What fails because something was killed is not tried again.
func (s *storm) work(ctx context.Context, r *rand.Rand) {
	for n := 0; ctx.Err() == nil; n++ {
		steward, certifier := s.client(r.IntN(len(s.nodes)), s.people[0]), s.client(r.IntN(len(s.nodes)), s.people[1])
		switch r.IntN(10) {
		case 0, 1, 2, 3:
			s.deliver(ctx, r, steward)
		case 4, 5:
			if d, ok := s.some(r, "delivery"); ok {
				if job, err := steward.ApplyFix(ctx, d.id, client.PlannedBody{FixPlan: "clean"}); err == nil {
					s.accept(thing{kind: "job", id: job.ID, name: "fix"})
				}
			}
		case 6:
			if job, err := steward.RunMerge(ctx, "survey", client.RunBody{}); err == nil {
				s.accept(thing{kind: "job", id: job.ID, name: "merge"})
			}
		case 7:
			s.declare(ctx, r, steward)
		case 8:
			s.certify(ctx, r, certifier)
		case 9:
			_, _ = steward.ShowDesk(ctx)
			if d, ok := s.some(r, "delivery"); ok {
				_, _ = steward.ShowRows(ctx, d.id, &client.ShowRowsParams{Sort: "value"})
			}
		}
		s.pause(ctx, time.Duration(r.Int64N(int64(60*time.Millisecond))))
	}
}

func (s *storm) deliver(ctx context.Context, r *rand.Rand, c *client.Client) {
	var content bytes.Buffer
	content.WriteString("sample,value\n")
	own := r.Uint64()
	for i := range 1 + r.IntN(4000) {
		fmt.Fprintf(&content, "S%x-%d,%d.25\n", own, i, r.IntN(1000))
	}
	sum := sha256.Sum256(content.Bytes())
	d, err := c.Deliver(ctx, "samples", "samples.csv", records.SourceNotes{}, &content)
	if err == nil {
		s.accept(thing{kind: "delivery", id: d.Table.ID, digest: hex.EncodeToString(sum[:])})
	}
}

func (s *storm) declare(ctx context.Context, r *rand.Rand, c *client.Client) {
	newest, err := c.ShowRulebooks(ctx, "samples", "samples", nil)
	if err != nil {
		return
	}
	text := fmt.Sprintf("%s# %d\n", rulebook, r.Uint64())
	if made, err := c.DeclareAfter(ctx, "rulebooks", []byte(text), newest.Version); err == nil {
		s.accept(thing{kind: "version", id: int64(made.Version), digest: made.Digest})
	}
}

// certify certifies a table that an accepted merge made, where it may be.
func (s *storm) certify(ctx context.Context, r *rand.Rand, c *client.Client) {
	one, ok := s.some(r, "job")
	if !ok {
		return
	}
	job, err := c.ShowJob(ctx, one.id)
	if err != nil || job.ResultTable == nil {
		return
	}
	if made, err := c.CertifyTable(ctx, *job.ResultTable, client.Certifying{}); err == nil {
		s.accept(thing{kind: "certificate", id: made.ID})
	}
}

// end kills what is left.
func (s *storm) end() {
	for _, n := range s.nodes {
		if n.process != nil && n.process.Process != nil {
			_ = n.process.Process.Signal(syscall.SIGTERM)
		}
	}
	for _, n := range s.nodes {
		if n.process != nil && n.process.Process != nil {
			_ = n.process.Wait()
		}
	}
}
