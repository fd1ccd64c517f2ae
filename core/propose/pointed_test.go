package propose_test

import (
	"context"
	"strings"
	"testing"

	"proudsieve/core/condition"
	"proudsieve/core/propose"
	"proudsieve/core/relation"
	"proudsieve/core/rulebook/edit"
	"proudsieve/core/testkit"
)

const pointedRows = "sample;parameter;value;taken;crew\n" +
	"S1;PH;71;31/05/2024;red\n" +
	"S2;PH;7,2;n/a;it's\n" +
	"S3;NO3;n/a;1/6/24;\n" +
	"S3;NO3;4;01/06/2024;red\n" +
	"S5;COND;8;01/06/2024;red\n" +
	"S5;COND;8;01/06/2024;red\n"

// pointAt returns the steps for rows, from 0, of pointedRows, each as one line.
func pointAt(t *testing.T, column string, rows ...int) (lines []string) {
	t.Helper()
	b := testkit.Book(t, results)
	file := testkit.File(t, pointedRows, b.Reading)
	of := &relation.Table{Source: file, Book: b, Workers: 2}
	p := propose.Pointed{Book: b, Names: file.Columns(), Column: column, Count: func(where string) (int64, error) {
		holds, mistakes := condition.Compile(where, of.Types())
		if len(mistakes) > 0 {
			t.Fatalf("%s: %v", where, mistakes)
		}
		met, err := relation.Where(context.Background(), of, relation.Choice{Holds: holds})
		return int64(met.GetCardinality()), err
	}}
	all := strings.Split(strings.TrimSpace(pointedRows), "\n")[1:]
	for _, row := range rows {
		p.Rows = append(p.Rows, strings.Split(all[row], ";"))
	}
	steps, err := p.Steps()
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range steps {
		lines = append(lines, line(s))
	}
	return lines
}

func line(s propose.Step) string {
	var parts []string
	for _, f := range s.Fields {
		switch {
		case f.Pairs != nil:
			parts = append(parts, f.Name+" "+pairs(f.Pairs))
		case f.Values != nil:
			parts = append(parts, f.Name+" "+strings.Join(f.Values, ","))
		default:
			parts = append(parts, f.Name+" "+f.Value)
		}
	}
	if s.Doubt != "" {
		parts = append(parts, "("+s.Doubt+")")
	}
	return strings.Join(parts, "; ")
}

func pairs(of []edit.Pair) string {
	var out []string
	for _, p := range of {
		out = append(out, p.Name+"="+p.Text)
	}
	return strings.Join(out, ",")
}

// What is pointed at is named by the key, or by all cells where the key does not tell it from others.
func TestStepsForWhatIsPointedAt(t *testing.T) {
	const likeIt = "(1 row of the table cannot be told from what was chosen, and would be met too)"
	for _, c := range []struct {
		name, column string
		rows         []int
		want         []string
	}{
		{"a cell", "value", []int{0}, []string{
			"do set_cell; key sample=S1; column value",
			"do replace; columns value; find 71; match whole_cell",
			"do set_missing; columns value; where sample = 'S1'",
			"do set_aside; where sample = 'S1'"}},
		{"rows", "", []int{1, 0}, []string{"do set_aside; where sample = 'S1' OR sample = 'S2'"}},
		{"a gap, in a row whose key is there twice, with a date of another form", "crew", []int{2}, []string{
			"do set_cell; key sample=S3,parameter=NO3,value=n/a,taken=1/6/24,crew=; column crew",
			"do replace; columns crew; find ; match whole_cell",
			"do set_aside; where sample = 'S3' AND parameter = 'NO3' AND value IS MISSING AND taken IS MISTYPED AND crew IS MISSING"}},
		{"a date beside one", "", []int{3}, []string{
			"do set_aside; where sample = 'S3' AND parameter = 'NO3' AND value = 4 AND taken = DATE '2024-06-01' AND crew = 'red'"}},
		{"a row of two equal ones", "", []int{4}, []string{
			"do set_aside; where sample = 'S5' AND parameter = 'COND' AND value = 8 AND taken = DATE '2024-06-01' AND crew = 'red'; " + likeIt}},
		{"both equal rows", "value", []int{4, 5}, []string{"do set_aside; where sample = 'S5'"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := pointAt(t, c.column, c.rows...)
			if strings.Join(got, "\n") != strings.Join(c.want, "\n") {
				t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(c.want, "\n"))
			}
		})
	}
}
