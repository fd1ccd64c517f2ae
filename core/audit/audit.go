// Package audit runs a rulebook over a table and says what it found: a profile and
// a score for every column, and every broken rule with its rows.
//
// Each question is asked at the cheapest level that can answer it. What concerns
// one cell (type, range, pattern, code) is judged once per distinct text of a
// column and then counted; conditions over several columns are evaluated
// column-wise over a batch; keys and equal rows are found through 128-bit hashes
// that spill to disk. Batches are judged by several workers and taken in file
// order, so that the number of workers cannot be seen in the result.
package audit

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"proudsieve/core/condition"
	"proudsieve/core/intake"
	"proudsieve/core/profile"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

const (
	defectsKept   = 1000
	firstRowsKept = 20
	textsShown    = 10
)

// Run audits source by book on up to workers goroutines. The result depends on
// the table and the rulebook alone.
func Run(ctx context.Context, source table.Source, book *rulebook.Rulebook, workers int) (*Result, error) {
	r := newRun(newPlan(book, source.Columns()))
	defer r.close()
	if err := table.Scan(ctx, source, workers, r.plan.judgeBatch, r.take); err != nil {
		return nil, err
	}
	if err := r.resolveGroups(); err != nil {
		return nil, err
	}
	if err := r.weighGroups(ctx, source, workers); err != nil {
		return nil, err
	}
	return r.result(), nil
}

// judged is what one batch gave.
type judged struct {
	batch    *table.Batch
	verdicts [][]verdict // per column, per text of its dictionary
	counts   [][]int64   // how many rows each text stands in
	broken   [][]uint32  // per check, row numbers
	impact   [][]table.Decimal
	keys     [][]table.HashedRow // per key
	rows     []table.HashedRow   // whole rows
}

// Len implements condition.Rows.
func (b *judged) Len() int { return b.batch.Len() }

// batchRows gives conditions the typed values of a batch.
type batchRows struct {
	*judged
	names []string
}

// Values implements condition.Rows.
func (b batchRows) Values(column string) ([]table.Value, []uint32) {
	at := slices.Index(b.names, column)
	values := make([]table.Value, len(b.verdicts[at]))
	for i, v := range b.verdicts[at] {
		values[i] = v.Value
	}
	return values, b.batch.Columns[at].Codes
}

func (p *plan) judgeBatch(b *table.Batch) (*judged, error) {
	out := &judged{batch: b, verdicts: make([][]verdict, len(b.Columns)), counts: make([][]int64, len(b.Columns)), broken: make([][]uint32, len(p.checks))}
	for c := range b.Columns {
		p.judgeColumn(out, c)
	}
	for _, at := range p.rules {
		check := p.checks[at]
		if check.unjudged != "" {
			continue
		}
		for i, truth := range check.rule.Condition.Evaluate(batchRows{out, p.names}) {
			if truth == condition.False {
				out.broken[at] = append(out.broken[at], b.Rows[i])
			}
		}
	}
	p.hashKeys(out)
	p.weigh(out)
	return out, nil
}

func (p *plan) judgeColumn(out *judged, c int) {
	column, judge := &out.batch.Columns[c], p.judges[c]
	verdicts := judge.verdicts(column.Texts)
	out.verdicts[c], out.counts[c] = verdicts, column.Counts(nil)
	anyBroken := uint8(0)
	for _, v := range verdicts {
		anyBroken |= v.broken
	}
	if anyBroken == 0 {
		return
	}
	for _, one := range judge.checks {
		if anyBroken&one.bit == 0 {
			continue
		}
		var rows []uint32
		for i, code := range column.Codes {
			if verdicts[code].broken&one.bit != 0 {
				rows = append(rows, out.batch.Rows[i])
			}
		}
		out.broken[one.check] = rows
	}
}

// hashKeys hashes the keys of every row. A row with a missing part is compared with none.
func (p *plan) hashKeys(out *judged) {
	b := out.batch
	var buffer []byte
	for _, at := range p.keys {
		check := p.checks[at]
		rows := make([]table.HashedRow, 0, b.Len())
		if check.unjudged == "" {
			identities := make([][]string, len(check.at))
			for k, c := range check.at {
				identities[k] = make([]string, len(out.verdicts[c]))
				for i, v := range out.verdicts[c] {
					identities[k][i] = v.Identity(b.Columns[c].Texts[i])
				}
			}
			parts := make([]string, len(check.at))
			for i := range b.Rows {
				whole := true
				for k, c := range check.at {
					code := b.Columns[c].Codes[i]
					whole = whole && !out.verdicts[c][code].Missing
					parts[k] = identities[k][code]
				}
				if whole {
					var h table.Hash
					h, buffer = table.HashTexts(buffer, parts...)
					rows = append(rows, table.HashedRow{Hash: h, Row: b.Rows[i]})
				}
			}
		}
		out.keys = append(out.keys, rows)
	}
	if p.equalRows >= 0 {
		out.rows = make([]table.HashedRow, b.Len())
		for i := range b.Rows {
			var h table.Hash
			h, buffer = HashRow(b, i, buffer)
			out.rows[i] = table.HashedRow{Hash: h, Row: b.Rows[i]}
		}
	}
}

// HashRow hashes all the cells of row i as they stand, those beyond the header's too.
func HashRow(b *table.Batch, i int, buffer []byte) (table.Hash, []byte) {
	buffer = buffer[:0]
	for c := range b.Columns {
		buffer = table.AppendHashed(buffer, b.Columns[c].At(i))
	}
	for _, text := range b.Surplus[i] {
		buffer = table.AppendHashed(buffer, text)
	}
	return table.HashOf(buffer), buffer
}

// weigh sums every measure over the rows that break a check.
func (p *plan) weigh(out *judged) {
	out.impact = make([][]table.Decimal, len(p.checks))
	for at, rows := range out.broken {
		out.impact[at] = p.sums(out, rows)
	}
}

// sums adds up the measures over some rows of the batch, which are ascending.
func (p *plan) sums(out *judged, rows []uint32) []table.Decimal {
	sums := make([]table.Decimal, len(p.measures))
	i := 0
	for _, row := range rows {
		for out.batch.Rows[i] != row {
			i++
		}
		for m, c := range p.measures {
			if v := out.verdicts[c][out.batch.Columns[c].Codes[i]].Value; v.Kind == table.Number {
				sums[m] = sums[m].Add(v.Number)
			}
		}
	}
	return sums
}

// run gathers the batches of a table.
type run struct {
	plan      *plan
	rows      int64
	setAside  int64
	defects   []table.Defect
	defectsN  int64
	summaries []profile.Summary
	broken    []*table.RowSet
	impact    [][]table.Decimal
	texts     []map[string]int64 // per check of a single column
	groups    []*table.Groups    // per key, then equal rows
	groupsN   map[int]int64      // per check
	marks     []intake.Mark
}

func newRun(p *plan) *run {
	r := &run{plan: p, summaries: make([]profile.Summary, len(p.names)), groupsN: map[int]int64{}, texts: make([]map[string]int64, len(p.checks))}
	for range p.checks {
		r.broken = append(r.broken, table.NewRowSet())
		r.impact = append(r.impact, make([]table.Decimal, len(p.measures)))
	}
	for range len(p.keys) + 1 {
		r.groups = append(r.groups, table.NewGroups())
	}
	return r
}

func (r *run) close() {
	for _, g := range r.groups {
		g.Close()
	}
}

func (r *run) take(j *judged) error {
	b := j.batch
	if b.Len() > 0 {
		r.marks = append(r.marks, intake.Mark{Offset: b.Offset, Row: b.Rows[0], Line: b.Lines[0]})
	}
	r.rows += int64(b.Len())
	r.setAside += b.SetAside
	r.defectsN += int64(len(b.Defects))
	if room := defectsKept - len(r.defects); room > 0 {
		r.defects = append(r.defects, b.Defects[:min(room, len(b.Defects))]...)
	}
	// Columns and keys know nothing of one another, so each takes the batch in on its own.
	var group sync.WaitGroup
	for c := range b.Columns {
		group.Go(func() { r.takeColumn(j, c) })
	}
	errs := make([]error, len(r.groups))
	for k, rows := range append(j.keys, j.rows) {
		group.Go(func() { errs[k] = r.groups[k].AddAll(rows) })
	}
	for at, rows := range j.broken {
		r.broken[at].AddMany(rows)
		r.addImpact(at, j.impact[at])
	}
	group.Wait()
	return errors.Join(errs...)
}

func (r *run) takeColumn(j *judged, c int) {
	for i, text := range j.batch.Columns[c].Texts {
		if n := j.counts[c][i]; n > 0 {
			r.summaries[c].Add(text, n, j.verdicts[c][i].Missing, j.verdicts[c][i].Value)
		}
	}
	r.countTexts(j, c)
}

// countTexts counts the offending texts of a column's checks, up to a cap.
func (r *run) countTexts(j *judged, c int) {
	for _, one := range r.plan.judges[c].checks {
		if len(j.broken[one.check]) == 0 {
			continue
		}
		if r.texts[one.check] == nil {
			r.texts[one.check] = map[string]int64{}
		}
		counts := r.texts[one.check]
		for i, v := range j.verdicts[c] {
			if v.broken&one.bit == 0 || j.counts[c][i] == 0 {
				continue
			}
			text := j.batch.Columns[c].Texts[i]
			if _, known := counts[text]; known || len(counts) < textsKept {
				counts[text] += j.counts[c][i]
			}
		}
	}
}

func (r *run) addImpact(at int, sums []table.Decimal) {
	for m, sum := range sums {
		r.impact[at][m] = r.impact[at][m].Add(sum)
	}
}

// resolveGroups finds the surplus rows: all but the first of each group.
func (r *run) resolveGroups() error {
	checks := append(slices.Clone(r.plan.keys), r.plan.equalRows)
	for k, g := range r.groups {
		at := checks[k]
		if at < 0 {
			continue
		}
		if err := g.Repeated(func(_ table.Hash, rows []uint32) error {
			r.groupsN[at]++
			r.broken[at].AddMany(rows[1:])
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}

// weighGroups reads the parts with surplus rows once more, to sum the measures over them.
func (r *run) weighGroups(ctx context.Context, source table.Source, workers int) error {
	surplus := table.NewRowSet()
	for at := range r.groupsN {
		surplus.Or(r.broken[at])
	}
	if surplus.IsEmpty() || len(r.plan.measures) == 0 {
		return nil
	}
	work := func(b *table.Batch) (map[int][]table.Decimal, error) {
		j := &judged{batch: b, verdicts: make([][]verdict, len(b.Columns))}
		for _, c := range r.plan.measures {
			j.verdicts[c] = r.plan.judges[c].verdicts(b.Columns[c].Texts)
		}
		sums := map[int][]table.Decimal{}
		for at := range r.groupsN {
			var rows []uint32
			for _, row := range b.Rows {
				if r.broken[at].Contains(row) {
					rows = append(rows, row)
				}
			}
			sums[at] = r.plan.sums(j, rows)
		}
		return sums, nil
	}
	return table.ScanWhere(ctx, source, surplus, workers, work, func(sums map[int][]table.Decimal) error {
		for at, s := range sums {
			r.addImpact(at, s)
		}
		return nil
	})
}

func (r *run) result() *Result {
	p := r.plan
	out := &Result{Rows: r.rows, SetAside: r.setAside, Records: r.rows + r.setAside, DefectCount: r.defectsN, Defects: r.defects,
		Findings: []Finding{}, Rules: []Judged{}, Sums: map[string]string{}, PassMark: p.book.PassMark, Marks: r.marks}
	if out.Defects == nil {
		out.Defects = []table.Defect{}
	}
	wrong := table.NewRowSet()
	stopped := false
	for at, c := range p.checks {
		rows := r.broken[at]
		judged := Judged{Rule: c.id, Says: c.says, Severity: c.severity, Rows: int64(rows.GetCardinality()), Unjudged: c.unjudged}
		if c.kind == KindColumn {
			rows.AddRange(1, uint64(r.rows)+1)
			judged.Rows = r.rows
		}
		out.Rules = append(out.Rules, judged)
		stopped = stopped || c.unjudged != "" || c.kind == KindColumn
		if judged.Rows == 0 && c.kind != KindColumn {
			continue
		}
		wrong.Or(rows)
		stopped = stopped || c.severity == rulebook.Stop
		out.Findings = append(out.Findings, r.finding(at))
	}
	for m, c := range p.measures {
		out.Sums[p.names[c]] = r.summaries[p.measures[m]].Sum().Shortest()
	}
	for c, name := range p.names {
		out.Columns = append(out.Columns, r.column(c, name, out.Findings))
	}
	out.Score = share(r.rows, wrong)
	out.Mesh = mesh(r.rows, out.Findings, func(*Finding) bool { return true })
	out.Passed = !stopped && out.Score >= out.PassMark
	return out
}

func (r *run) column(c int, name string, findings []Finding) Column {
	j := r.plan.judges[c]
	names := func(f *Finding) bool { return slices.Contains(f.Columns, name) }
	all, by := table.NewRowSet(), map[rulebook.Dimension]*table.RowSet{}
	for _, d := range rulebook.Dimensions {
		by[d] = table.NewRowSet()
	}
	for i := range findings {
		if f := &findings[i]; names(f) {
			all.Or(f.RowSet)
			by[f.Dimension].Or(f.RowSet)
		}
	}
	return Column{
		Name: name, Type: j.cells.Type, Declared: j.cells.Declared != nil, Score: share(r.rows, all),
		Completeness: share(r.rows, by[rulebook.Completeness]), Validity: share(r.rows, by[rulebook.Validity]),
		Uniqueness: share(r.rows, by[rulebook.Uniqueness]), Consistency: share(r.rows, by[rulebook.Consistency]),
		Mesh: mesh(r.rows, findings, names), Column: r.summaries[c].Column(),
	}
}

func mesh(rows int64, findings []Finding, counts func(*Finding) bool) Mesh {
	m := Mesh{Cells: MeshCells(rows)}
	for _, d := range rulebook.Dimensions {
		caught := table.NewRowSet()
		for i := range findings {
			if findings[i].Dimension == d && counts(&findings[i]) {
				caught.Or(findings[i].RowSet)
			}
		}
		if caught.IsEmpty() {
			continue
		}
		cells := make([]uint32, m.Cells)
		for i := range cells {
			first, last := meshSpan(rows, m.Cells, i)
			cells[i] = uint32(caught.Rank(last) - caught.Rank(first-1))
		}
		if m.Caught == nil {
			m.Caught = map[rulebook.Dimension][]uint32{}
		}
		m.Caught[d] = cells
	}
	return m
}

func (r *run) finding(at int) Finding {
	c, rows := r.plan.checks[at], r.broken[at]
	rows.RunOptimize()
	f := Finding{Rule: c.id, Kind: c.kind, Dimension: c.dimension, Severity: c.severity, Columns: c.columns, Says: c.says, Reason: c.reason,
		Rows: int64(rows.GetCardinality()), Groups: r.groupsN[at], Impact: map[string]string{}, RowSet: rows, FirstRows: []uint32{}}
	for it := rows.Iterator(); it.HasNext() && len(f.FirstRows) < firstRowsKept; {
		f.FirstRows = append(f.FirstRows, it.Next())
	}
	for m, column := range r.plan.measures {
		f.Impact[r.plan.names[column]] = r.impact[at][m].Shortest()
	}
	for text, n := range r.texts[at] {
		f.Texts = append(f.Texts, profile.Frequency{Text: text, Rows: n})
	}
	slices.SortFunc(f.Texts, func(a, b profile.Frequency) int {
		return cmp.Or(cmp.Compare(b.Rows, a.Rows), strings.Compare(a.Text, b.Text))
	})
	f.Texts = f.Texts[:min(len(f.Texts), textsShown)]
	f.Found = f.sentence(r.rows, c)
	return f
}

// sentence says what was found, as "312 of 3,000 rows have nothing in unit."
func (f *Finding) sentence(rows int64, c *check) string {
	have := plural(f.Rows, "has", "have")
	of := fmt.Sprintf("%s of %s %s", Grouped(f.Rows), Grouped(rows), plural(rows, "row", "rows"))
	column := strings.Join(f.Columns, " and ")
	switch f.Kind {
	case KindRequired:
		return fmt.Sprintf("%s %s nothing in %s.", of, have, column)
	case KindType:
		return fmt.Sprintf("%s %s something in %s that is no %s.", of, have, column, c.typ)
	case KindRange:
		return fmt.Sprintf("%s %s a value out of range in %s.", of, have, column)
	case KindPattern:
		return fmt.Sprintf("%s %s a text of another form in %s.", of, have, column)
	case KindCodes:
		return fmt.Sprintf("%s %s something in %s that is no code of its list.", of, have, column)
	case KindSpelling:
		return fmt.Sprintf("%s %s another spelling of a code in %s.", of, have, column)
	case KindKey:
		return fmt.Sprintf("%s %s surplus: %s %s more than once.", of, plural(f.Rows, "is", "are"), Grouped(f.Groups), plural(f.Groups, "value of "+column+" occurs", "values of "+column+" occur"))
	case KindEqualRows:
		return fmt.Sprintf("%s %s an earlier row in every cell.", of, plural(f.Rows, "repeats", "repeat"))
	case KindColumn:
		return fmt.Sprintf("The table has no column %s.", column)
	}
	return fmt.Sprintf("%s %s the rule %s.", of, plural(f.Rows, "breaks", "break"), c.rule.Condition)
}

func plural(n int64, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// Grouped writes n with a comma between thousands.
func Grouped(n int64) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}
