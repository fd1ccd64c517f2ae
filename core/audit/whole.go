package audit

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// What concerns the table as a whole is judged in one more reading, in file order, of
// the columns concerned. Groups are held in memory, up to groupLimit of them.
const groupLimit = 1 << 20

// groupOf returns the group of a row, which fresh makes from its label where it is met first.
func groupOf[G any](groups map[table.Hash]*G, row *wholeRow, rule *rulebook.TableRule, fresh func(label string) *G) (*G, error) {
	if g := groups[row.group]; g != nil {
		return g, nil
	}
	if len(groups) == groupLimit {
		return nil, tooManyGroups(rule)
	}
	g := fresh(strings.Clone(row.label))
	groups[row.group] = g
	return g, nil
}

func tooManyGroups(rule *rulebook.TableRule) error {
	return fmt.Errorf("there are more than %s groups of %s", Grouped(groupLimit), document.Join(rule.Per))
}

// wholeCheck is a table rule or a reference laid out over the columns of a table.
type wholeCheck struct {
	check     int
	rule      *rulebook.TableRule // or
	reference *rulebook.Reference
	per       []int // columns
	of        int   // the column of numbers, or of the series; -1 for none
	columns   []int // of a reference
}

func (p *plan) wholeChecks() {
	for i := range p.book.TableRules {
		r := &p.book.TableRules[i]
		dimension, columns := rulebook.Consistency, slices.Clone(r.Per)
		switch r.Check {
		case rulebook.RowCount, rulebook.Covers, rulebook.NoGaps:
			dimension = rulebook.Completeness
		}
		for _, name := range []string{r.Of, r.In} {
			if name != "" {
				columns = append(columns, name)
			}
		}
		named := len(columns)
		if r.Total != nil {
			for _, name := range r.Total.Names() {
				if !slices.Contains(columns, name) {
					columns = append(columns, name)
				}
			}
		}
		at := p.add(&check{id: r.ID, kind: KindTable, dimension: dimension, severity: r.Severity, columns: columns, says: tableRuleSays(r), reason: r.Reason})
		w := wholeCheck{check: at, rule: r, of: -1}
		if c := p.checks[at].at; p.checks[at].unjudged == "" && named > 0 {
			w.per = c[:len(r.Per)]
			if named > len(r.Per) {
				w.of = c[len(r.Per)]
			}
		}
		p.whole = append(p.whole, w)
	}
	for i := range p.book.References {
		r := &p.book.References[i]
		at := p.add(&check{id: r.ID, kind: KindReference, dimension: rulebook.Consistency, severity: r.Severity, columns: r.Columns, reason: r.Reason,
			says: fmt.Sprintf("Every %s is a %s.", document.Join(r.Columns), r.To)})
		p.whole = append(p.whole, wholeCheck{check: at, reference: r, columns: p.checks[at].at, of: -1})
	}
}

func tableRuleSays(r *rulebook.TableRule) string {
	per := ""
	if len(r.Per) > 0 {
		per = "for each " + document.Join(r.Per) + ", "
	}
	says := ""
	switch r.Check {
	case rulebook.RowCount:
		switch {
		case r.Most == 0:
			says = fmt.Sprintf("there are at least %s rows", Grouped(r.Least))
		case r.Least == 0:
			says = fmt.Sprintf("there are at most %s rows", Grouped(r.Most))
		default:
			says = fmt.Sprintf("there are %s to %s rows", Grouped(r.Least), Grouped(r.Most))
		}
	case rulebook.PartsSum:
		says = fmt.Sprintf("%sthe parts of %s sum to the total, the rows where %s", per, r.Of, r.Total)
	case rulebook.NoGaps:
		says = fmt.Sprintf("%sno %s is left out between the first and the last %s", per, r.Step.Says, r.In)
	case rulebook.InOrder:
		says = fmt.Sprintf("%sthe rows are in the order of %s", per, r.In)
	case rulebook.Covers:
		says = fmt.Sprintf("every %s occurs in %s", r.With, r.In)
	case rulebook.TotalsMatch:
		says = fmt.Sprintf("%sthe sum of %s is that of %s in %s", per, r.Of, r.With.Columns[len(r.With.Columns)-1], r.With.Dataset)
	}
	if r.Tolerance.Sign() > 0 {
		says += ", give or take " + r.Tolerance.Shortest()
	}
	return strings.ToUpper(says[:1]) + says[1:] + "."
}

// wholeRow is what a check of the whole table needs of one row.
type wholeRow struct {
	row   uint32
	group table.Hash
	label string // of the group, where the row may be its first
	value table.Value
	total condition.Truth
}

// outcome is what becomes of a check in the end.
type outcome struct {
	found string
	rows  *table.RowSet
	texts map[string]int64
}

// wholeJudge takes the rows in file order.
type wholeJudge interface {
	take(rows []wholeRow) error
	end() (outcome, error)
}

// judgeWhole judges table rules and references.
func (r *run) judgeWhole(ctx context.Context, source table.Source, workers int) error {
	var judged []wholeCheck
	var judges []wholeJudge
	for _, w := range r.plan.whole {
		c := r.plan.checks[w.check]
		if c.unjudged != "" {
			continue
		}
		judge, err := r.wholeJudge(ctx, &w, workers)
		if err != nil {
			if ctx.Err() != nil {
				return err
			}
			c.unjudged = err.Error()
			continue
		}
		judged, judges = append(judged, w), append(judges, judge)
	}
	if len(judged) == 0 {
		return nil
	}
	failed := make([]error, len(judged))
	work := func(b *table.Batch) ([][]wholeRow, error) {
		out := make([][]wholeRow, len(judged))
		for i := range judged {
			out[i] = r.wholeRows(&judged[i], b)
		}
		return out, nil
	}
	take := func(rows [][]wholeRow) error {
		for i, judge := range judges {
			if failed[i] == nil {
				failed[i] = judge.take(rows[i])
			}
		}
		return nil
	}
	if err := table.Scan(ctx, source, workers, work, take); err != nil {
		return err
	}
	for i, w := range judged {
		c := r.plan.checks[w.check]
		var o outcome
		if failed[i] == nil {
			o, failed[i] = judges[i].end()
		}
		if failed[i] != nil {
			c.unjudged = failed[i].Error()
			continue
		}
		if c.found = o.found; o.rows != nil && !o.rows.IsEmpty() {
			r.broken[w.check].Or(o.rows)
			r.late = append(r.late, w.check)
		}
		r.texts[w.check] = o.texts
	}
	return nil
}

func (r *run) wholeJudge(ctx context.Context, w *wholeCheck, workers int) (wholeJudge, error) {
	c := r.plan.checks[w.check]
	if w.reference != nil {
		known, err := r.known(ctx, w.reference.To, workers)
		return &referenceJudge{check: c, of: w.reference, rowsOf: r.rows, known: known, rows: table.NewRowSet(), texts: map[string]int64{}}, err
	}
	switch w.rule.Check {
	case rulebook.RowCount:
		return rowCountJudge{w.rule, r.rows}, nil
	case rulebook.PartsSum:
		return &sumJudge{rule: w.rule, groups: map[table.Hash]*sums{}}, nil
	case rulebook.NoGaps:
		return &seriesJudge{rule: w.rule, groups: map[table.Hash]*series{}}, nil
	case rulebook.InOrder:
		return &orderJudge{rule: w.rule, last: map[table.Hash]table.Value{}, rows: table.NewRowSet(), of: r.rows}, nil
	case rulebook.Covers:
		known, err := r.known(ctx, *w.rule.With, workers)
		return &coverJudge{rule: w.rule, known: known}, err
	}
	theirs, err := r.theirTotals(ctx, w.rule, workers)
	return &totalsJudge{sumJudge{rule: w.rule, groups: map[table.Hash]*sums{}}, theirs}, err
}

// wholeRows works out what a check needs of the rows of a batch.
func (r *run) wholeRows(w *wholeCheck, b *table.Batch) []wholeRow {
	if w.rule != nil && w.rule.Check == rulebook.RowCount {
		return nil
	}
	out := make([]wholeRow, b.Len())
	rows := rulebook.Batch{Batch: b, Names: r.plan.names}
	for _, j := range r.plan.judges {
		rows.Cells = append(rows.Cells, j.cells)
	}
	groupBy := w.per
	if w.reference != nil {
		groupBy = w.columns
	} else if w.rule.Check == rulebook.Covers {
		groupBy = []int{w.of}
	}
	keys := identitiesOf(b, groupBy, func(i int) *rulebook.Cells { return r.plan.judges[groupBy[i]].cells })
	for i := range out {
		out[i].row, out[i].value = b.Rows[i], table.BooleanValue(true)
		out[i].group, out[i].label = keys.of(i)
		if keys.lacking[i] && (w.reference != nil || w.rule.Check == rulebook.Covers) {
			out[i].value = table.Value{}
		}
	}
	if w.of >= 0 && w.rule.Check != rulebook.Covers {
		values, codes := rows.Values(r.plan.names[w.of])
		for i := range out {
			out[i].value = values[codes[i]]
		}
	}
	if w.rule != nil && w.rule.Total != nil {
		for i, truth := range w.rule.Total.Evaluate(rows) {
			out[i].total = truth
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

// identitiesOf reads the cells by which rows are grouped; a missing part is a value like others.
func identitiesOf(b *table.Batch, columns []int, cells func(i int) *rulebook.Cells) identities {
	out := identities{lacking: make([]bool, b.Len())}
	for i, c := range columns {
		column := b.Columns[c]
		texts, tokens, missing := make([]string, len(column.Texts)), make([]table.Token, len(column.Texts)), make([]bool, len(column.Texts))
		for code, text := range column.Texts {
			cell := cells(i).Read(text)
			missing[code] = cell.Missing
			if !cell.Missing {
				texts[code] = cell.Identity(text)
				if cell.Spelling {
					texts[code] = cell.Value.Text
				}
			}
			tokens[code] = table.TokenOf(texts[code])
		}
		for k, code := range column.Codes {
			out.lacking[k] = out.lacking[k] || missing[code]
		}
		out.columns, out.texts, out.tokens = append(out.columns, column), append(out.texts, texts), append(out.tokens, tokens)
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

// known returns the keys of another dataset with their labels.
func (r *run) known(ctx context.Context, e rulebook.Elsewhere, workers int) (map[table.Hash]string, error) {
	known := map[table.Hash]string{}
	type one struct {
		hash  table.Hash
		label string
	}
	err := readElsewhere(ctx, r.plan.book, e, workers, func(b *table.Batch, columns []*rulebook.Cells, at []int) ([]one, error) {
		keys := identitiesOf(b, at, func(i int) *rulebook.Cells { return columns[i] })
		var out []one
		for i := range b.Rows {
			if !keys.lacking[i] {
				hash, label := keys.of(i)
				out = append(out, one{hash, label})
			}
		}
		return out, nil
	}, func(found []one) error {
		for _, o := range found {
			if _, met := known[o.hash]; !met {
				if len(known) == elsewhereLimit {
					return errTooMany
				}
				known[o.hash] = strings.Clone(o.label)
			}
		}
		return nil
	})
	return known, err
}
