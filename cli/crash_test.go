package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"proudsieve/client"
	"proudsieve/postgres/postgrestest"
	"proudsieve/service"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

// build makes the program, to be run as a process of its own.
func build(t *testing.T) string {
	t.Helper()
	program := filepath.Join(t.TempDir(), "proudsieve")
	if out, err := exec.Command("go", "build", "-o", program, "proudsieve/cmd/proudsieve").
		CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return program
}

// serve starts the program as a process of its own, which can be killed.
func serve(t *testing.T, program, database, directory string) (*exec.Cmd, *client.Client) {
	t.Helper()
	c := exec.Command(program, "serve", "--data", directory, "--listen", "127.0.0.1:0")
	c.Env = append(os.Environ(), "PROUDSIEVE_DATABASE_URL="+database)
	c.Stderr = os.Stderr
	out, err := c.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
	line, err := bufio.NewReader(out).ReadString('\n')
	url, ok := strings.CutPrefix(strings.TrimSpace(line), "The console is at ")
	if err != nil || !ok {
		t.Fatalf("the service says %q, %v", line, err)
	}
	token, err := os.ReadFile(service.TokenFile(directory))
	if err != nil {
		t.Fatal(err)
	}
	return c, &client.Client{Server: url, Token: strings.TrimSpace(string(token))}
}

func TestAnAuditSurvivesKillMinusNine(t *testing.T) {
	ctx := context.Background()
	program := build(t)
	database, directory := postgrestest.Database(t), t.TempDir()
	process, c := serve(t, program, database, directory)
	if _, err := c.Declare(ctx, "rulebooks", []byte(book)); err != nil {
		t.Fatal(err)
	}
	const rows = 2_000_000
	var content strings.Builder
	content.WriteString("sample,value\n")
	for i := range rows {
		fmt.Fprintf(&content, "S%d,%d.25\n", i-i%1000%2, i) // every thousandth pair of rows shares a key
	}
	d, err := c.Deliver(ctx, "samples", "large.csv", records.SourceNotes{}, strings.NewReader(content.String()))
	if err != nil {
		t.Fatal(err)
	}
	job := d.Job
	for range 1500 {
		if job, err = servicetest.Get[records.Job](ctx, c, fmt.Sprintf("/jobs/%d", d.Job.ID)); err != nil {
			t.Fatal(err)
		}
		if job.State == "running" && job.RowsRead > 0 {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if job.State != "running" {
		t.Fatalf("the audit was not caught under way: %+v", job)
	}
	if err := process.Process.Signal(syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	_ = process.Wait()

	_, c = serve(t, program, database, directory)
	done, err := c.Follow(ctx, job.ID, nil)
	if err != nil {
		t.Fatal(err)
	}
	if done.Attempt != 2 {
		t.Errorf("the audit took %d attempts, want 2", done.Attempt)
	}
	audits, err := servicetest.All[records.Audit](ctx, c, "/audits")
	if err != nil || len(audits) != 1 || audits[0].Rows != rows {
		t.Errorf("audits %+v, %v", audits, err)
	}
	issues, err := servicetest.All[records.Issue](ctx, c, "/issues")
	if err != nil || len(issues) != 1 || issues[0].Rule != "one_sample" {
		t.Fatalf("issues %+v, %v", issues, err)
	}
	shown, err := servicetest.Get[records.IssueShown](ctx, c, fmt.Sprintf("/issues/%d", issues[0].ID))
	if err != nil || len(shown.Entries) != 1 {
		t.Errorf("the issue has the entries %+v, %v", shown.Entries, err)
	}
	tables, err := servicetest.All[records.Table](ctx, c, "/datasets/samples/tables")
	if err != nil || len(tables) != 1 || tables[0].Digest != d.Table.Digest {
		t.Errorf("tables %+v, %v", tables, err)
	}
	jobs, err := servicetest.Get[records.Page[records.Job]](ctx, c, "/jobs")
	if err != nil || len(jobs.Items) != 1 {
		t.Errorf("jobs %+v, %v", jobs.Items, err)
	}
}

func TestSiftEndsOnCtrlCWhereverItIs(t *testing.T) {
	program := build(t)
	var rows strings.Builder
	for range 3_000_000 {
		rows.WriteString("{\"sample\":\"S\",\"value\":1}\n")
	}
	path := filepath.Join(t.TempDir(), "large.jsonl")
	if err := os.WriteFile(path, []byte(rows.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, share := range []int64{0, 3, 9} { // tenths of the file that are read
		c := exec.Command(program, "sift", path)
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		untilRead(t, c.Process.Pid, path, int64(rows.Len())*share/10)
		if err := c.Process.Signal(os.Interrupt); err != nil {
			t.Fatal(err)
		}
		started := time.Now()
		_ = c.Wait()
		if took := time.Since(started); took > 2*time.Second || c.ProcessState.ExitCode() != 2 {
			t.Errorf("after %d tenths: exit %d, %s after Ctrl-C", share, c.ProcessState.ExitCode(), took)
		}
	}
}

// untilRead waits until a process has a file open, and has read so many bytes of it.
func untilRead(t *testing.T, process int, path string, bytes int64) {
	t.Helper()
	descriptors := fmt.Sprintf("/proc/%d/fd", process)
	for deadline := time.Now().Add(time.Minute); time.Now().Before(deadline); time.Sleep(time.Millisecond) {
		open, _ := os.ReadDir(descriptors)
		for _, one := range open {
			if to, _ := os.Readlink(filepath.Join(descriptors, one.Name())); to != path {
				continue
			}
			info, _ := os.ReadFile(fmt.Sprintf("/proc/%d/fdinfo/%s", process, one.Name()))
			var at int64
			if _, err := fmt.Sscanf(string(info), "pos: %d", &at); err == nil && at >= bytes {
				return
			}
		}
	}
	t.Fatalf("the process has not read %d bytes of %s", bytes, path)
}
