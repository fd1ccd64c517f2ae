package question

import (
	"context"
	"slices"
	"strings"

	"proudsieve/core/audit"
	"proudsieve/core/leads"
	"proudsieve/core/relation"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

const (
	// ItemsMost is how many texts or rows of one finding are asked about.
	ItemsMost = 50
	// columnsShown bounds the columns of a row beside those of its key and those that the rule names.
	columnsShown = 4
)

// Asked is what is asked about a finding: its items, and how many rows they leave out.
type Asked struct {
	Items []Item
	Left  int64 // rows of the finding that no item is about
}

// OfFinding makes questions of a finding. A rule that speaks of the texts of one column is asked about text by text; where
// values, gaps or several columns are in question, row by row; a finding that is not of rows as a whole. personal are the
// columns whose texts are masked.
func OfFinding(ctx context.Context, t *relation.Table, f *audit.Finding, rows func() (*table.RowSet, error), personal []string) (*Asked, error) {
	if f.Rows == 0 {
		return &Asked{Items: []Item{{Kind: OfWhole}}}, nil
	}
	if byText(t.Book, f) {
		out := &Asked{Left: f.Rows}
		for _, one := range f.Texts[:min(len(f.Texts), ItemsMost)] {
			out.Items = append(out.Items, Item{Kind: OfText, Column: f.Columns[0], Text: one.Text, Rows: one.Rows, Masked: personal})
			out.Left -= one.Rows
		}
		return out, nil
	}
	set, err := rows()
	if err != nil {
		return nil, err
	}
	items, err := OfRows(ctx, t, set, f.Columns, personal)
	if err != nil {
		return nil, err
	}
	return &Asked{Items: items, Left: f.Rows - int64(len(items))}, nil
}

// byText reports whether a finding is asked about text by text.
func byText(book *rulebook.Rulebook, f *audit.Finding) bool {
	if len(f.Columns) != 1 || len(f.Texts) == 0 {
		return false
	}
	switch t := book.Cells(f.Columns[0]).Type; f.Kind {
	case "codes", "spelling", "type", "pattern", "length", "ended", "parent":
		return true
	case "range":
		return t == table.TypeText || t == table.TypeCode
	}
	return false
}

// OfRows makes questions of the first rows of a set: each with its key, the columns that are in question, and some others.
func OfRows(ctx context.Context, t *relation.Table, rows *table.RowSet, named, personal []string) ([]Item, error) {
	names := t.Source.Columns()
	shown := []string{}
	others := 0
	key := slices.DeleteFunc(slices.Clone(t.Book.KeyColumns()), func(c string) bool { return !slices.Contains(names, c) })
	for _, name := range names {
		switch {
		case slices.Contains(key, name), slices.Contains(named, name):
		case others < columnsShown:
			others++
		default:
			continue
		}
		shown = append(shown, name)
	}
	if len(named) == 0 {
		named = shown
	}
	wanted := table.NewRowSet()
	for it := rows.Iterator(); it.HasNext() && wanted.GetCardinality() < ItemsMost; {
		wanted.Add(it.Next())
	}
	at := make([]int, len(shown))
	for i, name := range shown {
		at[i] = slices.Index(names, name)
	}
	var items []Item
	err := relation.Scan(ctx, t, at, func() *[]Item { return new([]Item) }, func(found *[]Item, _ *relation.Readers, b *table.Batch) {
		for k, row := range b.Rows {
			if !wanted.Contains(row) {
				continue
			}
			one := Item{Kind: OfRow, Row: row, Columns: shown, Key: key, Named: named, Masked: personal}
			for _, c := range at {
				one.Cells = append(one.Cells, strings.Clone(b.Columns[c].At(k)))
			}
			*found = append(*found, one)
		}
	}, func(found *[]Item) { items = append(items, *found...) })
	return items, err
}

// Personal lists the columns that seem to hold personal data by an audit, in the order of the table.
func Personal(r *audit.Result) (names []string) {
	for _, c := range r.Columns {
		held := func(l audit.Lead) bool { return l.Kind == leads.Personal && l.Column == c.Name }
		if slices.ContainsFunc(r.Leads, held) || slices.ContainsFunc(r.MeantSo, held) {
			names = append(names, c.Name)
		}
	}
	return names
}
