package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"

	"proudsieve/client"
	"proudsieve/service"
	"proudsieve/service/records"
)

// memoryBar is what a process may take of memory at its peak, in MiB.
const memoryBar = 1024

// fitting measures the memory that awkward tables and questions take.
func (b *bench) fitting(ctx context.Context) error {
	for _, one := range []struct {
		name           string
		columns, megas int
	}{{"300 columns, 150 MB", 300, 150}, {"2,000 columns, 100 MB", 2000, 100}, {"40 columns, 60 % empty, 100 MB", -40,
		100}} {
		path := filepath.Join(b.directory, "wide.csv")
		if err := generateWide(path, one.columns, b.of(one.megas<<20)); err != nil {
			return err
		}
		m, err := sift(path, "", 2)
		if err != nil {
			return err
		}
		bar("memory of a profile of "+one.name, float64(m.memory)/(1<<20), "MiB", memoryBar, false)
	}
	if err := b.flat(); err != nil {
		return err
	}
	path := filepath.Join(b.directory, "plain.csv")
	if err := generatePlain(path, b.of(300<<20)); err != nil {
		return err
	}
	c := exec.Command(program, "rulebook", "propose", path)
	c.Stderr = os.Stderr
	if err := c.Run(); err != nil {
		return fmt.Errorf("%s: %w", c, err)
	}
	bar("memory of a proposal on 300 MB", float64(c.ProcessState.SysUsage().(*syscall.Rusage).Maxrss)/1024, "MiB",
		memoryBar, false)
	return b.inService(ctx, path)
}

// flat compares the memory that mixes take with that of ten times the rows.
func (b *bench) flat() error {
	kinds := []dataKind{mixes[0].kind(), mixes[1].kind(), mixes[2].kind()}
	var few [3]measured
	if err := b.each(kinds, b.megas, func(i int, path string) (err error) {
		few[i], err = sift(path, "", 2)
		return err
	}); err != nil {
		return err
	}
	return b.each(kinds, 10*b.megas, func(i int, path string) error {
		many, err := sift(path, "", 2)
		if err != nil {
			return err
		}
		bar(fmt.Sprintf("memory of %d MB of %s", 10*b.megas, mixes[i].name), float64(many.memory)/(1<<20), "MiB", 512, false)
		bar("against a tenth of it", float64(many.memory)/float64(few[i].memory), "times as much", 1.5, false)
		return nil
	})
}

// generateWide writes a table of so many columns: numbers, codes and texts, two in five of them
// mostly empty; of a negative number of columns all are numbers and mostly empty.
func generateWide(path string, columns, bytes int) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	out, r := bufio.NewWriterSize(f, 1<<20), rand.New(rand.NewPCG(3, 3))
	sparse := columns < 0
	columns = max(columns, -columns)
	for c := range columns {
		if c > 0 {
			_ = out.WriteByte(',')
		}
		fmt.Fprintf(out, "c%d", c)
	}
	_ = out.WriteByte('\n')
	for written := 0; written < bytes; {
		for c := range columns {
			cell := ""
			switch kind := c % 5; {
			case sparse || kind == 4:
				if r.IntN(10) >= 6 {
					cell = strconv.FormatFloat(50+9*r.NormFloat64(), 'f', 2, 64)
				}
			case kind == 0:
				cell = strconv.FormatFloat(1000*r.Float64(), 'f', 3, 64)
			case kind == 1:
				cell = strconv.Itoa(r.IntN(10_000_000))
			case kind == 2:
				if r.IntN(10) >= 6 {
					cell = "T" + strconv.Itoa(r.IntN(1_000_000))
				}
			case kind == 3:
				cell = "AV" + strconv.Itoa(r.IntN(160))
			}
			if c > 0 {
				_ = out.WriteByte(',')
			}
			_, _ = out.WriteString(cell)
			written += len(cell) + 1
		}
		_ = out.WriteByte('\n')
	}
	return errors.Join(out.Flush(), f.Close())
}

// generatePlain writes a table of six columns.
func generatePlain(path string, bytes int) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	out, r := bufio.NewWriterSize(f, 1<<20), rand.New(rand.NewPCG(4, 4))
	_, _ = out.WriteString("id,station,day,value,flow,remark\n")
	for i, written := 0, 0; written < bytes; i++ {
		n, _ := fmt.Fprintf(out, "R%08d,AV-%03d,2024-%02d-%02d,%.3f,%d,clear %d\n", i, r.IntN(60), 1+r.IntN(12),
			1+r.IntN(28), 99*r.Float64(), r.IntN(1_000_000), r.IntN(10_000_000))
		written += n
	}
	return errors.Join(out.Flush(), f.Close())
}

// separate is a service in a process of its own, so that its memory can be looked at.
type separate struct {
	*client.Client
	process *exec.Cmd
}

func startSeparate(directory string) (*separate, error) {
	if err := os.MkdirAll(directory, 0o711); err != nil {
		return nil, err
	}
	c := exec.Command(program, "up", "--data", directory, "--listen", "127.0.0.1:0")
	c.Stderr = os.Stderr
	out, err := c.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := c.Start(); err != nil {
		return nil, err
	}
	s := &separate{&client.Client{}, c}
	for in := bufio.NewScanner(out); in.Scan() && s.Server == ""; {
		if after, ok := strings.CutPrefix(in.Text(), "The console is at "); ok {
			s.Server = after
		}
	}
	token, err := os.ReadFile(service.TokenFile(directory))
	s.Token = strings.TrimSpace(string(token))
	return s, err
}

func (s *separate) stop() {
	_ = s.process.Process.Signal(syscall.SIGTERM)
	_ = s.process.Wait()
}

// peak is the most memory that the service has taken since it was last asked, in MiB.
func (s *separate) peak() float64 {
	status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.process.Process.Pid))
	_ = os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", s.process.Process.Pid), []byte("5"), 0o200)
	for line := range strings.Lines(string(status)) {
		if fields := strings.Fields(line); len(fields) > 1 && fields[0] == "VmHWM:" {
			n, _ := strconv.ParseFloat(fields[1], 64)
			return n / 1024
		}
	}
	return 0
}

// inService measures six questions at once on a table of some millions of rows, and a join.
func (b *bench) inService(ctx context.Context, path string) error {
	if err := os.Chmod(b.directory, 0o711); err != nil {
		return err
	}
	s, err := startSeparate(filepath.Join(b.directory, "separate"))
	if err != nil {
		return err
	}
	defer s.stop()
	if _, err := s.Declare(ctx, "rulebooks",
		[]byte("dataset: plain\ncolumns:\n  - {name: id}\n  - {name: value, type: decimal}\n  - {name: flow, type: integer}\n")); err != nil {
		return err
	}
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	d, err := s.Deliver(ctx, "plain", "plain.csv", records.SourceNotes{}, f)
	if err != nil {
		return err
	}
	if _, err := s.AuditOf(ctx, d.Table.ID, nil); err != nil {
		return err
	}
	_ = s.peak()
	var group sync.WaitGroup
	errs := make([]error, 6)
	for i, question := range []string{"rows?sort=remark", "rows?sort=value", "rows?sort=flow&falling=true",
		"rows?sort=id&falling=true", "rows?find=12345", "groups?columns=remark"} {
		group.Go(func() {
			_, errs[i] = s.Call(ctx, "GET", fmt.Sprintf("/tables/%d/%s", d.Table.ID, question), nil)
		})
	}
	group.Wait()
	refused := 0
	for i, err := range errs {
		var p *client.Problem
		if errors.As(err, &p) && p.Status == 503 {
			refused++
			errs[i] = nil
		}
	}
	if err := errors.Join(errs...); err != nil {
		return err
	}
	bar(fmt.Sprintf("memory of six questions at once (%d to come again)", refused), s.peak(), "MiB", memoryBar, false)
	return b.joining(ctx, s)
}

// joining measures a join of two tables of two million rows with one of a million.
func (b *bench) joining(ctx context.Context, s *separate) error {
	table := func(name string, rows int, row func(out *bytes.Buffer, i int), header string) error {
		if _, err := s.Declare(ctx, "rulebooks",
			[]byte("dataset: "+name+"\ncolumns:\n  - {name: sample}\n")); err != nil {
			return err
		}
		if _, err := s.Declare(ctx, "fix-plans",
			[]byte("fix_plan: "+name+"_clean\ndataset: "+name+"\nsteps: []\n")); err != nil {
			return err
		}
		var content bytes.Buffer
		content.WriteString(header)
		for i := range rows {
			row(&content, i)
		}
		d, err := s.Deliver(ctx, name, name+".csv", records.SourceNotes{}, &content)
		if err != nil {
			return err
		}
		job, err := s.ApplyFix(ctx, d.Table.ID, client.PlannedBody{FixPlan: name + "_clean"})
		if err != nil {
			return err
		}
		_, err = s.Follow(ctx, job.ID, nil)
		return err
	}
	for _, name := range []string{"north", "south"} {
		if err := table(name, b.of(2_000_000), func(out *bytes.Buffer, i int) {
			fmt.Fprintf(out, "%s%d,P%d,%d.5\n", name[:1], i, i*7919%b.of(1_000_000), i%977)
		}, "sample,place,value\n"); err != nil {
			return err
		}
	}
	if err := table("places", b.of(1_000_000), func(out *bytes.Buffer, i int) {
		fmt.Fprintf(out, "P%d,the place of the number %d,%d\n", i, i, i%60)
	}, "place,title,region\n"); err != nil {
		return err
	}
	if _, err := s.Declare(ctx, "merges",
		[]byte("merge: joined\nstack: [north, south]\njoin:\n  - {with: places, match: [place], take: [title, region]}\n")); err != nil {
		return err
	}
	_ = s.peak()
	job, err := s.RunMerge(ctx, "joined", client.RunBody{})
	if err != nil {
		return err
	}
	done, err := s.Follow(ctx, job.ID, nil)
	if err != nil {
		return err
	}
	bar("memory of a join of 2 x 2 million rows with a million", s.peak(), "MiB", memoryBar, false)
	fmt.Printf("%-58s %8.2f s\n", "that join", done.EndedAt.Sub(*done.StartedAt).Seconds())
	return nil
}
