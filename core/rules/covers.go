package rules

import (
	"context"
	"fmt"
	"slices"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

func init() {
	rulebook.Register(rulebook.Kind{
		Name: "covers", Section: "table_rules", Place: 50, Dimension: rulebook.Completeness,
		Fields: []rulebook.FieldForm{inField, withField},
		Declare: func(i *rulebook.Item) rulebook.Rule {
			r := covers{in: i.ColumnOf("in", rulebook.AnyColumn)}
			e := i.ElsewhereOf("with", 1, "covers looks for the values of one column")
			if e == nil {
				return nil
			}
			r.with = *e
			return r
		},
	})
}

// covers is broken by values of another dataset's column that do not occur.
type covers struct {
	onTable
	in   string
	with rulebook.Elsewhere
}

func (r covers) Columns() []string { return []string{r.in} }
func (r covers) Says() string      { return sentence(fmt.Sprintf("every %s occurs in %s", r.with, r.in)) }

func (r covers) Needs() rulebook.Needs {
	return rulebook.Needs{Rows: true, Group: []string{r.in}, Whole: true}
}

// Begin implements rulebook.TableRule.
func (r covers) Begin(ctx context.Context, a *rulebook.Around) (rulebook.TableJudge, error) {
	known, err := known(ctx, a, r.with)
	return &coverJudge{r, known, map[table.Hash]bool{}}, err
}

type coverJudge struct {
	covers
	known map[table.Hash]string
	met   map[table.Hash]bool
}

func (j *coverJudge) Take(rows []rulebook.TableRow) error {
	for i := range rows {
		if _, ok := j.known[rows[i].Group]; ok {
			j.met[rows[i].Group] = true
		}
	}
	return nil
}

func (j *coverJudge) End() (rulebook.Outcome, error) {
	o := rulebook.Outcome{Texts: map[string]int64{}}
	var absent []string
	for hash, label := range j.known {
		if !j.met[hash] {
			absent = append(absent, label)
		}
	}
	slices.Sort(absent)
	for _, label := range absent[:min(len(absent), textsShown)] {
		o.Texts[label] = 0
	}
	if n := int64(len(absent)); n > 0 {
		o.Found = fmt.Sprintf("%s of %s values of %s %s not occur in %s: %s.", document.Grouped(n),
			document.Grouped(int64(len(j.known))),
			j.with, document.Plural(n, "does", "do"), j.in, document.First(absent))
	}
	return o, nil
}
