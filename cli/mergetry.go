package cli

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"github.com/urfave/cli/v3"

	"proudsieve/core/intake"
	"proudsieve/core/merge"
	"proudsieve/core/rulebook"
	"proudsieve/core/rulebook/csvw"
	"proudsieve/core/table"
)

func tryMergeCommand() *cli.Command {
	return alone("try", "merge files as a merge in a file says, and show its accounting; needs no service", "MERGE",
		[]cli.Flag{
			&cli.StringSliceFlag{Name: "table", Usage: "the file of a dataset, as stations=stations.csv; once for each, and for each delivery that is stacked, the oldest first", Required: true},
			&cli.StringSliceFlag{Name: "rules", Usage: "the rulebook of a dataset, as stations=stations.yaml"},
			&cli.StringFlag{Name: "into", Usage: "write the merged table here; it is made and left out otherwise"},
			&cli.StringFlag{Name: "unmet", Usage: "write the rows that find no partner here"},
			&cli.IntFlag{Name: "workers", Usage: "how many parts of a file are worked on at once", Value: runtime.NumCPU()},
		}, tryMerge)
}

// filesOf splits each NAME=FILE; of one name there may be several files.
func filesOf(flag string, all []string) (map[string][]string, error) {
	out := map[string][]string{}
	for _, one := range all {
		name, file, ok := strings.Cut(one, "=")
		if !ok || name == "" || file == "" {
			return nil, fmt.Errorf("--%s is a dataset and a file, as stations=stations.csv, not %q", flag, one)
		}
		out[name] = append(out[name], file)
	}
	return out, nil
}

// tryMerge merges files.
func tryMerge(ctx context.Context, c *cli.Command, o *output, args []string) error {
	tune(siftMemory)
	raw, err := readFile(args[0])
	if err != nil {
		return err
	}
	plan, err := merge.Parse(raw)
	if err != nil {
		return fmt.Errorf("%s:\n%w", args[0], err)
	}
	files, err := filesOf("table", c.StringSlice("table"))
	if err != nil {
		return err
	}
	rules, err := filesOf("rules", c.StringSlice("rules"))
	if err != nil {
		return err
	}
	var inputs merge.Inputs
	for _, name := range plan.Datasets() {
		if len(files[name]) == 0 {
			return fmt.Errorf("the merge takes a table of %s; name its file with --table %s=FILE", name, name)
		}
		rules := append(rules[name], "")[0]
		for at, file := range files[name] {
			book, err := readRulebook(rules) // one for each, since a table's own reading goes into it
			if err != nil {
				return err
			}
			opened, err := openFile(ctx, file, book, intake.Reading{})
			if err != nil {
				return err
			}
			defer opened.file.Close()
			in := merge.Input{Dataset: name, Source: opened.file, Book: opened.book, Name: filepath.Base(file)}
			if len(files[name]) > 1 {
				in.Table = int64(at + 1)
			}
			inputs = append(inputs, in)
		}
	}
	var a *merge.Accounting
	var marks bytes.Buffer
	unmet := c.String("unmet")
	run := func(out *os.File) (err error) {
		outputs := merge.Outputs{Table: out, Marks: &marks}
		if unmet == "" {
			a, err = merge.Run(ctx, plan, inputs, c.Int("workers"), outputs)
			return err
		}
		return save(unmet, func(f *os.File) error {
			outputs.Unmet = f
			a, err = merge.Run(ctx, plan, inputs, c.Int("workers"), outputs)
			return err
		})
	}
	into := c.String("into")
	if into == "" {
		nowhere, err := os.OpenFile(os.DevNull, os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		defer nowhere.Close()
		if err := run(nowhere); err != nil {
			return err
		}
	} else if err := save(into, run); err != nil {
		return err
	}
	if into != "" {
		if err := metadataOf(into, plan, a, marks.Bytes()); err != nil {
			return err
		}
	}
	if o.json {
		return o.printJSON(a)
	}
	o.accounting(a)
	if into != "" {
		o.line("Written to %s.", into)
	}
	if unmet != "" {
		o.line("%s. Written to %s.", unmetSays(a.Unmet), unmet)
	}
	return nil
}

// metadataOf writes beside a merged table how it is read, and which of its cells are estimates.
func metadataOf(into string, plan *merge.Plan, a *merge.Accounting, raw []byte) error {
	var named *csvw.Marks
	if len(a.Estimates) > 0 {
		at := besideOf(into).marks
		if err := save(at, func(f *os.File) error { _, err := f.Write(raw); return err }); err != nil {
			return err
		}
		marks, err := table.ReadMarks(bytes.NewReader(raw))
		if err != nil {
			return err
		}
		named = &csvw.Marks{URL: filepath.Base(at), SHA256: marks.Digest, Cells: a.Estimates}
	}
	return save(into+csvw.Suffix, func(f *os.File) error {
		_, err := f.Write(csvw.OfTable(&rulebook.Rulebook{Dataset: plan.Name, Title: plan.Title}, a.Reading, named, filepath.Base(into)))
		return err
	})
}
