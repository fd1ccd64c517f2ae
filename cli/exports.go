package cli

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/core/export"
)

// tableExportCommand writes a table for those who analyse it.
func tableExportCommand() *cli.Command {
	return verb("export", "write a table for analysis: dates as dates, decimals as decimals, estimates marked; the ending of FILE says how, as .csv.gz, .jsonl, .parquet or .xlsx", "TABLE FILE",
		append(choiceFlags(),
			&cli.StringFlag{Name: "format", Usage: strings.Join(export.FormatNames(), ", ") + "; by the ending of FILE where it is left out"},
			&cli.StringFlag{Name: "packing", Usage: strings.Join(export.Packings, " or ") + ", for CSV and JSON Lines; by the ending of FILE where it is left out"},
			&cli.StringFlag{Name: "columns", Usage: "only these columns, with commas between them, in this order"},
			&cli.StringFlag{Name: "where", Usage: "only rows for which this condition holds"},
			&cli.StringFlag{Name: "find", Usage: "only rows with a cell that contains this text"},
			&cli.BoolFlag{Name: "labels", Usage: "beside each code, what it stands for"},
			&cli.BoolFlag{Name: "mixed", Usage: "columns with texts that are no values of their type as text, whole; without it they are refused"},
			exactFlag()),
		exportTable)
}

func exportTable(ctx context.Context, s *session, args []string) error {
	id, err := idOf(args[0])
	if err != nil {
		return err
	}
	c := s.command
	named, packing := export.ByName(args[1])
	format := c.String("format")
	switch {
	case format != "" && export.FormatOf(format) == nil:
		return fmt.Errorf("there is no format %q; known are %s", format, strings.Join(export.FormatNames(), ", "))
	case format == "" && named == nil:
		return fmt.Errorf("the name %s does not say how the table is written; let it end in .%s, or say it with --format", args[1], strings.Join(export.FormatNames(), ", ."))
	case format == "":
		format = named.Name
	}
	if given := c.String("packing"); given != "" {
		if packing = given; !slices.Contains(export.Packings, packing) {
			return fmt.Errorf("there is no packing %q; known are %s", packing, strings.Join(export.Packings, " and "))
		}
	}
	asked := &client.ExportTableParams{Format: client.ExportTableParamsFormat(format), Packing: client.ExportTableParamsPacking(packing), Rule: c.String("rule"), Column: c.String("column"),
		Dimension: client.ExportTableParamsDimension(c.String("dimension")), Where: c.String("where"), Find: c.String("find"), Marked: c.Bool("marked"), Audit: int64(c.Int("audit")),
		Labels: c.Bool("labels"), Mixed: c.Bool("mixed"), Exact: c.Bool("exact")}
	if columns := c.String("columns"); columns != "" {
		asked.Columns = strings.Split(columns, ",")
	}
	return save(args[1], func(f *os.File) error {
		in, err := s.ExportTable(ctx, id, asked)
		return client.Save(f, in, err)
	})
}
