package merge

import (
	"fmt"
	"slices"

	"proudsieve/core/rulebook"
)

// readingOf returns how the merged table is read. A text that would mean one thing in one of its tables and another in the
// next is refused: with different marks for missing values, or a stacked column that is written in two ways.
func readingOf(plan *Plan, inputs map[string]Input) (out rulebook.TableReading, err error) {
	settle := func(dataset string) string {
		return fmt.Sprintf("a step standard_form in the fix plan of %s would settle it", dataset)
	}
	datasets := plan.Datasets()
	for _, name := range datasets {
		marks := slices.Sorted(slices.Values(inputs[name].Book.Reading.Missing))
		switch first := datasets[0]; {
		case name == first:
			out.Missing = marks
		case !slices.Equal(marks, out.Missing):
			return out, fmt.Errorf("texts stand for missing values in %s (%s) that do not in %s (%s); %s", first, listed(out.Missing), name, listed(marks),
				settle(map[bool]string{true: name, false: first}[len(marks) > 0]))
		}
	}
	if len(out.Missing) == 0 {
		out.Missing = nil
	}
	from := map[string]string{} // the dataset that a column was met in
	cells := map[string]*rulebook.Cells{}
	add := func(column, name, dataset string) {
		cells[column], from[column] = inputs[dataset].Book.Cells(name), dataset
		if written, other := cells[column].Written(); other {
			if out.Columns == nil {
				out.Columns = map[string]rulebook.Written{}
			}
			out.Columns[column] = written
		}
	}
	for _, dataset := range plan.Stack {
		for _, column := range inputs[dataset].Source.Columns() {
			if cells[column] == nil {
				add(column, column, dataset)
				continue
			}
			if other := inputs[dataset].Book.Cells(column); !cells[column].WrittenAs(other) {
				_, written := cells[column].Written()
				return out, fmt.Errorf("the column %q is written in one way in %s and in another in %s, so that the same text is not the same value; %s",
					column, from[column], dataset, settle(map[bool]string{true: from[column], false: dataset}[written]))
			}
		}
	}
	for _, j := range plan.Joins {
		for _, column := range j.Take {
			add(column, column, j.With)
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
