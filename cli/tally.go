package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/core/audit"
	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/relation"
	"proudsieve/core/tally"
)

// tallyFlags are what a tally is asked by.
func tallyFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{Name: "by", Usage: "a column, or what is made of several, as \"DATE_TRUNC('month', day)\" or \"FLOOR(flow / 5) * 5\"; may be given twice"},
		&cli.StringSliceFlag{Name: "measure", Usage: "what is told of each group, as \"sum flow\" or \"median flow * depth\": rows, filled, distinct, sum, mean, median, first_quartile, third_quartile, lowest, highest; may be given several times"},
		&cli.StringFlag{Name: "share", Usage: "tell rows, filled and sums as shares in percent: of all, of their row or of their column; or any measure as its change against the period before"},
		&cli.StringFlag{Name: "where", Usage: "only rows for which this condition holds"},
		&cli.IntFlag{Name: "top", Value: tally.Top, Usage: "how many groups are told of on their own; the others are gathered"},
		&cli.StringFlag{Name: "order", Usage: "group, rows or a measure; texts by their rows and all else by value where it is left out"},
		&cli.BoolFlag{Name: "falling", Usage: "the greatest first"},
	}
}

func tallyCommand() *cli.Command {
	return &cli.Command{
		DisableSliceFlagSeparator: true, // an expression has commas of its own
		Name:                      "tally", Usage: "tell of the rows of a file by group, without any service", ArgsUsage: "FILE",
		Description: "Groups are the values of a column, or of whatever the condition language can work out of a row. Counts, sums, means and\nextremes are exact; medians, quartiles and counts of different values are too, unless 262,144 are met\nand a group has more than 2,048 of them; what is estimated says so (≈). Of a table of the service: table tally.",
		Flags: append(append(tallyFlags(), &cli.StringFlag{Name: "rules", Usage: "the rulebook by which it is read"},
			&cli.IntFlag{Name: "workers", Usage: "how many parts of the file are read at once", Value: runtime.NumCPU()}, jsonFlag()), readingFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := arguments(c, "FILE")
			if err != nil {
				return err
			}
			found, err := tallyFile(ctx, c, args[0])
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			o := outputOf(c)
			if o.json {
				return o.printJSON(found)
			}
			o.line("%s", o.styled("1", safe(filepath.Base(args[0]))))
			o.tally(found)
			return nil
		},
	}
}

// tallyFile tallies a file. Columns that nobody declared are read once before, since all of their values decide their types.
func tallyFile(ctx context.Context, c *cli.Command, path string) (*tally.Tally, error) {
	tune(siftMemory)
	fixed, err := readingOf(c)
	if err != nil {
		return nil, err
	}
	book, err := readRulebook(c.String("rules"))
	if err != nil {
		return nil, err
	}
	read, err := openFile(ctx, path, book, fixed)
	if err != nil {
		return nil, err
	}
	defer read.file.Close()
	t := &relation.Table{Source: read.file, Book: read.book, Workers: c.Int("workers")}
	open := func(name string) bool { declared := t.Book.Column(name); return declared == nil || declared.Open }
	if slices.ContainsFunc(t.Source.Columns(), open) {
		result, err := audit.Run(ctx, read.file, t.Book, t.Workers)
		if err != nil {
			return nil, err
		}
		t.Book = result.Book()
	}
	asked := questionOf(c)
	if where := c.String("where"); where != "" {
		holds, mistakes := condition.Compile(where, t.Types())
		if len(mistakes) > 0 {
			return nil, fmt.Errorf("the condition cannot be used: %w", mistakes[0])
		}
		if asked.Rows, err = relation.Where(ctx, t, relation.Choice{Holds: holds}); err != nil {
			return nil, err
		}
	}
	return tally.Of(ctx, t, asked)
}

func questionOf(c *cli.Command) tally.Question {
	asked := tally.Question{By: c.StringSlice("by"), Top: c.Int("top"), Order: tally.Order{By: c.String("order"), Falling: c.Bool("falling")}}
	for _, text := range measuresOf(c) {
		m := tally.MeasureOf(text)
		m.Share = c.String("share")
		asked.Measures = append(asked.Measures, m)
	}
	return asked
}

// measuresOf are the measures asked for; rows where none is.
func measuresOf(c *cli.Command) []string {
	if asked := c.StringSlice("measure"); len(asked) > 0 {
		return asked
	}
	return []string{tally.MeasureRows}
}

func tableTallyCommand() *cli.Command {
	c := verb("tally", "its rows by group, with what measures say of each", "TABLE", tallyFlags(), tableTally)
	c.DisableSliceFlagSeparator = true
	return c
}

func tableTally(ctx context.Context, s *session, args []string) error {
	id, err := idOf(args[0])
	if err != nil {
		return err
	}
	c := s.command
	found, err := client.Decode[tally.Tally](s.ShowTally(ctx, id, &client.ShowTallyParams{By: c.StringSlice("by"), Measure: measuresOf(c),
		Share: client.ShowTallyParamsShare(c.String("share")), Where: c.String("where"), Top: int64(c.Int("top")), Order: c.String("order"), Falling: c.Bool("falling")}))
	return show(s, found, err, s.tally)
}

// tally prints groups as a table: of one measure by two expressions across the page, else a line for each group.
func (o *output) tally(t *tally.Tally) {
	for _, by := range t.By {
		o.line("by %s, %s%s", safe(by.Expression), document.Counted(int64(len(by.Groups)+by.Rest), "group", "groups"), restOf(by))
	}
	if len(t.By) == 2 && len(t.Measures) == 1 {
		o.line("%s in each", safe(t.Measures[0].Name()))
		o.line("")
		o.crossed(t)
		return
	}
	o.line("")
	heads := []string{}
	for _, by := range t.By {
		heads = append(heads, safe(by.Expression))
	}
	if len(t.By) == 0 {
		heads = append(heads, "")
	}
	for _, m := range t.Measures {
		heads = append(heads, ">"+safe(m.Name()))
	}
	g := newGrid(heads...)
	line := func(told tally.Tallied, names ...string) { g.add(append(names, textsOf(told)...)...) }
	switch len(t.By) {
	case 0:
	case 1:
		for i, told := range t.Downs {
			line(told, nameOf(t, 0, i))
		}
	default:
		for i := range t.Cells {
			for k, told := range t.Cells[i] {
				if told.Rows > 0 {
					line(told, nameOf(t, 0, i), nameOf(t, 1, k))
				}
			}
		}
	}
	total := []string{"all"}
	if len(t.By) == 2 {
		total = append(total, "")
	}
	line(t.All, total...)
	o.grid(g, "There is no row.")
}

// figure writes a number for people; what is not told in a few digits is in the JSON.
func figure(text string) string {
	if x, err := strconv.ParseFloat(text, 64); err == nil && len(text) > 12 && strings.Contains(text, ".") {
		return document.Figure(x)
	}
	return text
}

// nameOf is what a group is called, with stray spaces made visible.
func nameOf(t *tally.Tally, by, i int) string { return safe(visible(t.By[by].NameOf(i))) }

// textsOf are the values of a group, with a sign before those that are estimates.
func textsOf(told tally.Tallied) []string {
	out := make([]string, len(told.Values))
	for i, text := range told.Values {
		if out[i] = figure(text); told.Estimated != nil && told.Estimated[i] {
			out[i] = "≈ " + out[i]
		}
	}
	return out
}

func restOf(by tally.GroupedBy) string {
	if by.Rest == 0 {
		return ""
	}
	return fmt.Sprintf(", the first %d of them on their own (--top)", len(by.Groups))
}

func (o *output) crossed(t *tally.Tally) {
	heads := []string{safe(t.By[0].Expression)}
	for k := range t.Across {
		heads = append(heads, ">"+nameOf(t, 1, k))
	}
	g := newGrid(append(heads, ">all")...)
	line := func(name string, cells []tally.Tallied, all tally.Tallied) {
		out := []string{name}
		for _, told := range cells {
			out = append(out, textsOf(told)[0])
		}
		g.add(append(out, textsOf(all)[0])...)
	}
	for i := range t.Cells {
		line(nameOf(t, 0, i), t.Cells[i], t.Downs[i])
	}
	line("all", t.Across, t.All)
	o.grid(g, "There is no row.")
}
