package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"github.com/urfave/cli/v3"

	"proudsieve/core/audit"
	"proudsieve/core/fix"
	"proudsieve/core/intake"
	"proudsieve/core/intake/content"
	"proudsieve/core/rulebook"
	"proudsieve/core/rulebook/csvw"
)

func tryPlanCommand() *cli.Command {
	return alone("try", "show what a fix plan in a file does to a file; with --into also write what it makes", "FILE",
		[]cli.Flag{
			&cli.StringFlag{Name: "rules", Usage: "the rulebook of the file", Required: true},
			&cli.StringFlag{Name: "plan", Usage: "the fix plan", Required: true},
			&cli.StringFlag{Name: "result-rules", Usage: "the rulebook of what it makes, where that is another dataset"},
			&cli.StringFlag{Name: "into", Usage: "write the cleaned table here, with its change log and metadata beside it; nothing is judged then"},
			&cli.IntFlag{Name: "workers", Usage: "how many parts of the file are worked on at once", Value: runtime.NumCPU()},
		}, tryPlan)
}

// tryPlan runs a fix plan on a file, and shows what it does or writes what it makes.
func tryPlan(ctx context.Context, c *cli.Command, o *output, args []string) error {
	tune(siftMemory)
	t, err := openTrial(ctx, c, args[0])
	if err != nil {
		return err
	}
	defer t.close()
	if into := c.String("into"); into != "" {
		return t.save(ctx, o, into)
	}
	made, err := os.Create(filepath.Join(t.directory, "table.csv"))
	if err != nil {
		return err
	}
	defer made.Close()
	if err := t.run(ctx, fix.Outputs{Table: made}); err != nil {
		return err
	}
	shown := fix.Preview{Ledger: *t.ledger, ChangeCount: t.ledger.Changes(), Since: []fix.Since{}}
	if shown.Before, err = audit.Run(ctx, t.in.Source, t.in.Book, t.workers); err != nil {
		return err
	}
	if shown.After, err = t.judged(ctx, made); err != nil {
		return err
	}
	if o.json {
		return o.printJSON(shown)
	}
	o.preview(&shown)
	return nil
}

// planTrial is a fix plan that is tried on a file, with what it makes in a directory of its own.
type planTrial struct {
	in        fix.Input
	file      *intake.File
	plan      *fix.Plan
	result    *rulebook.Rulebook
	workers   int
	directory string
	ledger    *fix.Ledger
}

func openTrial(ctx context.Context, c *cli.Command, path string) (*planTrial, error) {
	book, err := readRulebook(c.String("rules"))
	if err != nil {
		return nil, err
	}
	if book == nil {
		return nil, errors.New("--rules names no file; a fix plan needs the rulebook")
	}
	t := &planTrial{workers: c.Int("workers"), result: book}
	if other := c.String("result-rules"); other != "" {
		if t.result, err = readRulebook(other); err != nil {
			return nil, err
		}
		t.in.Result = t.result
	}
	raw, err := readFile(c.String("plan"))
	if err != nil {
		return nil, err
	}
	if t.plan, err = fix.ParseFor(raw, book, t.result); err != nil {
		return nil, fmt.Errorf("%s:\n%w", c.String("plan"), err)
	}
	if t.plan.Makes != t.result.Dataset {
		return nil, fmt.Errorf("the plan makes tables of %s; name the rulebook of that dataset with --result-rules", t.plan.Makes)
	}
	opened, err := openFile(ctx, path, book, intake.Reading{})
	if err != nil {
		return nil, err
	}
	t.file, t.in.Source, t.in.Book = opened.file, opened.file, opened.book
	if t.directory, err = os.MkdirTemp("", "proudsieve-try-"); err != nil {
		return nil, errors.Join(err, t.file.Close())
	}
	return t, nil
}

func (t *planTrial) close() {
	_ = t.file.Close()
	_ = os.RemoveAll(t.directory)
}

func (t *planTrial) run(ctx context.Context, out fix.Outputs) (err error) {
	t.ledger, err = fix.Run(ctx, t.in, t.plan, t.workers, out)
	return err
}

// made opens the table that was made.
func (t *planTrial) made(ctx context.Context, made *os.File) (*intake.File, error) {
	return intake.Open(ctx, content.Of(made), t.result.ForTable(t.ledger.Reading).Reading)
}

// judged audits what was made.
func (t *planTrial) judged(ctx context.Context, made *os.File) (*audit.Result, error) {
	source, err := t.made(ctx, made)
	if err != nil {
		return nil, err
	}
	defer source.Close()
	return audit.Run(ctx, source, t.result.ForTable(t.ledger.Reading), t.workers)
}

// save writes what is made, with its change log, its map of rows and its metadata beside it; all of them, or none.
func (t *planTrial) save(ctx context.Context, o *output, into string) error {
	base := strings.TrimSuffix(into, filepath.Ext(into))
	log, rows := base+"_changes.jsonl", base+"_rows.jsonl"
	made := false // other rows
	if err := save(into, func(table *os.File) error {
		return save(log, func(changes *os.File) error {
			kept, err := os.Create(filepath.Join(t.directory, "rows.jsonl"))
			if err != nil {
				return err
			}
			defer kept.Close()
			if err := t.run(ctx, fix.Outputs{Table: table, Log: changes, Map: kept}); err != nil {
				return err
			}
			if err := t.ledger.Refused(); err != nil {
				return err
			}
			source, err := t.made(ctx, table)
			if err != nil {
				return err
			}
			defer source.Close()
			if err := fix.Verify(ctx, source, t.result, t.ledger, t.workers); err != nil {
				return err
			}
			if made = t.ledger.MadeRows(); made {
				if err := save(rows, func(f *os.File) error {
					_, err := io.Copy(f, io.NewSectionReader(kept, 0, math.MaxInt64))
					return err
				}); err != nil {
					return err
				}
			}
			return save(into+csvw.Suffix, func(f *os.File) error {
				_, err := f.Write(csvw.OfTable(t.result, t.ledger.Reading, filepath.Base(into)))
				return err
			})
		})
	}); err != nil {
		return err
	}
	if o.json {
		return o.printJSON(t.ledger)
	}
	o.ledger(t.ledger)
	o.line("Written to %s, with its change log in %s and its metadata in %s.", into, log, into+csvw.Suffix)
	if made {
		o.line("Of which rows each of its rows was made stands in %s.", rows)
	}
	return nil
}
