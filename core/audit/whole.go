package audit

import (
	"context"
	"slices"

	"proudsieve/core/condition"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// What concerns the table as a whole is judged in one more reading, in file order, of
// the columns concerned.

// wholeRun is a rule on the table while its rows are read.
type wholeRun struct {
	check  int
	needs  rulebook.Needs
	judge  rulebook.TableJudge
	failed error
}

// judgeWhole judges rules on the table, and references.
func (r *run) judgeWhole(ctx context.Context, source table.Source, workers int) error {
	around := Around(r.plan.book, r.rows, workers)
	var judged []*wholeRun
	var reads bool
	for _, at := range r.plan.whole {
		c := r.plan.checks[at]
		if c.unjudged != "" {
			continue
		}
		rule := c.Rule.(rulebook.TableRule)
		judge, err := rule.Begin(ctx, around)
		if err != nil {
			if ctx.Err() != nil {
				return err
			}
			r.verdicts[at].unjudged = err.Error()
			continue
		}
		one := &wholeRun{check: at, needs: rule.Needs(), judge: judge}
		reads = reads || one.needs.Rows
		judged = append(judged, one)
	}
	if reads {
		if err := r.readWhole(ctx, source, judged, workers); err != nil {
			return err
		}
	}
	for _, one := range judged {
		var o rulebook.Outcome
		if one.failed == nil {
			o, one.failed = one.judge.End()
		}
		if one.failed != nil {
			o = rulebook.Outcome{Unjudged: one.failed.Error()}
		}
		r.end(one.check, o)
	}
	return nil
}

// readWhole hands the rows to the judges that need them.
func (r *run) readWhole(ctx context.Context, source table.Source, judged []*wholeRun, workers int) error {
	judged = slices.DeleteFunc(slices.Clone(judged), func(one *wholeRun) bool { return !one.needs.Rows })
	cells := make([]*rulebook.Cells, len(r.plan.judges))
	for c, j := range r.plan.judges {
		cells[c] = j.cells
	}
	work := func(b *table.Batch) ([][]rulebook.TableRow, error) {
		out := make([][]rulebook.TableRow, len(judged))
		for i, one := range judged {
			out[i] = rowsFor(one.needs, rulebook.Batch{Batch: b, Names: r.plan.names, Cells: cells})
		}
		return out, nil
	}
	return table.ScanBatches(ctx, source, workers, work, func(rows [][]rulebook.TableRow) error {
		for i, one := range judged {
			if one.failed == nil {
				one.failed = one.judge.Take(rows[i])
			}
		}
		return nil
	})
}

// end takes the outcome of a rule that is judged at the end.
func (r *run) end(at int, o rulebook.Outcome) {
	v := &r.verdicts[at]
	v.found, v.all, v.texts = o.Found, o.All, o.Texts
	if o.Unjudged != "" {
		v.unjudged, v.excused = o.Unjudged, o.Excused
	}
	if o.Rows != nil && !o.Rows.IsEmpty() {
		v.rows.Or(o.Rows)
		v.late = true
	}
}

// rowsFor works out what a rule needs of the rows of a batch.
func rowsFor(needs rulebook.Needs, rows rulebook.Batch) []rulebook.TableRow {
	out := make([]rulebook.TableRow, rows.Len())
	group := make([]int, len(needs.Group))
	for i, name := range needs.Group {
		group[i] = slices.Index(rows.Names, name)
	}
	keys := identitiesOf(rows, group, needs.Period)
	for i := range out {
		out[i].Row, out[i].Value = rows.Rows[i], table.BooleanValue(true)
		out[i].Group, out[i].Label = keys.of(i)
		if needs.Whole && keys.lacking[i] {
			out[i].Value = table.Value{}
		}
	}
	if needs.Value != "" {
		values, codes := rows.Values(needs.Value)
		for i := range out {
			out[i].Value = values[codes[i]]
		}
	}
	if needs.Expression != nil {
		values, codes := needs.Expression.Evaluator(condition.NewMemory(1)).Values(rows)
		for i := range out {
			out[i].Value = values[codes[i]]
		}
	}
	if needs.Total != nil {
		for i, truth := range needs.Total.Evaluate(rows) {
			out[i].Total = truth
		}
	}
	return out
}

// identities are the keys of a batch's rows.
type identities struct {
	columns []table.Column
	texts   [][]string // per column and code
	tokens  [][]table.Token
	lacking []bool // whether a part is missing
}

// identitiesOf reads the cells by which rows are grouped; a missing part is a value like others. Dates and datetimes stand for the day
// that their period begins with, where there is one.
func identitiesOf(rows rulebook.Batch, columns []int, period string) identities {
	begins := condition.PeriodOf(period)
	out := identities{lacking: make([]bool, rows.Len())}
	for _, c := range columns {
		column := rows.Columns[c]
		texts, tokens, missing := make([]string, len(column.Texts)), make([]table.Token, len(column.Texts)),
			make([]bool, len(column.Texts))
		for code, text := range column.Texts {
			cell := rows.Cells[c].Read(text)
			missing[code] = cell.Missing
			switch v := cell.Value; {
			case cell.Missing:
			case begins != nil && (v.Kind == table.Date || v.Kind == table.Instant):
				texts[code] = table.DateValue(begins(v).Day()).Standard()
			default:
				texts[code] = cell.Identity(text)
			}
			tokens[code] = table.TokenOf(texts[code])
		}
		for k, code := range column.Codes {
			out.lacking[k] = out.lacking[k] || missing[code]
		}
		out.columns, out.texts, out.tokens = append(out.columns, column), append(out.texts, texts),
			append(out.tokens, tokens)
	}
	return out
}

// of returns the hash and the label of row i.
func (k *identities) of(i int) (table.Hash, string) {
	var h table.Hash
	label := ""
	for c := range k.columns {
		code := k.columns[c].Codes[i]
		h = table.With(h, k.tokens[c][code])
		switch {
		case c == 0:
			label = k.texts[c][code]
		default:
			label += ", " + k.texts[c][code]
		}
	}
	return h, label
}
