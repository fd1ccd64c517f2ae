package cli

import (
	"context"
	"errors"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/core/relation"
	"proudsieve/core/rulebook"
	"proudsieve/core/rulebook/csvw"
	"proudsieve/core/table"
	"proudsieve/service/api"
	"proudsieve/service/records"
	"proudsieve/service/work"
)

func tableCommand() *cli.Command {
	return group("table", "deliveries, cleaned and merged tables",
		verb("show", "one table, and where it is on its way", "TABLE", nil,
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				t, err := s.ShowTable(ctx, id)
				if err != nil {
					return err
				}
				path, err := s.ShowPath(ctx, t.ID)
				return show(s, map[string]any{"table": t, "path": path}, err, func(map[string]any) {
					s.tables([]records.Table{*t})
					s.line("SHA-256 %s", t.Digest)
					s.line("")
					g := newGrid("stage", "state", "")
					for _, stage := range path.Stages {
						g.add(stage.Name, stage.State, stage.Says)
					}
					s.grid(g, "")
				})
			}),
		verb("rows", "rows as they stand in the file, with what was caught", "TABLE", append(choiceFlags(),
			&cli.IntFlag{Name: "after", Usage: "rows after this one"}, &cli.IntFlag{Name: "limit", Value: 20}), showRows),
		verb("trace", "how a row of a table came about, or one of its cells, back to the deliveries", "TABLE ROW [COLUMN]", nil, traceRow),
		verb("groups", "rows that share the values of columns, side by side", "TABLE COLUMN,COLUMN",
			[]cli.Flag{&cli.StringFlag{Name: "kind", Value: "conflicting", Usage: "equal, conflicting or near"},
				&cli.IntFlag{Name: "offset"}, &cli.IntFlag{Name: "limit", Value: groupsShown}},
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				found, err := client.Decode[api.GroupsPage](s.ShowGroups(ctx, id,
					&client.ShowGroupsParams{Columns: strings.Split(args[1], ","),
						Kind:   client.ShowGroupsParamsKind(s.command.String("kind")),
						Offset: int64(s.command.Int("offset")),
						Limit:  int64(s.command.Int("limit"))}))
				return show(s, found, err, func(found *api.GroupsPage) {
					s.groupCounts(&found.Groups)
					s.groupPage(found.Names, found.Columns, relation.GroupKind(found.Kind), found.Page,
						int64(found.Listed))
				})
			}),
		tableExportCommand(),
		tableTallyCommand(),
		tableTotalsCommand(),
		tableRevisionCommand(),
		verb("lineage", "what a table was made of, and what was made of it", "TABLE",
			[]cli.Flag{&cli.StringFlag{Name: "provenance", Usage: "write it to this file too, in the words of W3C PROV-O as JSON-LD"}}, tableLineage),
		verb("codes", "what the texts of a column stand for", "TABLE COLUMN", nil,
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				codes, err := client.Decode[relation.Codes](s.ShowCodes(ctx, id,
					&client.ShowCodesParams{Column: args[1]}))
				return show(s, codes, err, s.codes)
			}),
		verb("save-rows", "write the rows that are chosen as CSV, all of them, in the order of the file", "TABLE FILE",
			append(choiceFlags(), &cli.StringFlag{Name: "where", Usage: "only rows for which this condition holds"},
				&cli.StringFlag{Name: "find", Usage: "only rows with a cell that contains this text"}, exactFlag()),
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				c := s.command
				return save(args[1], func(f *os.File) error {
					rows, err := s.DownloadRows(ctx, id, &client.DownloadRowsParams{Rule: c.String("rule"), Column: c.String("column"),
						Dimension: client.DownloadRowsParamsDimension(c.String("dimension")), Where: c.String("where"), Find: c.String("find"),
						Marked: c.Bool("marked"), Audit: int64(c.Int("audit")), Exact: c.Bool("exact")})
					return client.Save(f, rows, err)
				})
			}),
		verb("download", "the bytes of a table", "TABLE FILE",
			[]cli.Flag{&cli.BoolFlag{Name: "change-log", Usage: "the change log of a cleaned table instead"},
				&cli.BoolFlag{Name: "draws", Usage: "the draws of its estimates beyond the first instead, as Parquet"},
				&cli.BoolFlag{Name: "unmet", Usage: "the rows of a merge that found no partner in a join instead"}},
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				what := client.DownloadTableParams{}
				if s.command.Bool("change-log") {
					what.What = client.DownloadTableParamsWhatChangeLog
				}
				if s.command.Bool("draws") {
					what.What = client.DownloadTableParamsWhatDraws
				}
				if s.command.Bool("unmet") {
					what.What = client.DownloadTableParamsWhatUnmet
				}
				if err := save(args[1], func(f *os.File) error {
					bytes, err := s.DownloadTable(ctx, id, &what)
					return client.Save(f, bytes, err)
				}); err != nil || what.What != "" {
					return err
				}
				return s.saveMetadata(ctx, id, args[1])
			}),
	)
}

// choiceFlags choose rows by what was caught in them.
func choiceFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "rule", Usage: "only rows that break this rule"},
		&cli.StringFlag{Name: "column", Usage: "only rows caught in this column"},
		&cli.StringFlag{Name: "dimension",
			Usage: "only rows caught in completeness, validity, uniqueness or consistency"},
		&cli.BoolFlag{Name: "marked", Usage: "only rows with a cell that is missing, or that are caught at all"},
		&cli.IntFlag{Name: "audit", Usage: "the audit that says what is caught, where it is not the newest"},
	}
}

// exactFlag is of commands that write findings as CSV.
func exactFlag() cli.Flag {
	return &cli.BoolFlag{Name: "exact",
		Usage: "write the texts as they are, also those that a spreadsheet would run as a formula"}
}

func showRows(ctx context.Context, s *session, args []string) error {
	c := s.command
	id, err := idOf(args[0])
	if err != nil {
		return err
	}
	page, err := client.Decode[api.RowsPage](s.ShowRows(ctx, id, &client.ShowRowsParams{Rule: c.String("rule"),
		Column:    c.String("column"),
		Dimension: client.ShowRowsParamsDimension(c.String("dimension")), Marked: c.Bool("marked"), Audit: int64(c.Int("audit")),
		After: int32(c.Int("after")), Limit: int64(c.Int("limit"))}))
	return show(s, page, err, func(page *api.RowsPage) {
		g := newGrid(append([]string{">row", ">line", "caught by"}, safeHeads(page.Columns)...)...)
		for _, r := range page.Rows {
			rules := make([]string, len(r.Caught))
			for i, one := range r.Caught {
				rules[i] = one.Rule
			}
			cells := []string{count(int64(r.Row)), count(r.Line), strings.Join(rules, ", ")}
			for _, cell := range r.Cells {
				cells = append(cells, visible(shorten(cell, 30)))
			}
			g.add(cells...)
		}
		s.grid(g, "There are no such rows.")
		if page.Total >= 0 {
			s.line("%d of %s rows shown.", len(page.Rows), count(page.Total))
		}
		if page.Next > 0 {
			s.line("More with --after %d.", page.Next)
		}
	})
}

// safeHeads are the names of a file's columns as heads of a grid, which gives > and * a meaning.
func safeHeads(names []string) []string {
	heads := make([]string, len(names))
	for i, name := range names {
		if heads[i] = safe(name); strings.HasPrefix(name, ">") || strings.HasPrefix(name, "*") {
			heads[i] = " " + heads[i]
		}
	}
	return heads
}

// saveMetadata writes beside a cleaned or merged table how it is read, by the rulebook of its dataset, where there is one.
func (s *session) saveMetadata(ctx context.Context, id int64, path string) error {
	t, err := s.ShowTable(ctx, id)
	if err != nil || t.Origin == "delivery" {
		return err
	}
	d, err := s.ShowRulebooks(ctx, t.Dataset, t.Dataset, nil)
	var problem *client.Problem
	if errors.As(err, &problem) && problem.Status == http.StatusNotFound {
		return nil
	}
	if err != nil {
		return err
	}
	book, err := rulebook.Parse([]byte(d.Source))
	if err != nil {
		return err
	}
	reading, err := work.OwnReading(t)
	if err != nil {
		return err
	}
	marks, err := s.saveMarks(ctx, t, path)
	if err != nil {
		return err
	}
	return save(path+csvw.Suffix, func(f *os.File) error {
		_, err := f.Write(csvw.OfTable(book, reading, marks, filepath.Base(path)))
		return err
	})
}

// saveMarks writes beside a table which of its cells are estimates, where any are.
func (s *session) saveMarks(ctx context.Context, t *records.Table, path string) (*csvw.Marks, error) {
	if t.Marks == nil {
		return nil, nil
	}
	at := besideOf(path).marks
	if err := save(at, func(f *os.File) error {
		bytes, err := s.DownloadTable(ctx, t.ID, &client.DownloadTableParams{What: client.DownloadTableParamsWhatMarks})
		return client.Save(f, bytes, err)
	}); err != nil {
		return nil, err
	}
	f, err := os.Open(at)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	marks, err := table.ReadMarks(f)
	if err != nil {
		return nil, err
	}
	named := &csvw.Marks{URL: filepath.Base(at), SHA256: *t.Marks, Cells: map[string]int64{}}
	for _, how := range marks.All {
		named.Cells[how.Column] += int64(how.Rows.GetCardinality())
	}
	return named, nil
}
