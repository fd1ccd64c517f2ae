package cli

import (
	"bytes"
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
	"proudsieve/core/table"
)

func tryPlanCommand() *cli.Command {
	return alone("try", "show what a fix plan in a file does to a file; with --into also write what it makes", "FILE",
		[]cli.Flag{
			&cli.StringFlag{Name: "rules", Usage: "the rulebook of the file", Required: true},
			&cli.StringFlag{Name: "plan", Usage: "the fix plan", Required: true},
			&cli.StringFlag{Name: "result-rules", Usage: "the rulebook of what it makes, where that is another dataset"},
			&cli.StringFlag{Name: "into", Usage: "write the cleaned table here, with its change log and metadata beside it; nothing is judged then"},
			&cli.IntFlag{Name: "weigh", Usage: "compare the methods for this step, which estimates, instead"},
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
	if step := c.Int("weigh"); step != 0 {
		compared, err := fix.Compare(ctx, t.in, t.plan, step, t.workers)
		if err != nil {
			return err
		}
		if o.json {
			return o.printJSON(compared)
		}
		o.compared(compared)
		return nil
	}
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
	marks     bytes.Buffer // of what was made
	marked    *table.Marks // the same, read; nil where none are
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
	out.Marks = &t.marks
	t.ledger, err = fix.Run(ctx, t.in, t.plan, t.workers, out)
	return err
}

// made opens the table that was made, with its marks.
func (t *planTrial) made(ctx context.Context, made *os.File) (*intake.File, error) {
	source, err := intake.Open(ctx, content.Of(made), t.result.ForTable(t.ledger.Reading).Reading)
	if err != nil {
		return nil, err
	}
	marks, err := table.ReadMarks(bytes.NewReader(t.marks.Bytes()))
	if marks.Count() > 0 {
		source.Estimated, t.marked = marks, marks
	}
	return source, err
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

// beside are the files that are written beside a table, for those that it needs.
type beside struct{ log, rows, marks, draws, metadata string }

func besideOf(into string) beside {
	base := strings.TrimSuffix(into, filepath.Ext(into))
	return beside{base + "_changes.jsonl", base + "_rows.jsonl", base + marksSuffix, base + "_draws.parquet", into + csvw.Suffix}
}

// marksSuffix is what the name of the file of marks has after that of the table, without its extension.
const marksSuffix = "_marks.jsonl"

// save writes what is made, with what belongs to it beside it; all of it, or nothing.
func (t *planTrial) save(ctx context.Context, o *output, into string) error {
	names := besideOf(into)
	scratch := func(name string) (*os.File, error) { return os.Create(filepath.Join(t.directory, name)) }
	rows, err := scratch("rows")
	if err != nil {
		return err
	}
	defer rows.Close()
	draws, err := scratch("draws")
	if err != nil {
		return err
	}
	defer draws.Close()
	copied := func(wanted bool, name string, from *os.File) error {
		if !wanted {
			return nil
		}
		return save(name, func(f *os.File) error {
			_, err := io.Copy(f, io.NewSectionReader(from, 0, math.MaxInt64))
			return err
		})
	}
	if err := save(into, func(table *os.File) error {
		return save(names.log, func(changes *os.File) error {
			if err := t.run(ctx, fix.Outputs{Table: table, Log: changes, Map: rows, Draws: draws}); err != nil {
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
			if err := errors.Join(copied(t.ledger.MadeRows(), names.rows, rows), copied(t.ledger.Drawn(), names.draws, draws)); err != nil {
				return err
			}
			var marks *csvw.Marks
			if t.marked != nil {
				marks = &csvw.Marks{URL: filepath.Base(names.marks), SHA256: t.marked.Digest, Cells: t.ledger.Estimates}
				if err := save(names.marks, func(f *os.File) error { _, err := f.Write(t.marks.Bytes()); return err }); err != nil {
					return err
				}
			}
			return save(names.metadata, func(f *os.File) error {
				_, err := f.Write(csvw.OfTable(t.result, t.ledger.Reading, marks, filepath.Base(into)))
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
	o.line("Written to %s, with its change log in %s and its metadata in %s.", into, names.log, names.metadata)
	if t.ledger.MadeRows() {
		o.line("Of which rows each of its rows was made stands in %s.", names.rows)
	}
	if t.marked != nil {
		o.line("Which of its cells are estimates stands in %s; keep it beside the table.", names.marks)
	}
	if t.ledger.Drawn() {
		o.line("The draws of them beyond the first are in %s.", names.draws)
	}
	return nil
}
