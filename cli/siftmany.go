package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"github.com/urfave/cli/v3"

	"proudsieve/core/audit"
	"proudsieve/core/guard"
	"proudsieve/core/leads"
)

// siftEach audits several files, a line each; its error is that of the worst.
func (o *output) siftEach(ctx context.Context, c *cli.Command, paths []string) error {
	if c.String("column") != "" || c.Bool("between") {
		return errors.New("--column and --between look into one file; name one")
	}
	outcomes, err := siftAll(ctx, c, paths)
	if err != nil {
		return err
	}
	g := newGrid("file", ">rows", ">columns", ">score", "passed", ">findings", ">leads", "what may cost most")
	var results []*sifted
	var worst error
	for i, one := range outcomes {
		if one.err != nil {
			fmt.Fprintf(o.err, "proudsieve: %s\n", safe(one.err.Error()))
			g.add(paths[i], "", "", "", "could not be read", "", "", "")
			worst = errUnread
			continue
		}
		if one.fellShort && worst == nil {
			worst = errFellShort
		}
		if o.json {
			results = append(results, one.result)
		}
		g.add(one.line...)
	}
	if o.json {
		if err := o.printJSON(orEmpty(results)); err != nil {
			return err
		}
		return worst
	}
	o.grid(g, "")
	return worst
}

// fileSifted is what became of one of several files.
type fileSifted struct {
	line      []string // of a grid
	fellShort bool
	result    *sifted // where all is to be written; it takes room
	err       error
}

// smallFile is the size in bytes up to which a file is not worth the while of several workers.
const smallFile = 1 << 20

// siftAll audits files: small ones side by side, each by one worker, and then the others one after the other. Its error is that
// the work was stopped.
func siftAll(ctx context.Context, c *cli.Command, paths []string) ([]fileSifted, error) {
	outcomes := make([]fileSifted, len(paths))
	all := c.Int("workers")
	one := func(i, workers int) {
		if ctx.Err() == nil {
			outcomes[i] = siftOne(ctx, c, paths[i], workers)
		}
	}
	small, large := make(chan int, len(paths)), []int{}
	for i, path := range paths {
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() && info.Size() <= smallFile {
			small <- i
		} else {
			large = append(large, i)
		}
	}
	close(small)
	var group guard.Group
	for range all {
		group.Go(func() error {
			for i := range small {
				one(i, 1)
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	for _, i := range large {
		one(i, all)
	}
	return outcomes, ctx.Err()
}

var errUnread = errors.New("not all files could be read")

// siftOne audits one of several files, and gives back what it held.
func siftOne(ctx context.Context, c *cli.Command, path string, workers int) (out fileSifted) {
	kept, done, err := orInput(c, path)
	if err != nil {
		return fileSifted{err: err}
	}
	defer done()
	result, file, _, err := sift(ctx, c, kept, workers)
	if err == nil {
		err = file.Close()
	}
	if err != nil {
		return fileSifted{err: err}
	}
	score := ""
	if result.Passed != nil {
		score = percent(result.Score)
	}
	out.line = []string{path, count(result.Rows), count(int64(len(result.Columns))), score, verdict(result.Passed),
		count(int64(len(result.Findings))), count(int64(len(result.Leads))), shorten(costliest(result.Result), 90)}
	if out.fellShort = result.FellShort(); c.Bool("json") {
		out.result = result
	}
	return out
}

// costliest says what costs a table most: the gravest finding, else the first lead.
func costliest(r *audit.Result) string {
	if len(r.Findings) > 0 {
		return slices.MinFunc(r.Findings, graver).Found
	}
	if gathered := leads.Gather(r.Leads); len(gathered) > 0 {
		return gathered[0].Says[0]
	}
	return ""
}

// orInput keeps what comes in on the standard input, where that is meant, in a file that nobody else sees, until done.
func orInput(c *cli.Command, path string) (kept string, done func(), err error) {
	if path != "-" {
		return path, func() {}, nil
	}
	directory, err := os.MkdirTemp("", "proudsieve-")
	if err != nil {
		return "", nil, err
	}
	done = func() { _ = os.RemoveAll(directory) }
	f, err := os.OpenFile(filepath.Join(directory, "standard_input"), os.O_CREATE|os.O_WRONLY|os.O_EXCL, 0o600)
	if err == nil {
		_, err = io.Copy(f, c.Root().Reader)
		err = errors.Join(err, f.Close())
	}
	if err != nil {
		done()
		return "", nil, fmt.Errorf("the standard input cannot be kept: %w", err)
	}
	return filepath.Join(directory, "standard_input"), done, nil
}
