package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"proudsieve/client"
	"proudsieve/core/fix"
	"proudsieve/service/api"
	"proudsieve/service/lineage"
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
	traced, err := client.Decode[api.RowTraced](s.TraceRow(ctx, id, row, &client.TraceRowParams{Column: column}))
	return show(s, traced, err, func(t *api.RowTraced) { s.traced(t, 0) })
}

// traced tells how a row or cell came about, and then those that it was made of.
func (o *output) traced(t *api.RowTraced, depth int) {
	indent := strings.Repeat("  ", depth)
	what := "row " + count(t.Row)
	if t.Asked != "" {
		what += ", column " + visible(t.Asked)
	}
	o.line("%s%s%s of table %d, %s (%s)", indent, map[string]string{"joined": "joined with ", "unasked": "kept of ", "filled": "filled from "}[t.How], what, t.Table, t.Dataset, visible(t.File))
	switch {
	case t.Grain != "":
		o.line("%s  counted among what its rows became before the merge: %s", indent, visible(t.Grain))
	case t.Origin == "merged":
		for i := range t.From {
			o.traced(&t.From[i], depth+1)
		}
		if len(t.From) == 0 {
			o.line("%s  The merge made the cell, or the row found no partner to have it from.", indent)
		}
	case t.Origin == "cleaned":
		for _, e := range t.Events {
			o.line("%s  step %d %s: %s  %s", indent, e.Step, e.Kind, did(e), visible(e.Reason))
		}
		if len(t.Events) == 0 {
			o.line("%s  No step had to do with it: it stands as it arrived.", indent)
		}
		from := "came with " + rowsNamed(t.Rows)
		if t.Parent != nil {
			from += fmt.Sprintf(" of table %d, which arrived", *t.Parent)
		}
		switch {
		case t.Asked != "" && t.Column == "":
			from += "; the column was made by a step"
		case t.Column != t.Asked:
			from += ", in the column " + visible(t.Column)
		}
		o.line("%s  %s", indent, from)
	}
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

func tableLineage(ctx context.Context, s *session, args []string) error {
	id, err := idOf(args[0])
	if err != nil {
		return err
	}
	found, err := client.Decode[lineage.Lineage](s.ShowLineage(ctx, id))
	if err != nil {
		return err
	}
	if into := s.command.String("provenance"); into != "" {
		if err := save(into, func(f *os.File) error {
			whole, err := s.DownloadProvenance(ctx, id)
			return client.Save(f, whole, err)
		}); err != nil {
			return err
		}
	}
	return show(s, found, nil, func(l *lineage.Lineage) {
		g := newGrid(">table", "dataset", "what it is", "made of", "by", "when", "certificate")
		for i := range l.Tables {
			t := &l.Tables[i]
			var of, certificates []string
			for _, link := range l.Links {
				if link.Made == t.ID {
					of = append(of, fmt.Sprint(link.Of))
				}
			}
			for _, c := range l.Certificates {
				if c.TableID == t.ID {
					certificates = append(certificates, fmt.Sprint(c.ID))
				}
			}
			by := t.CreatedBy
			if t.Declaration != nil {
				by = *t.Declaration + ", " + by
			}
			what := t.Origin
			if t.ID == l.Table {
				what += " (this one)"
			}
			if t.WithdrawnAt != nil {
				what += ", withdrawn"
			}
			made := strings.Join(of[:min(len(of), rowsListed)], ", ")
			if more := len(of) - rowsListed; more > 0 {
				made += fmt.Sprintf(" and %d more", more)
			}
			g.add(fmt.Sprint(t.ID), t.Dataset, what, made, visible(by), when(t.CreatedAt), strings.Join(certificates, ", "))
		}
		s.grid(g, "")
		if into := s.command.String("provenance"); into != "" {
			s.line("Its provenance is written to %s.", into)
		}
	})
}
