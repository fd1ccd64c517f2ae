package cli

import (
	"context"
	"errors"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/core/document"
	"proudsieve/core/merge"
	"proudsieve/service/api"
)

// totalsFlags say which totals should agree.
func totalsFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{Name: "by", Usage: "what a group has in common: a column, or what is worked out of a row, as \"DATE_TRUNC('month', day)\"; may be given several times"},
		&cli.StringSliceFlag{Name: "by-there", Usage: "the same in the other table, where it is called otherwise there"},
		&cli.StringFlag{Name: "of", Usage: "a column of numbers, or an expression; the number of rows where it is left out"},
		&cli.StringFlag{Name: "of-there", Usage: "the same in the other table, where it is called otherwise there"},
		&cli.StringFlag{Name: "where", Usage: "only rows for which this condition holds"},
		&cli.StringFlag{Name: "where-there", Usage: "the same in the other table"},
		&cli.StringFlag{Name: "factor", Usage: "what the totals there are multiplied by, as 1000"},
		&cli.StringFlag{Name: "tolerance", Usage: "how far two totals may lie apart"},
		&cli.StringFlag{Name: "percent", Usage: "the same in percent of the total there"},
		&cli.StringSliceFlag{Name: "group", Usage: "show the rows of one group that make up its difference: its value for each --by"},
		&cli.StringSliceFlag{Name: "key", Usage: "the columns that tell rows apart, with --group"},
		&cli.StringSliceFlag{Name: "key-there", Usage: "the same in the other table"},
		&cli.IntFlag{Name: "limit", Value: 20, Usage: "how many groups that do not agree are shown"},
	}
}

func tableTotalsCommand() *cli.Command {
	c := verb("totals", "hold the totals of a table against those of another that should agree", "TABLE OTHER", totalsFlags(), tableTotals)
	c.DisableSliceFlagSeparator = true // an expression has commas of its own
	return c
}

func tableTotals(ctx context.Context, s *session, args []string) error {
	here, err := idOf(args[0])
	if err != nil {
		return err
	}
	there, err := idOf(args[1])
	if err != nil {
		return err
	}
	c := s.command
	if group := c.StringSlice("group"); len(group) > 0 {
		if len(c.StringSlice("key")) == 0 {
			return errors.New("--key names the columns that tell rows apart")
		}
		found, err := client.Decode[merge.GroupRows](s.ShowTotalRows(ctx, here, &client.ShowTotalRowsParams{With: there, By: c.StringSlice("by"), ByThere: c.StringSlice("by-there"),
			Of: c.String("of"), OfThere: c.String("of-there"), Where: c.String("where"), WhereThere: c.String("where-there"), Factor: c.String("factor"),
			Group: group, Key: c.StringSlice("key"), KeyThere: c.StringSlice("key-there")}))
		return show(s, found, err, s.groupRows)
	}
	found, err := client.Decode[merge.Reconciled](s.ShowTotals(ctx, here, &client.ShowTotalsParams{With: there, By: c.StringSlice("by"), ByThere: c.StringSlice("by-there"),
		Of: c.String("of"), OfThere: c.String("of-there"), Where: c.String("where"), WhereThere: c.String("where-there"), Factor: c.String("factor"),
		Tolerance: c.String("tolerance"), Percent: c.String("percent"), Limit: int64(c.Int("limit"))}))
	return show(s, found, err, s.reconciled)
}

// reconciled shows which totals agree.
func (o *output) reconciled(r *merge.Reconciled) {
	o.line("%s agree, %s differ, %s only here, %s only there. The whole sum is %s here and %s there.", document.Counted(r.Agree, "total", "totals"), count(r.Differ),
		count(r.OnlyHere)+" "+document.Plural(r.OnlyHere, "is", "are"), count(r.OnlyThere)+" "+document.Plural(r.OnlyThere, "is", "are"), r.Here, r.There)
	for _, c := range r.Causes {
		o.line("%s %s", o.styled("1", "Perhaps:"), visible(c.Says))
		for _, hint := range causeHints(c) {
			o.line("  %s", visible(hint))
		}
	}
	if len(r.Groups) == 0 {
		return
	}
	g := newGrid(append(append([]string{}, r.By...), ">here", ">there", ">apart", ">rows here", ">rows there")...)
	for _, p := range r.Groups {
		cells := make([]string, 0, len(p.Key)+5)
		for _, text := range p.Key {
			cells = append(cells, visible(shorten(text, 32)))
		}
		g.add(append(cells, p.Here, p.There, p.Apart, count(p.RowsHere), count(p.RowsThere))...)
	}
	o.grid(g, "")
	if of := r.Differ + r.OnlyHere + r.OnlyThere; of > int64(len(r.Groups)) {
		o.line("The first %d of %s that do not agree, the furthest apart first; --limit shows more.", len(r.Groups), count(of))
	}
}

// causeHints say what to ask instead.
func causeHints(c merge.Cause) (out []string) {
	quoted := func(flag string, all []string) {
		if len(all) == 0 {
			return
		}
		parts := make([]string, len(all))
		for i, one := range all {
			parts[i] = "--" + flag + ` "` + one + `"`
		}
		out = append(out, "ask again with "+strings.Join(parts, " "))
	}
	for _, one := range [][2]string{{"factor", c.Factor}, {"tolerance", c.Tolerance}, {"where", c.Where}, {"where-there", c.WhereThere}} {
		if one[1] != "" {
			quoted(one[0], []string{one[1]})
		}
	}
	quoted("by", c.By)
	quoted("by-there", c.ByThere)
	return out
}

// groupRows shows which rows make up the difference of a group.
func (o *output) groupRows(r *merge.GroupRows) {
	o.line("In %s, %s the same on both sides.", visible(strings.Join(r.Group, ", ")), document.Counted(r.Same, "row is", "rows are"))
	for _, kind := range []struct {
		says, apart string
		of          int64
		rows        []merge.RowPair
	}{{"with another number", r.DifferApart, r.DifferRows, r.Differ}, {"only here", r.OnlyHereApart, r.OnlyHereRows, r.OnlyHere}, {"only there", r.OnlyThereApart, r.OnlyThereRows, r.OnlyThere}} {
		if kind.of == 0 {
			continue
		}
		o.line("%s %s, which make up %s of the difference", document.Counted(kind.of, "row", "rows"), kind.says, kind.apart)
		g := newGrid("key", ">row here", ">row there", ">here", ">there")
		for _, p := range kind.rows {
			g.add(visible(shorten(strings.Join(p.Key, " / "), 40)), rowNumber(p.RowHere), rowNumber(p.RowThere), p.Here, p.There)
		}
		o.grid(g, "")
		if more := kind.of - int64(len(kind.rows)); more > 0 {
			o.line("and %s more", count(more))
		}
	}
}

func rowNumber(row uint32) string {
	if row == 0 {
		return ""
	}
	return count(int64(row))
}

func tableRevisionCommand() *cli.Command {
	return verb("revision", "how the rows of a table differ from those of an earlier one, by a key", "TABLE", []cli.Flag{
		&cli.IntFlag{Name: "with", Usage: "the earlier table; the one before where it is left out"},
		&cli.StringSliceFlag{Name: "key", Usage: "the columns that tell rows apart; the key of the rulebook where they are left out"},
		&cli.StringFlag{Name: "kind", Usage: "show rows that are changed, came or went", Value: "changed"},
		&cli.IntFlag{Name: "offset", Usage: "from this one of them on"},
		&cli.IntFlag{Name: "limit", Value: 20, Usage: "how many of them are shown"},
		&cli.StringFlag{Name: "into", Usage: "write all of them to this file, as CSV"},
	}, tableRevision)
}

// tableRevisionShown is what table revision tells in JSON.
type tableRevisionShown struct {
	*api.RevisionShown
	Rows *api.RevisedRows `json:"rows"`
}

func tableRevision(ctx context.Context, s *session, args []string) error {
	id, err := idOf(args[0])
	if err != nil {
		return err
	}
	c := s.command
	with, key := int64(c.Int("with")), c.StringSlice("key")
	found, err := client.Decode[api.RevisionShown](s.ShowRevision(ctx, id, &client.ShowRevisionParams{With: with, Key: key}))
	if err != nil {
		return err
	}
	if into := c.String("into"); into != "" {
		if err := save(into, func(f *os.File) error {
			all, err := s.DownloadRevision(ctx, id, &client.DownloadRevisionParams{With: with, Key: key})
			return client.Save(f, all, err)
		}); err != nil {
			return err
		}
	}
	rows, err := client.Decode[api.RevisedRows](s.ShowRevisedRows(ctx, id, &client.ShowRevisedRowsParams{With: with, Key: key,
		Kind: client.ShowRevisedRowsParamsKind(c.String("kind")), Offset: int64(c.Int("offset")), Limit: int64(c.Int("limit"))}))
	return show(s, &tableRevisionShown{found, rows}, err, func(r *tableRevisionShown) {
		s.revision(r.RevisionShown)
		s.revisedRows(c.String("kind"), r.Rows)
		if into := c.String("into"); into != "" {
			s.line("All of them are written to %s.", into)
		}
	})
}

// revision shows how a table differs from an earlier one.
func (o *output) revision(r *api.RevisionShown) {
	o.line("%s, table %d against table %d, by %s.", r.After.Dataset, r.After.ID, r.Before.ID, visible(strings.Join(r.Key, ", ")))
	o.line("%s the same, %s changed, %s came, %s went; there were %s and are %s.", document.Counted(r.Same, "row is", "rows are"), count(r.Changed), count(r.Came), count(r.Went),
		document.Counted(r.RowsBefore, "row", "rows"), count(r.RowsAfter))
	if r.Unkeyed > 0 {
		o.line("%s no whole key and %s compared by all their cells.", document.Counted(r.Unkeyed, "row has", "rows have"), document.Plural(r.Unkeyed, "is", "are"))
	}
	if r.Repeated > 0 {
		o.line("%s a key that another row of the same table has; these are paired in the order of the tables.", document.Counted(r.Repeated, "row has", "rows have"))
	}
	for _, one := range []struct {
		says  string
		names []string
	}{{"new", r.ColumnsCame}, {"gone", r.ColumnsWent}} {
		if len(one.names) > 0 {
			o.line("Columns that are %s: %s", one.says, visible(strings.Join(one.names, ", ")))
		}
	}
	g := newGrid("column", ">rows changed", ">filled", ">emptied")
	for _, c := range r.Columns {
		if c.Rows > 0 {
			g.add(visible(c.Column), count(c.Rows), count(c.Filled), count(c.Emptied))
		}
	}
	o.grid(g, "No cell of a row that both tables have differs.")
	if len(r.Sums) > 0 {
		g := newGrid("sum of", ">before", ">came", ">went", ">changed", ">after")
		for _, one := range r.Sums {
			g.add(visible(one.Measure), one.Before, one.Came, one.Went, one.Changed, one.After)
		}
		o.grid(g, "")
	}
}

// revisedRows shows rows that came, went or changed.
func (o *output) revisedRows(kind string, r *api.RevisedRows) {
	if len(r.Rows) == 0 {
		return
	}
	if kind == merge.RowChanged {
		g := newGrid("key", ">row before", ">row now", "column", "before", "now")
		for _, one := range r.Rows {
			for _, cell := range one.Cells {
				g.add(visible(shorten(strings.Join(one.Key, " / "), 32)), rowNumber(one.RowBefore), rowNumber(one.RowAfter), visible(cell.Column), visible(shorten(cell.Before, 24)), visible(shorten(cell.After, 24)))
			}
		}
		o.grid(g, "")
	} else {
		g := newGrid("key", ">row", "cells")
		for _, one := range r.Rows {
			cells := make([]string, len(one.Cells))
			for i, cell := range one.Cells {
				cells[i] = cell.Before + cell.After
			}
			g.add(visible(shorten(strings.Join(one.Key, " / "), 32)), rowNumber(max(one.RowBefore, one.RowAfter)), visible(shorten(strings.Join(cells, ", "), 80)))
		}
		o.grid(g, "")
	}
	if shown := int64(r.Offset + len(r.Rows)); shown < r.Of {
		o.line("Rows %d to %s of %s that %s; --offset and --limit show others, --into writes all.", r.Offset+1, count(shown), count(r.Of), kind)
	}
}
