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
	"proudsieve/core/leads"
)

// siftEach audits several files, a line each; its error is that of the worst.
func (o *output) siftEach(ctx context.Context, c *cli.Command, paths []string) error {
	if c.String("column") != "" || c.Bool("between") {
		return errors.New("--column and --between look into one file; name one")
	}
	g := newGrid("file", ">rows", ">columns", ">score", "passed", ">findings", ">leads", "what may cost most")
	var results []*sifted
	var worst error
	for _, path := range paths {
		result, err := siftOne(ctx, c, path)
		if err != nil {
			if ctx.Err() != nil {
				return err
			}
			fmt.Fprintf(o.err, "proudsieve: %s\n", safe(err.Error()))
			g.add(path, "", "", "", "could not be read", "", "", "")
			worst = errUnread
			continue
		}
		if results = append(results, result); result.FellShort() && worst == nil {
			worst = errFellShort
		}
		score := ""
		if result.Passed != nil {
			score = percent(result.Score)
		}
		g.add(path, count(result.Rows), count(int64(len(result.Columns))), score, verdict(result.Passed),
			count(int64(len(result.Findings))), count(int64(len(result.Leads))), shorten(costliest(result.Result), 90))
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

var errUnread = errors.New("not all files could be read")

// siftOne audits one of several files, and gives back what it held.
func siftOne(ctx context.Context, c *cli.Command, path string) (*sifted, error) {
	path, done, err := orInput(c, path)
	if err != nil {
		return nil, err
	}
	defer done()
	result, file, _, err := sift(ctx, c, path)
	if err != nil {
		return nil, err
	}
	return result, file.Close()
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
