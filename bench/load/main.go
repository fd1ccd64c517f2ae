// Command load asks a service many things a second while it audits, and tells how long the
// answers took, what failed, and whether memory and open files stay flat. It starts a service
// of its own on loopback, and is bounded in count and time.
package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"proudsieve/client"
	"proudsieve/service"
	"proudsieve/service/api"
	"proudsieve/service/records"
)

const book = `dataset: readings
columns:
  - {name: reading, required: true, pattern: "R[0-9]{8}"}
  - {name: station, required: true}
  - {name: day, type: date}
  - {name: level, type: decimal, from: 0, to: 90}
  - {name: flow, type: decimal}
  - {name: remark}
keys:
  - {id: one_reading, columns: [reading]}
measures: [flow]
`

var (
	lasting = flag.Duration("for", 10*time.Minute, "how long")
	rate    = flag.Int("rate", 200, "requests a second")
	rows    = flag.Int("rows", 3_000_000, "of the table")
	program = flag.String("program", "bin/proudsieve", "the built program")
)

func main() {
	flag.Parse()
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run() error {
	ctx, cancel := context.WithTimeout(context.Background(), *lasting+10*time.Minute)
	defer cancel()
	directory, err := os.MkdirTemp("", "proudsieve-load-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(directory)
	if err := os.Chmod(directory, 0o711); err != nil {
		return err
	}
	data := filepath.Join(directory, "data")
	c := exec.Command(*program, "up", "--data", data, "--listen", "127.0.0.1:0")
	c.Stderr = os.Stderr
	out, err := c.StdoutPipe()
	if err != nil {
		return err
	}
	if err := c.Start(); err != nil {
		return err
	}
	defer func() { _ = c.Process.Signal(syscall.SIGTERM); _ = c.Wait() }()
	address := ""
	for in := bufio.NewScanner(out); in.Scan() && address == ""; {
		if after, ok := strings.CutPrefix(in.Text(), "The console is at "); ok {
			address = after
		}
	}
	token, err := os.ReadFile(service.TokenFile(data))
	if err != nil {
		return err
	}
	l := &load{Client: &client.Client{Server: address, Token: strings.TrimSpace(string(token)),
		HTTP: &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 128}, Timeout: time.Minute}},
		pid: c.Process.Pid, took: map[string][]time.Duration{}, failed: map[string]int{}}
	if err := l.prepare(ctx); err != nil {
		return err
	}
	l.blow(ctx)
	return l.tell()
}

type load struct {
	*client.Client
	pid          int
	table, audit int64
	mutex        sync.Mutex
	took         map[string][]time.Duration
	failed       map[string]int
	busy, audits int
	memory       []int64 // KiB, each ten seconds
	files        []int
}

// prepare takes in a table of many rows.
func (l *load) prepare(ctx context.Context) error {
	if _, err := l.Declare(ctx, "rulebooks", []byte(book)); err != nil {
		return err
	}
	r := rand.New(rand.NewPCG(1, 2))
	var b bytes.Buffer
	b.WriteString("reading,station,day,level,flow,remark\n")
	for i := range *rows {
		fmt.Fprintf(&b, "R%08d,AV-%03d,2024-%02d-%02d,%.2f,%.3f,clear %d\n", i-i%5000/4999, r.IntN(60), 1+r.IntN(12),
			1+r.IntN(28), r.Float64()*91, r.Float64()*1000, r.IntN(1_000_000))
	}
	d, err := l.Deliver(ctx, "readings", "readings.csv", records.SourceNotes{}, &b)
	if err != nil {
		return err
	}
	a, err := client.Decode[api.AuditShown](l.AuditOf(ctx, d.Table.ID, nil))
	if err != nil {
		return err
	}
	l.table, l.audit = d.Table.ID, a.ID
	fmt.Printf("%d rows, %d findings; %d requests a second for %s\n", a.Rows, len(a.Result.Findings), *rate, *lasting)
	return nil
}

// blow asks and audits at the same time.
func (l *load) blow(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, *lasting)
	defer cancel()
	var group sync.WaitGroup
	group.Go(func() { l.keepAuditing(ctx) })
	group.Go(func() { l.watch(ctx) })
	r := rand.New(rand.NewPCG(7, 7))
	ticker := time.NewTicker(time.Second / time.Duration(*rate))
	defer ticker.Stop()
	for n := 0; ; n++ {
		select {
		case <-ctx.Done():
			group.Wait()
			return
		case <-ticker.C:
		}
		kind, path := l.next(n, r)
		group.Go(func() { l.ask(kind, path) })
	}
}

// next is what is asked next: one question that reads the table in fifty.
func (l *load) next(n int, r *rand.Rand) (kind, path string) {
	if n%50 == 49 {
		where := url.QueryEscape(fmt.Sprintf("level > %d.%d", r.IntN(90), r.IntN(1000)))
		return "question", []string{
			fmt.Sprintf("/tables/%d/rows?sort=%s&offset=%d&limit=50&where=%s", l.table,
				[]string{"level", "flow", "remark"}[r.IntN(3)], r.IntN(1000), where),
			fmt.Sprintf("/tables/%d/rows?limit=50&find=%s", l.table, strconv.Itoa(r.IntN(1_000_000))),
			fmt.Sprintf("/tables/%d/tally?by=station&measure=sum+flow&where=%s", l.table, where),
			fmt.Sprintf("/tables/%d/rows?limit=50&where=%s", l.table, where),
		}[r.IntN(4)]
	}
	switch n % 8 {
	case 0:
		return "desk", "/desk"
	case 1:
		return "datasets", "/datasets"
	case 2:
		return "issues", "/issues"
	case 3:
		return "audits", "/audits?limit=20"
	case 4:
		return "history", "/history?limit=50"
	case 5:
		return "rows", fmt.Sprintf("/tables/%d/rows?after=%d&limit=50", l.table, r.IntN(*rows))
	case 6:
		return "a finding's rows", fmt.Sprintf("/tables/%d/rows?rule=level.range&offset=%d&limit=50", l.table,
			r.IntN(5000))
	}
	return "a column", fmt.Sprintf("/audits/%d", l.audit)
}

func (l *load) ask(kind, path string) {
	started := time.Now()
	_, err := l.Call(context.Background(), "GET", path, nil)
	took := time.Since(started)
	l.mutex.Lock()
	defer l.mutex.Unlock()
	var p *client.Problem
	switch {
	case err == nil:
		l.took[kind] = append(l.took[kind], took)
	case errors.As(err, &p) && p.Status == http.StatusServiceUnavailable && kind == "question":
		l.busy++
	default:
		l.failed[kind+": "+err.Error()]++
	}
}

func (l *load) keepAuditing(ctx context.Context) {
	for ctx.Err() == nil {
		job, err := l.StartAudit(ctx, l.table)
		if err == nil {
			_, err = l.Follow(ctx, job.ID, nil)
		}
		if err == nil {
			l.audits++
		} else if ctx.Err() == nil {
			l.mutex.Lock()
			l.failed["audit: "+err.Error()]++
			l.mutex.Unlock()
			time.Sleep(time.Second)
		}
	}
}

// watch looks at the service's memory and open files.
func (l *load) watch(ctx context.Context) {
	for {
		status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", l.pid))
		for line := range strings.Lines(string(status)) {
			if fields := strings.Fields(line); len(fields) > 1 && fields[0] == "VmRSS:" {
				n, _ := strconv.ParseInt(fields[1], 10, 64)
				l.memory = append(l.memory, n)
			}
		}
		open, _ := os.ReadDir(fmt.Sprintf("/proc/%d/fd", l.pid))
		l.files = append(l.files, len(open))
		select {
		case <-ctx.Done():
			return
		case <-time.After(10 * time.Second):
		}
	}
}

func (l *load) tell() error {
	var others []time.Duration
	for _, kind := range slices.Sorted(func(yield func(string) bool) {
		for k := range l.took {
			if !yield(k) {
				return
			}
		}
	}) {
		took := l.took[kind]
		slices.Sort(took)
		fmt.Printf("%-18s %7d answers, median %8s, 99 of 100 within %8s, slowest %8s\n", kind, len(took), at(took, 50),
			at(took, 99), at(took, 100))
		if kind != "question" {
			others = append(others, took...)
		}
	}
	slices.Sort(others)
	fmt.Printf("without questions: 99 of 100 within %s (bar 50 ms); %d questions were told to come again; %d audits of %d rows meanwhile\n", at(others, 99), l.busy, l.audits, *rows)
	third := len(l.memory) / 3
	fmt.Printf("memory in MiB: the first third at most %d, the last at most %d; open files %d and %d\n",
		slices.Max(l.memory[:third+1])>>10, slices.Max(l.memory[len(l.memory)-third-1:])>>10,
		slices.Max(l.files[:third+1]), slices.Max(l.files[len(l.files)-third-1:]))
	for what, n := range l.failed {
		fmt.Printf("failed %d times: %s\n", n, what)
	}
	if len(l.failed) > 0 || at(others, 99) > 50*time.Millisecond {
		return errors.New("the bars are not met")
	}
	return nil
}

func at(sorted []time.Duration, percent int) time.Duration {
	if len(sorted) == 0 {
		return 0
	}
	return sorted[min(len(sorted)-1, len(sorted)*percent/100)].Round(100 * time.Microsecond)
}
