package rules

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "in_order", Section: "table_rules", Place: 40, Dimension: rulebook.Consistency,
		Fields: []rulebook.FieldForm{inField, perField},
		Declare: func(i *rulebook.Item) rulebook.Rule {
			return inOrder{in: i.ColumnOf("in", rulebook.AnyColumn), per: i.ColumnsOf("per", "per", rulebook.AnyColumn)}
		},
	})
}

// inOrder is broken by rows with a value below that of the row before, in their group.
type inOrder struct {
	onTable
	in  string
	per []string
}

func (r inOrder) Columns() []string { return append(slices.Clone(r.per), r.in) }

func (r inOrder) Says() string {
	return sentence(fmt.Sprintf("%sthe rows are in the order of %s", forEach(r.per), r.in))
}

func (r inOrder) Needs() rulebook.Needs {
	return rulebook.Needs{Rows: true, Group: r.per, Value: r.in}
}

// Begin implements rulebook.TableRule.
func (r inOrder) Begin(_ context.Context, a *rulebook.Around) (rulebook.TableJudge, error) {
	return &orderJudge{r, map[table.Hash]table.Value{}, table.NewRowSet(), a.Rows}, nil
}

type orderJudge struct {
	inOrder
	last map[table.Hash]table.Value
	rows *table.RowSet
	of   int64
}

func (j *orderJudge) Take(rows []rulebook.TableRow) error {
	for i := range rows {
		one := &rows[i]
		if one.Value.Kind == table.Missing {
			continue
		}
		last, met := j.last[one.Group]
		switch {
		case !met && len(j.last) == groupLimit:
			return tooManyGroups(j.per)
		case met && table.Compare(one.Value, last) < 0:
			j.rows.Add(one.Row)
		}
		if one.Value.Kind == table.Text {
			one.Value.Text = strings.Clone(one.Value.Text)
		}
		j.last[one.Group] = one.Value
	}
	return nil
}

func (j *orderJudge) End() (rulebook.Outcome, error) {
	n := int64(j.rows.GetCardinality())
	if n == 0 {
		return rulebook.Outcome{}, nil
	}
	broken := rulebook.Broken{Rows: n, Of: j.of}
	return rulebook.Outcome{Found: fmt.Sprintf("%s %s a %s below the one before.", broken.OfRows(),
		document.Plural(n, "has", "have"), j.in), Rows: j.rows}, nil
}

// DependsOnOrder implements rulebook.OrderRule.
func (inOrder) DependsOnOrder() {}
