package audit

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// What concerns the table as a whole is judged in one more reading, in file order, of
// the columns concerned. Groups are held in memory, up to groupLimit of them.
const groupLimit = 1 << 20

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

// row is what a check of the whole table needs of one row.
type wholeRow struct {
	row   uint32
	group table.Hash
	label string // of the group, where the row may be its first
	value table.Value
	total condition.Truth
}

// member is what becomes of a check in the end.
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

// sums are those of one group.
type sums struct {
	label        string
	parts, total table.Decimal
	hasTotal     bool
	rows         []uint32
}

type sumJudge struct {
	rule    *rulebook.TableRule
	groups  map[table.Hash]*sums
	forgets bool // the rows of the groups
}

func (j *sumJudge) take(rows []wholeRow) error {
	for i := range rows {
		one := &rows[i]
		g := j.groups[one.group]
		if g == nil {
			if len(j.groups) == groupLimit {
				return fmt.Errorf("there are more than %s groups of %s", Grouped(groupLimit), document.Join(j.rule.Per))
			}
			g = &sums{label: strings.Clone(one.label)}
			j.groups[one.group] = g
		}
		if j.rule.Total != nil && one.total == condition.Unknown {
			continue // neither a part nor a total
		}
		if !j.forgets {
			g.rows = append(g.rows, one.row)
		}
		if one.value.Kind != table.Number {
			continue
		}
		if one.total == condition.True {
			g.total, g.hasTotal = g.total.Add(one.value.Number), true
		} else {
			g.parts = g.parts.Add(one.value.Number)
		}
	}
	return nil
}

func (j *sumJudge) end() (outcome, error) {
	return j.compare(slices.Collect(maps.Values(j.groups)), func(g *sums) (table.Decimal, bool) { return g.total, g.hasTotal }, "the parts sum to %s and the total is %s")
}

// compare holds the parts of each group against a total; groups without one are left out.
func (j *sumJudge) compare(groups []*sums, total func(*sums) (table.Decimal, bool), says string) (outcome, error) {
	o := outcome{rows: table.NewRowSet(), texts: map[string]int64{}}
	var off []*sums
	compared := int64(0)
	for _, g := range groups {
		t, ok := total(g)
		if !ok {
			continue
		}
		compared++
		if g.parts.Sub(t).Abs().Cmp(j.rule.Tolerance) > 0 {
			off = append(off, g)
			o.rows.AddMany(g.rows)
		}
	}
	if len(off) == 0 {
		return o, nil
	}
	slices.SortFunc(off, func(a, b *sums) int { return strings.Compare(a.label, b.label) })
	var shown []string
	for _, g := range off[:min(len(off), textsShown)] {
		t, _ := total(g)
		text := fmt.Sprintf(says, g.parts.Shortest(), t.Shortest())
		if g.label != "" {
			text = g.label + ": " + text
		}
		o.texts[text] = int64(len(g.rows))
		shown = append(shown, text)
	}
	o.found = fmt.Sprintf("%s of %s %s of %s %s not agree; %s.", Grouped(int64(len(off))), Grouped(compared), plural(compared, "sum", "sums"), j.rule.Of, plural(int64(len(off)), "does", "do"), shown[0])
	return o, nil
}

type totalsJudge struct {
	sumJudge
	theirs map[table.Hash]*sums
}

// theirTotals sums a column of another dataset per group.
func (r *run) theirTotals(ctx context.Context, rule *rulebook.TableRule, workers int) (map[table.Hash]*sums, error) {
	theirs := sumJudge{rule: rule, groups: map[table.Hash]*sums{}, forgets: true}
	err := readElsewhere(ctx, r.plan.book, *rule.With, workers, func(b *table.Batch, columns []*rulebook.Cells, at []int) ([]wholeRow, error) {
		last := len(at) - 1
		keys := identitiesOf(b, at[:last], func(i int) *rulebook.Cells { return columns[i] })
		values := make([]table.Value, len(b.Columns[at[last]].Texts))
		for code, text := range b.Columns[at[last]].Texts {
			values[code] = columns[last].Read(text).Value
		}
		out := make([]wholeRow, b.Len())
		for i := range out {
			out[i].group, out[i].label = keys.of(i)
			out[i].row, out[i].value, out[i].total = b.Rows[i], values[b.Columns[at[last]].Codes[i]], condition.False
		}
		return out, nil
	}, theirs.take)
	return theirs.groups, err
}

func (j *totalsJudge) end() (outcome, error) {
	var groups []*sums
	for hash, g := range j.groups {
		g.total, g.hasTotal = table.Decimal{}, true
		if t := j.theirs[hash]; t != nil {
			g.total = t.parts
		}
		groups = append(groups, g)
	}
	for hash, t := range j.theirs {
		if j.groups[hash] == nil {
			groups = append(groups, &sums{label: t.label, total: t.parts, hasTotal: true})
		}
	}
	return j.compare(groups, func(g *sums) (table.Decimal, bool) { return g.total, true }, "the sum is %s here and %s there")
}

type orderJudge struct {
	rule *rulebook.TableRule
	last map[table.Hash]table.Value
	rows *table.RowSet
	of   int64
}

func (j *orderJudge) take(rows []wholeRow) error {
	for i := range rows {
		one := &rows[i]
		if one.value.Kind == table.Missing {
			continue
		}
		last, met := j.last[one.group]
		switch {
		case !met && len(j.last) == groupLimit:
			return fmt.Errorf("there are more than %s groups of %s", Grouped(groupLimit), document.Join(j.rule.Per))
		case met && table.Compare(one.value, last) < 0:
			j.rows.Add(one.row)
		}
		if one.value.Kind == table.Text {
			one.value.Text = strings.Clone(one.value.Text)
		}
		j.last[one.group] = one.value
	}
	return nil
}

func (j *orderJudge) end() (outcome, error) {
	n := int64(j.rows.GetCardinality())
	if n == 0 {
		return outcome{}, nil
	}
	return outcome{found: fmt.Sprintf("%s of %s %s %s a %s below the one before.", Grouped(n), Grouped(j.of), plural(j.of, "row", "rows"), plural(n, "has", "have"), j.rule.In), rows: j.rows}, nil
}

// series are the places of one group in a series of dates or numbers.
type series struct {
	label  string
	places []place
}

type place struct {
	at  int64
	row uint32
}

type seriesJudge struct {
	rule   *rulebook.TableRule
	groups map[table.Hash]*series
}

// placeOf counts days or months, or is the number itself.
func (j *seriesJudge) placeOf(v table.Value) (int64, bool) {
	switch {
	case v.Kind == table.Date && j.rule.Step.Months > 0:
		when := time.Unix(v.When*86_400, 0).UTC()
		return int64(when.Year())*12 + int64(when.Month()), true
	case v.Kind == table.Date:
		return v.When, true
	case v.Kind == table.Number && v.Number.IsWhole():
		return v.Number.Units(0, false), true
	}
	return 0, false
}

func (j *seriesJudge) take(rows []wholeRow) error {
	for i := range rows {
		one := &rows[i]
		at, ok := j.placeOf(one.value)
		if !ok {
			continue
		}
		g := j.groups[one.group]
		if g == nil {
			if len(j.groups) == groupLimit {
				return fmt.Errorf("there are more than %s groups of %s", Grouped(groupLimit), document.Join(j.rule.Per))
			}
			g = &series{label: strings.Clone(one.label)}
			j.groups[one.group] = g
		}
		if n := len(g.places); n == 0 || g.places[n-1].at != at {
			g.places = append(g.places, place{at, one.row})
		}
	}
	return nil
}

func (j *seriesJudge) end() (outcome, error) {
	o := outcome{rows: table.NewRowSet(), texts: map[string]int64{}}
	step := int64(j.rule.Step.Days) + int64(j.rule.Step.Months) + j.rule.Step.Number
	groups := slices.SortedFunc(maps.Values(j.groups), func(a, b *series) int { return strings.Compare(a.label, b.label) })
	gaps, left, first := int64(0), int64(0), ""
	for _, g := range groups {
		slices.SortFunc(g.places, func(a, b place) int { return cmp.Or(cmp.Compare(a.at, b.at), cmp.Compare(a.row, b.row)) })
		for i := 1; i < len(g.places); i++ {
			before, after := g.places[i-1], g.places[i]
			n := (after.at - before.at - 1) / step
			if n < 1 {
				continue
			}
			gaps++
			left += n
			o.rows.Add(after.row)
			text := "after " + j.written(before.at)
			if g.label != "" {
				text = g.label + ": " + text
			}
			if first == "" {
				first = text
			}
			if len(o.texts) < textsKept {
				o.texts[text] += n
			}
		}
	}
	if gaps > 0 {
		o.found = fmt.Sprintf("%s %s %s in the series of %s, with %s %s left out; the first one is %s.", plural(gaps, "There is", "There are"), Grouped(gaps), plural(gaps, "gap", "gaps"), j.rule.In, Grouped(left), j.leftOut(left), first)
	}
	return o, nil
}

func (j *seriesJudge) leftOut(n int64) string {
	if j.rule.Step.Number > 0 {
		return plural(n, "number", "numbers")
	}
	return plural(n, j.rule.Step.Says, j.rule.Step.Says+"s")
}

func (j *seriesJudge) written(at int64) string {
	switch {
	case j.rule.Step.Months > 0:
		return fmt.Sprintf("%04d-%02d", (at-1)/12, (at-1)%12+1)
	case j.rule.Step.Days > 0:
		return table.DateValue(at).Standard()
	}
	return fmt.Sprint(at)
}
