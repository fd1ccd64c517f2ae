package cli

import (
	"context"
	"fmt"
	"strings"

	"proudsieve/client"
	"proudsieve/core/fix"
)

// traceRow tells how a row or cell of a cleaned table came about.
func traceRow(ctx context.Context, s *session, args []string) error {
	id, err := idOf(args[0])
	if err != nil {
		return err
	}
	row, err := idOf(args[1])
	if err != nil {
		return err
	}
	column := ""
	if len(args) > 2 {
		column = args[2]
	}
	traced, err := client.Decode[fix.Traced](s.TraceRow(ctx, id, row, &client.TraceRowParams{Column: column}))
	return show(s, traced, err, func(t *fix.Traced) {
		g := newGrid(">step", "kind", "what it did", "reason")
		for _, e := range t.Events {
			g.add(fmt.Sprint(e.Step), e.Kind, did(e), e.Reason)
		}
		s.grid(g, "No step had to do with it: it stands as it arrived.")
		from := "It came with " + rowsNamed(t.Rows) + " of the table that arrived"
		if column != "" && t.Column == "" {
			s.line("%s. The column was made by a step.", from)
			return
		}
		if t.Column != column {
			from += ", in the column " + t.Column
		}
		s.line("%s.", from)
	})
}

// did says what a step did to a cell or row.
func did(e fix.TracedEvent) string {
	switch {
	case e.Was != nil && *e.Was == "":
		return "made the column " + e.Column
	case e.Was != nil:
		return fmt.Sprintf("called %s %s", *e.Was, e.Column)
	case e.Column != "":
		return fmt.Sprintf("%s: %s became %s", e.Column, quoted(e.Old), quoted(e.New))
	case len(e.From) > 0:
		return "it stands for " + rowsNamed(e.From)
	}
	return ""
}

func quoted(text string) string {
	if text == "" {
		return "nothing"
	}
	return visible(text)
}

// rowsListed is how many rows are named one by one.
const rowsListed = 8

func rowsNamed(rows []uint32) string {
	names := make([]string, 0, rowsListed)
	for _, row := range rows[:min(len(rows), rowsListed)] {
		names = append(names, count(int64(row)))
	}
	switch {
	case len(rows) == 1:
		return "row " + names[0]
	case len(rows) > rowsListed:
		return fmt.Sprintf("rows %s and %s more", strings.Join(names, ", "), count(int64(len(rows)-rowsListed)))
	}
	return "rows " + strings.Join(names, ", ")
}
