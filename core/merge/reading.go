package merge

import (
	"fmt"
	"slices"

	"proudsieve/core/rulebook"
)

// readingOf returns how the merged table is read. A text that would mean one thing in one of its tables and another in the
// next is refused: with different marks for missing values, or a stacked column that is written in two ways.
func (m *merger) readingOf(inputs Inputs) (out rulebook.TableReading, err error) {
	settle := func(in *Input) string {
		return fmt.Sprintf("a step standard_form in the fix plan of %s would settle it", in.Dataset)
	}
	var all []*Input
	for _, name := range m.plan.Datasets() {
		all = append(all, inputs.of(name)...)
	}
	for i, in := range all {
		marks := slices.Sorted(slices.Values(in.Book.Reading.Missing))
		switch {
		case i == 0:
			out.Missing = marks
		case !slices.Equal(marks, out.Missing):
			return out, fmt.Errorf("texts stand for missing values in %s (%s) that do not in %s (%s); %s", all[0].label(), listed(out.Missing), in.label(), listed(marks),
				settle(map[bool]*Input{true: in, false: all[0]}[len(marks) > 0]))
		}
	}
	if len(out.Missing) == 0 {
		out.Missing = nil
	}
	add := func(column string, cells *rulebook.Cells) {
		if written, other := cells.Written(); other {
			if out.Columns == nil {
				out.Columns = map[string]rulebook.Written{}
			}
			out.Columns[column] = written
		}
	}
	for i, column := range m.stacked {
		first := m.frame.cells[i]
		add(column, first)
		for _, t := range m.tables {
			if !slices.Contains(t.names, column) || first.WrittenAs(t.cells(column)) {
				continue
			}
			_, written := first.Written()
			return out, fmt.Errorf("the column %q is written in one way in %s and in another in %s, so that the same text is not the same value; %s",
				column, m.firsts[i].label(), t.label(), settle(map[bool]*Input{true: m.firsts[i], false: t.Input}[written]))
		}
	}
	for _, j := range m.plan.Joins {
		for _, column := range j.Take {
			add(column, inputs.of(j.With)[0].Book.Cells(column))
		}
	}
	return out, nil
}

func listed(marks []string) string {
	if len(marks) == 0 {
		return "none"
	}
	return fmt.Sprintf("%q", marks)
}
