package audit

import (
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strconv"

	"proudsieve/core/personal"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// exportHeader names the columns of what WriteFindings writes.
var exportHeader = []string{"line", "row", "column", "value", "rule", "severity", "must_hold", "reason", "key"}

// Export is what WriteFindings writes.
type Export struct {
	Source  table.Source
	Book    *rulebook.Rulebook
	Result  *Result
	Rows    func(*Finding) (*table.RowSet, error) // of a finding
	Workers int
	Exact   bool // texts stay as they are
	// Masked are the columns whose texts are masked, as those with personal data.
	Masked []string
}

// WriteFindings writes a line of CSV for every cell that was caught, in file order: for whoever
// delivered the table. A finding that names several columns has a line for each of them,
// one that names none a line for the row. The key is that of the row, by the first key
// of the rulebook.
//
// Most who get it open it in a spreadsheet, which runs a text that begins as a formula does;
// so such a text gets an apostrophe before it, which a spreadsheet takes for the mark of a
// text.
func WriteFindings(ctx context.Context, out io.Writer, e *Export) error {
	result, names := e.Result, e.Source.Columns()
	all := table.NewRowSet()
	sets := make([]*table.RowSet, len(result.Findings))
	at := make([][]int, len(sets))
	for i := range result.Findings {
		f := &result.Findings[i]
		set, err := e.Rows(f)
		if err != nil {
			return err
		}
		if f.Kind == rulebook.AbsentKind {
			set = table.NewRowSet() // said once, below
		}
		sets[i] = set
		all.Or(set)
		for _, name := range f.Columns {
			if c := slices.Index(names, name); c >= 0 {
				at[i] = append(at[i], c)
			}
		}
	}
	var key []int
	for _, name := range e.Book.KeyColumns() {
		if c := slices.Index(names, name); c >= 0 {
			key = append(key, c)
		}
	}
	w := &findingsWriter{csv.NewWriter(out), e.Exact}
	if err := w.Write(exportHeader); err != nil {
		return err
	}
	for i := range result.Findings {
		if f := &result.Findings[i]; sets[i].IsEmpty() { // it concerns the table as a whole
			if err := w.write([]string{"", "", firstOf(f.Columns), "", f.Rule, string(f.Severity), f.Says, f.Found,
				""}); err != nil {
				return err
			}
		}
	}
	if !all.IsEmpty() {
		work := func(b *table.Batch) ([][]string, error) {
			var lines [][]string
			for r, row := range b.Rows {
				if all.Contains(row) {
					lines = append(lines, e.lines(b, r, sets, at, key, names)...)
				}
			}
			return lines, nil
		}
		if err := table.ScanBatches(ctx, table.Where(e.Source, all), e.Workers, work, w.writeAll); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

// WriteRows writes rows of a table as CSV under its header, in file order: those of a set, or all for nil; columns are
// those that are written, in this order, or all for none. The number of each row comes first. Beside a column with
// estimates stands another one that says of each cell whether it is one.
func WriteRows(ctx context.Context, out io.Writer, source table.Source, rows *table.RowSet, columns []string, workers int,
	exact bool) error {
	names := source.Columns()
	if len(columns) == 0 {
		columns = names
	}
	at := make([]int, len(columns))
	for i, name := range columns {
		if at[i] = slices.Index(names, name); at[i] < 0 {
			return fmt.Errorf("the table has no column %q", name)
		}
	}
	w := &findingsWriter{csv.NewWriter(out), exact}
	marks := table.MarksOf(source)
	heads := []string{"row"}
	for _, name := range columns {
		if heads = append(heads, name); marks.In(name) != nil {
			heads = append(heads, table.Beside(name, "_estimated", names))
		}
	}
	if err := w.write(heads); err != nil {
		return err
	}
	estimated := make([]*table.RowSet, len(at))
	for i, name := range columns {
		estimated[i] = marks.In(name)
	}
	work := func(b *table.Batch) ([][]string, error) {
		var lines [][]string
		for r, row := range b.Rows {
			if rows != nil && !rows.Contains(row) {
				continue
			}
			line := make([]string, 1, 1+len(at))
			line[0] = strconv.FormatUint(uint64(row), 10)
			for i, c := range at {
				if line = append(line, b.Columns[c].At(r)); estimated[i] != nil {
					line = append(line, strconv.FormatBool(estimated[i].Contains(row)))
				}
			}
			lines = append(lines, line)
		}
		return lines, nil
	}
	if rows == nil || !rows.IsEmpty() {
		if err := table.ScanBatches(ctx, table.Where(source, rows), workers, work, w.writeAll); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

// findingsWriter writes lines whose texts a spreadsheet does not run.
type findingsWriter struct {
	*csv.Writer
	exact bool
}

func (w *findingsWriter) write(line []string) error {
	if !w.exact {
		for i, text := range line {
			line[i] = table.Harmless(text)
		}
	}
	return w.Write(line)
}

func (w *findingsWriter) writeAll(lines [][]string) error {
	for _, line := range lines {
		if err := w.write(line); err != nil {
			return err
		}
	}
	return nil
}

func firstOf(texts []string) string {
	if len(texts) == 0 {
		return ""
	}
	return texts[0]
}

// lines are those of one row.
func (e *Export) lines(b *table.Batch, r int, sets []*table.RowSet, at [][]int, key []int, names []string) [][]string {
	findings := e.Result.Findings
	text := func(c int) string {
		if slices.Contains(e.Masked, names[c]) {
			return personal.Mask(b.Columns[c].At(r))
		}
		return b.Columns[c].At(r)
	}
	identity := ""
	for i, c := range key {
		if i > 0 {
			identity += ", "
		}
		identity += fmt.Sprintf("%s=%s", names[c], text(c))
	}
	var lines [][]string
	for i := range findings {
		f := &findings[i]
		if !sets[i].Contains(b.Rows[r]) {
			continue
		}
		line := func(column, value string) {
			lines = append(lines, []string{strconv.FormatInt(b.Lines[r], 10), strconv.FormatUint(uint64(b.Rows[r]), 10),
				column, value, f.Rule, string(f.Severity), f.Says, f.Reason, identity})
		}
		if len(at[i]) == 0 {
			line("", "")
		}
		for _, c := range at[i] {
			line(names[c], text(c))
		}
	}
	return lines
}
