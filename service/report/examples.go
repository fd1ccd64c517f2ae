package report

import (
	"context"
	"slices"

	"proudsieve/core/audit"
	"proudsieve/core/intake"
	"proudsieve/core/intake/delimited"
)

const (
	// examplesOf is how many rows are shown for each finding, and examplesIn of how many findings.
	examplesOf = 4
	examplesIn = 60
	// columnsShown bounds the columns of an example beside those that the rule names.
	columnsShown = 8
)

// Examples reads the first rows of each finding.
func Examples(ctx context.Context, file *intake.File, checkpoints []delimited.Checkpoint,
	result *audit.Result) (map[string][]Example, error) {
	var wanted []uint32
	findings := gravest(result.Findings)
	findings = findings[:min(len(findings), examplesIn)]
	for _, f := range findings {
		wanted = append(wanted, f.FirstRows[:min(len(f.FirstRows), examplesOf)]...)
	}
	slices.Sort(wanted)
	picked, err := file.Pick(ctx, checkpoints, slices.Compact(wanted))
	if err != nil {
		return nil, err
	}
	rows := map[uint32]*delimited.Picked{}
	for i := range picked {
		rows[picked[i].Row] = &picked[i]
	}
	names := file.Columns()
	out := map[string][]Example{}
	for _, f := range findings {
		shown := shownColumns(names, f.Columns)
		for _, row := range f.FirstRows[:min(len(f.FirstRows), examplesOf)] {
			p := rows[row]
			if p == nil {
				continue
			}
			one := Example{Line: p.Line, Row: row}
			for _, c := range shown {
				one.Cells = append(one.Cells, Cell{names[c], p.Cells[c], slices.Contains(f.Columns, names[c])})
			}
			out[f.Rule] = append(out[f.Rule], one)
		}
	}
	return out, nil
}

// shownColumns are those that a rule names, and the first others, in the order of the table.
func shownColumns(names, named []string) []int {
	var out []int
	others := 0
	for c, name := range names {
		if slices.Contains(named, name) {
			out = append(out, c)
		} else if others < columnsShown {
			out = append(out, c)
			others++
		}
	}
	return out
}
