package rules

import (
	"context"
	"fmt"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "reference", Section: "references", Dimension: rulebook.Consistency,
		Fields: []rulebook.FieldForm{
			{Name: "columns", Kind: "columns", Required: true, Says: "The columns whose values must be known elsewhere",
				Aspect: "columns", Eases: rulebook.EasesAny},
			{Name: "to", Kind: "elsewhere", Required: true,
				Says: "The dataset where they must be, and its columns in the same order", Aspect: "other dataset", Eases: rulebook.EasesAny},
		},
		Declare: func(i *rulebook.Item) rulebook.Rule {
			r := reference{columns: i.ColumnsOf("columns", "the columns of a reference", rulebook.AnyColumn)}
			e := i.ElsewhereOf("to", len(r.columns), "a reference pairs its columns with those of the other dataset")
			if e == nil {
				return nil
			}
			r.to = *e
			return r
		},
	})
}

// reference is broken by rows whose values are not in another dataset. A row that lacks one is not looked for.
type reference struct {
	onTable
	columns []string
	to      rulebook.Elsewhere
}

func (r reference) Columns() []string { return r.columns }

// ForeignKey is how CSVW carries it.
func (r reference) ForeignKey() ([]string, rulebook.Elsewhere) { return r.columns, r.to }

func (r reference) Says() string {
	return fmt.Sprintf("Every %s is a %s.", document.Join(r.columns), r.to)
}

func (r reference) Needs() rulebook.Needs {
	return rulebook.Needs{Rows: true, Group: r.columns, Whole: true}
}

// Begin implements rulebook.TableRule.
func (r reference) Begin(ctx context.Context, a *rulebook.Around) (rulebook.TableJudge, error) {
	known, err := known(ctx, a, r.to)
	return &referenceJudge{r, a.Rows, known, table.NewRowSet(), map[string]int64{}}, err
}

type referenceJudge struct {
	reference
	of    int64
	known map[table.Hash]string
	rows  *table.RowSet
	texts map[string]int64
}

func (j *referenceJudge) Take(rows []rulebook.TableRow) error {
	for i := range rows {
		one := &rows[i]
		if one.Value.Kind == table.Missing {
			continue
		}
		if _, ok := j.known[one.Group]; !ok {
			j.rows.Add(one.Row)
			if _, counted := j.texts[one.Label]; counted || len(j.texts) < textsKept {
				j.texts[one.Label]++
			}
		}
	}
	return nil
}

func (j *referenceJudge) End() (rulebook.Outcome, error) {
	n := int64(j.rows.GetCardinality())
	if n == 0 {
		return rulebook.Outcome{}, nil
	}
	return rulebook.Outcome{Found: j.FoundIn(n, j.of), Rows: j.rows, Texts: j.texts}, nil
}

// FoundIn implements rulebook.ApartRule.
func (r reference) FoundIn(rows, of int64) string {
	if rows == 0 {
		return ""
	}
	broken := rulebook.Broken{Rows: rows, Of: of}
	return fmt.Sprintf("%s a %s that is no %s.", broken.Have(), document.Join(r.columns), r.to)
}
