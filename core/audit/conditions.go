package audit

import (
	"slices"

	"proudsieve/core/condition"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// evaluators work out a rule's conditions; when is nil where it applies to every row.
type evaluators struct{ when, condition *condition.Evaluator }

func evaluatorsOf(rule *rulebook.Rule, memory *condition.Memory) evaluators {
	e := evaluators{condition: rule.Condition.Evaluator(memory)}
	if rule.When != nil {
		e.when = rule.When.Evaluator(memory)
	}
	return e
}

// judgeRule finds the rows for which a condition is false where it applies.
func (s *stretch) judgeRule(b *table.Batch, at int, e evaluators) {
	rows := batchRows{s: s, b: b}
	if e.when != nil {
		some := []int{}
		for i, truth := range e.when.Evaluate(&rows) {
			if truth == condition.True {
				some = append(some, i)
			}
		}
		rows.some, rows.codes = some, make([][]uint32, len(b.Columns))
	}
	e.condition.EachNotTrue(&rows, func(i int, truth condition.Truth) {
		if truth == condition.Unknown {
			s.undecided[at]++
			return
		}
		if rows.some != nil {
			i = rows.some[i]
		}
		s.broken[at] = append(s.broken[at], b.Rows[i])
	})
}

// judgeParents finds the rows where a code does not stand beside its parent.
func (s *stretch) judgeParents(b *table.Batch, p *parentCheck) {
	codes, parents := &s.columns[p.code], &s.columns[p.parent]
	wanted := make([]string, len(codes.values)) // the parent of each text that has one
	for i := range wanted {
		if c := p.codes.Find(codes.values[i].Text); c != nil {
			wanted[i] = c.Parent
		}
	}
	beside := b.Columns[p.parent].Codes
	for i, code := range b.Columns[p.code].Codes {
		if wanted[code] == "" {
			continue
		}
		if v := parents.values[beside[i]]; v.Kind != table.Missing && v.Standard() != wanted[code] {
			s.broken[p.check] = append(s.broken[p.check], b.Rows[i])
		}
	}
}

// batchRows gives conditions the typed values of a batch.
type batchRows struct {
	s     *stretch
	b     *table.Batch
	some  []int      // only these rows, by their index; nil for all
	codes [][]uint32 // of some, per column, once they were asked for
}

// Len implements condition.Rows.
func (r *batchRows) Len() int {
	if r.some != nil {
		return len(r.some)
	}
	return r.b.Len()
}

// Values implements condition.Rows.
func (r *batchRows) Values(column string) ([]table.Value, []uint32) {
	at := slices.Index(r.s.plan.names, column)
	codes := r.b.Columns[at].Codes
	if r.some != nil {
		if r.codes[at] == nil {
			r.codes[at] = make([]uint32, len(r.some))
			for k, i := range r.some {
				r.codes[at][k] = codes[i]
			}
		}
		codes = r.codes[at]
	}
	return r.s.columns[at].values, codes
}

// Begun implements condition.LastingRows.
func (r *batchRows) Begun(column string) uint64 {
	at := slices.Index(r.s.plan.names, column)
	if r.s.dictionaries[at].Apart {
		return 0
	}
	return r.s.columns[at].begun
}
