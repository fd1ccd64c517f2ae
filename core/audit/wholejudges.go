package audit

import (
	"fmt"
	"slices"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// The judges of the number of rows, of references and of coverage.

type rowCountJudge struct {
	rule *rulebook.TableRule
	rows int64
}

func (rowCountJudge) take([]wholeRow) error { return nil }

func (j rowCountJudge) end() (outcome, error) {
	r := j.rule
	var found string
	switch {
	case j.rows < r.Least:
		found = fmt.Sprintf("The table has %s %s; at least %s must be there.", Grouped(j.rows), plural(j.rows, "row", "rows"), Grouped(r.Least))
	case r.Most > 0 && j.rows > r.Most:
		found = fmt.Sprintf("The table has %s rows; at most %s may be there.", Grouped(j.rows), Grouped(r.Most))
	}
	return outcome{found: found}, nil
}

type referenceJudge struct {
	check  *check
	of     *rulebook.Reference
	rowsOf int64
	known  map[table.Hash]string
	rows   *table.RowSet
	texts  map[string]int64
}

func (j *referenceJudge) take(rows []wholeRow) error {
	for i := range rows {
		one := &rows[i]
		if one.value.Kind == table.Missing {
			continue
		}
		if _, ok := j.known[one.group]; !ok {
			j.rows.Add(one.row)
			if _, counted := j.texts[one.label]; counted || len(j.texts) < textsKept {
				j.texts[one.label]++
			}
		}
	}
	return nil
}

func (j *referenceJudge) end() (outcome, error) {
	n := int64(j.rows.GetCardinality())
	if n == 0 {
		return outcome{}, nil
	}
	return outcome{fmt.Sprintf("%s of %s %s %s a %s that is no %s.", Grouped(n), Grouped(j.rowsOf), plural(j.rowsOf, "row", "rows"), plural(n, "has", "have"), document.Join(j.of.Columns), j.of.To), j.rows, j.texts}, nil
}

type coverJudge struct {
	rule  *rulebook.TableRule
	known map[table.Hash]string
	met   map[table.Hash]bool
}

func (j *coverJudge) take(rows []wholeRow) error {
	if j.met == nil {
		j.met = map[table.Hash]bool{}
	}
	for i := range rows {
		if _, ok := j.known[rows[i].group]; ok {
			j.met[rows[i].group] = true
		}
	}
	return nil
}

func (j *coverJudge) end() (outcome, error) {
	o := outcome{texts: map[string]int64{}}
	var absent []string
	for hash, label := range j.known {
		if !j.met[hash] {
			absent = append(absent, label)
		}
	}
	slices.Sort(absent)
	for _, label := range absent[:min(len(absent), textsShown)] {
		o.texts[label] = 0
	}
	if n := int64(len(absent)); n > 0 {
		o.found = fmt.Sprintf("%s of %s values of %s %s not occur in %s: %s.", Grouped(n), Grouped(int64(len(j.known))), j.rule.With, plural(n, "does", "do"), j.rule.In, some(absent))
	}
	return o, nil
}
