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
	"maps"
	"slices"
	"strings"
	"sync/atomic"

	"proudsieve/core/document"
	"proudsieve/core/guard"
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
	book, err := Bound(ctx, book, workers)
	if err != nil {
		return nil, err
	}
	r := newRun(newPlan(book, source.Columns()), workers)
	defer r.close()
	if err := table.ScanStretches(ctx, source, workers, r.begin, (*stretch).judge, (*stretch).end, func(s *stretch) error { return r.take(ctx, s) }); err != nil {
		return nil, err
	}
	if err := r.resolveGroups(ctx, source); err != nil {
		return nil, err
	}
	if err := r.judgeWhole(ctx, source, workers); err != nil {
		return nil, err
	}
	r.judgeShares()
	if err := r.weighLate(ctx, source, workers); err != nil {
		return nil, err
	}
	out := r.result()
	if book.Beside != nil && len(book.Beside.Used) > 0 {
		out.Beside = maps.Clone(book.Beside.Used)
	}
	return out, nil
}

// run gathers the stretches of a table.
type run struct {
	plan      *plan
	workers   int
	idle      chan *stretch
	estimated []atomic.Uint64 // per column, what its shards may begin with
	rows      int64
	setAside  int64
	defects   []table.Defect
	defectsN  int64
	summaries []profile.Summary
	missing   []*table.RowSet // per column
	patterns  patterns
	broken    []*table.RowSet
	impact    [][]table.Decimal
	texts     []map[string]int64 // per check of a single column
	groups    []*table.Groups    // per key, then equal rows
	keyed     []keyed            // per key
	jumbled   []atomic.Bool      // per key, whether it was seen not to ascend
	groupsN   map[int]int64      // per check
	late      []int              // checks whose rows are known only in the end, and are weighed then
	occurring []map[string]bool  // per column, the codes met
	marks     []intake.Mark
}

func newRun(p *plan, workers int) *run {
	r := &run{plan: p, workers: workers, idle: make(chan *stretch, workers+2), estimated: make([]atomic.Uint64, len(p.names)), keyed: make([]keyed, len(p.keys)), jumbled: make([]atomic.Bool, len(p.keys)), summaries: make([]profile.Summary, len(p.names)), groupsN: map[int]int64{}, texts: make([]map[string]int64, len(p.checks)), occurring: make([]map[string]bool, len(p.names))}
	for range p.names {
		r.missing = append(r.missing, table.NewRowSet())
	}
	for range p.checks {
		r.broken = append(r.broken, table.NewRowSet())
		r.impact = append(r.impact, make([]table.Decimal, len(p.measures)))
	}
	room := table.NewRoom(1)
	for range len(p.keys) + 1 {
		r.groups = append(r.groups, table.NewGroups(room))
	}
	return r
}

func (r *run) close() {
	for _, g := range r.groups {
		g.Close()
	}
}

// begin returns a state for a stretch, one that is done with where there is one.
func (r *run) begin() (*stretch, []*table.Dictionary) {
	var s *stretch
	select {
	case s = <-r.idle:
	default:
		s = newStretch(r.plan)
	}
	for c := range s.columns {
		s.columns[c].shard.Begin(r.estimated[c].Load())
	}
	for k := range s.climbs {
		s.climbs[k] = climb{over: len(r.plan.checks[r.plan.keys[k]].at) > 1 || r.jumbled[k].Load()}
	}
	return s, s.dictionaries
}

func (r *run) take(ctx context.Context, s *stretch) error {
	r.marks = append(r.marks, s.marks...)
	r.rows += s.rows
	r.setAside += s.setAside
	r.defectsN += s.defectsN
	if room := defectsKept - len(r.defects); room > 0 {
		r.defects = append(r.defects, s.defects[:min(room, len(s.defects))]...)
	}
	r.patterns.merge(&s.patterns)
	for at, n := range s.undecided {
		r.plan.checks[at].undecided += n
	}
	for c, codes := range s.occurring {
		if r.occurring[c] == nil {
			r.occurring[c] = map[string]bool{}
		}
		maps.Copy(r.occurring[c], codes)
	}
	// Columns and keys know nothing of one another, so each takes the stretch in on its own.
	var group guard.Group
	next := make(chan int, len(s.columns))
	for c := range s.columns {
		next <- c
	}
	close(next)
	for range r.workers {
		group.Go(func() error {
			defer guard.Slot(ctx)()
			for c := range next {
				r.summaries[c].Take(&s.columns[c].shard)
				r.estimated[c].Store(r.summaries[c].Estimated())
				r.missing[c].AddMany(s.columns[c].missingRows)
			}
			return nil
		})
	}
	var err error
	for k := range s.climbs {
		r.keyed[k].add(&s.climbs[k])
		if s.climbs[k].over {
			r.jumbled[k].Store(true)
		}
	}
	for k := range s.hashed {
		err = errors.Join(err, r.groups[k].Take(&s.hashed[k]))
	}
	for at, rows := range s.broken {
		r.broken[at].AddMany(rows)
		r.addImpact(at, s.impact[at])
		mergeTexts(&r.texts[at], s.texts[at])
	}
	err = errors.Join(err, group.Wait())
	r.makeRoom()
	s.reset()
	select {
	case r.idle <- s:
	default:
	}
	return err
}

// textsCounted bounds the texts that are counted of all columns together. Beyond it, the
// columns with the most of them are estimated, as those are that have too many by themselves.
const textsCounted = 2_500_000

// makeRoom keeps what is counted within bounds.
func (r *run) makeRoom() {
	all := 0
	for c := range r.summaries {
		all += r.summaries[c].Counted()
	}
	for all > textsCounted {
		most := 0
		for c := range r.summaries {
			if r.summaries[c].Counted() > r.summaries[most].Counted() {
				most = c
			}
		}
		before := r.summaries[most].Counted()
		r.summaries[most].Crowd()
		r.estimated[most].Store(r.summaries[most].Estimated())
		if all -= before - r.summaries[most].Counted(); r.summaries[most].Counted() == before {
			return // there is nothing to give up any more
		}
	}
}

// mergeTexts adds counts, in the order of the texts where not all may find room.
func mergeTexts(to *map[string]int64, from map[string]int64) {
	if len(from) == 0 {
		return
	}
	if *to == nil {
		*to = map[string]int64{}
	}
	for _, text := range slices.Sorted(maps.Keys(from)) {
		if _, known := (*to)[text]; known || len(*to) < textsKept {
			(*to)[text] += from[text]
		}
	}
}

func (r *run) addImpact(at int, sums []table.Decimal) {
	for m, sum := range sums {
		r.impact[at][m] = r.impact[at][m].Add(sum)
	}
}

// resolveGroups finds the surplus rows: all but the first of each group.
func (r *run) resolveGroups(ctx context.Context, source table.Source) error {
	shared := table.NewRowSet() // rows that share the key by which equal rows are looked for
	for k, at := range r.plan.keys {
		if err := r.hashUnsettled(ctx, source, k); err != nil {
			return err
		}
		if err := r.surplus(at, r.groups[k], func(rows []uint32) {
			if k == r.plan.equalVia && r.plan.equalRows >= 0 {
				shared.AddMany(rows)
			}
		}); err != nil {
			return err
		}
	}
	if r.plan.equalRows < 0 {
		return nil
	}
	equal := r.groups[len(r.plan.keys)]
	if !shared.IsEmpty() {
		work := func(b *table.Batch) ([]table.HashedRow, error) {
			var hashed []table.HashedRow
			for i, row := range b.Rows {
				if shared.Contains(row) {
					hashed = append(hashed, table.HashedRow{Hash: HashRow(b, i), Row: row})
				}
			}
			return hashed, nil
		}
		if err := table.ScanWhere(ctx, source, shared, r.workers, work, equal.AddAll); err != nil {
			return err
		}
	}
	return r.surplus(r.plan.equalRows, equal, func([]uint32) {})
}

func (r *run) surplus(at int, groups *table.Groups, each func(rows []uint32)) error {
	r.late = append(r.late, at)
	return groups.Repeated(r.workers, func(_ table.Hash, rows []uint32) error {
		r.groupsN[at]++
		r.broken[at].AddMany(rows[1:])
		each(rows)
		return nil
	})
}

// judgeShares decides what depends on how many rows there are: shares that must be filled,
// shares that may break a rule, codes that must occur.
func (r *run) judgeShares() {
	for _, at := range r.plan.filled {
		c := r.plan.checks[at]
		if lacking := r.missing[c.at[0]]; float64(lacking.GetCardinality())*100 > (100-c.filled)*float64(r.rows) {
			r.broken[at].Or(lacking)
			r.late = append(r.late, at)
		}
	}
	for _, at := range r.plan.rules {
		c, rows := r.plan.checks[at], r.broken[at]
		if n := rows.GetCardinality(); c.rule.MayBreak > 0 && float64(n)*100 <= c.rule.MayBreak*float64(r.rows) {
			c.tolerated = int64(n)
			rows.Clear()
		}
	}
	for c, at := range r.plan.occurring {
		if at >= 0 && r.plan.checks[at].unjudged == "" {
			r.plan.checks[at].found = r.absent(c, at)
		}
	}
}

// absent says which codes that must occur do not.
func (r *run) absent(c, at int) string {
	codes := r.plan.judges[c].cells.Codes()
	absent, must := []string{}, 0
	for i := range codes.Codes {
		one := &codes.Codes[i]
		if one.Ended || !codes.AllOccur && !one.MustOccur {
			continue
		}
		must++
		if !r.occurring[c][one.Code] {
			absent = append(absent, one.Code)
		}
	}
	if len(absent) == 0 {
		return ""
	}
	r.texts[at] = map[string]int64{}
	for _, code := range absent[:min(len(absent), textsKept)] {
		r.texts[at][code] = 0
	}
	return fmt.Sprintf("%s of %s codes that must occur in %s %s not: %s.", Grouped(int64(len(absent))), Grouped(int64(must)), r.plan.names[c], plural(int64(len(absent)), "does", "do"), some(absent))
}

// some lists texts, not too many of them.
func some(texts []string) string {
	const most = 8
	if len(texts) > most {
		return strings.Join(texts[:most], ", ") + fmt.Sprintf(" and %s more", Grouped(int64(len(texts)-most)))
	}
	return document.Join(texts)
}

// weighLate reads the parts with rows found late once more, to sum the measures over them.
func (r *run) weighLate(ctx context.Context, source table.Source, workers int) error {
	caught := table.NewRowSet()
	for _, at := range r.late {
		caught.Or(r.broken[at])
	}
	if caught.IsEmpty() || len(r.plan.measures) == 0 {
		return nil
	}
	work := func(b *table.Batch) (map[int][]table.Decimal, error) {
		sums := map[int][]table.Decimal{}
		for _, at := range r.late {
			var rows []uint32
			for _, row := range b.Rows {
				if r.broken[at].Contains(row) {
					rows = append(rows, row)
				}
			}
			sums[at] = r.plan.sums(b, func(c, i int) string { return b.Columns[c].At(i) }, rows)
		}
		return sums, nil
	}
	return table.ScanWhere(ctx, source, caught, workers, work, func(sums map[int][]table.Decimal) error {
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
	r.judgeHistory()
	wrong := table.NewRowSet()
	stopped := false
	var told []Lead
	for at, c := range p.checks {
		rows := r.broken[at]
		judged := Judged{Rule: c.id, Says: c.says, Severity: c.severity, Rows: int64(rows.GetCardinality()), Unjudged: c.unjudged, Undecided: c.undecided, Tolerated: c.tolerated}
		if c.quiet {
			if judged.Rows > 0 {
				told = append(told, r.newCodes(at, judged.Rows))
			}
			judged.Rows = 0
			out.Rules = append(out.Rules, judged)
			continue
		}
		if c.kind == KindColumn {
			rows.AddRange(1, uint64(r.rows)+1)
			judged.Rows = r.rows
		}
		out.Rules = append(out.Rules, judged)
		stopped = stopped || c.unjudged != "" && !c.excused || c.kind == KindColumn
		if judged.Rows == 0 && c.kind != KindColumn && c.found == "" {
			continue
		}
		wrong.Or(rows)
		stopped = stopped || c.severity == rulebook.Stop
		out.Findings = append(out.Findings, r.finding(at))
	}
	weighCosts(out)
	for m, c := range p.measures {
		out.Sums[p.names[c]] = r.summaries[p.measures[m]].Sum().Shortest()
	}
	for c, name := range p.names {
		out.Columns = append(out.Columns, r.column(c, name, out.Findings))
	}
	out.Leads = append(leads(out), told...)
	out.ColumnScore = r.columnScore(out.Columns)
	out.Patterns, out.MorePatterns = r.patterns.result(p.names)
	out.Score = share(r.rows, wrong)
	out.Mesh = mesh(r.rows, out.Findings, func(*Finding) bool { return true })
	out.Passed = !stopped && out.Score >= out.PassMark
	return out
}

// weighCosts says what each finding costs, by itself and beside the others.
func weighCosts(r *Result) {
	once, more := table.NewRowSet(), table.NewRowSet() // rows in one finding, and in several
	for i := range r.Findings {
		rows := r.Findings[i].RowSet
		more.Or(table.And(once, rows))
		once.Or(rows)
	}
	once.AndNot(more)
	for i := range r.Findings {
		f := &r.Findings[i]
		f.Cost, f.Regained = percent(f.Rows, r.Rows), percent(int64(once.AndCardinality(f.RowSet)), r.Rows)
	}
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
	column := Column{
		Name: name, Type: j.cells.Type, Declared: j.cells.Declared != nil, Score: share(r.rows, all),
		Completeness: share(r.rows, by[rulebook.Completeness]), Validity: share(r.rows, by[rulebook.Validity]),
		Uniqueness: share(r.rows, by[rulebook.Uniqueness]), Consistency: share(r.rows, by[rulebook.Consistency]),
		Mesh: mesh(r.rows, findings, names), Column: r.summaries[c].Column(number(j.cells)),
		Gaps: cellsOf(r.rows, r.missing[c]), MissingRows: r.missing[c],
	}
	column.Role = roleOf(&column, r.rows)
	if d := j.cells.Declared; d != nil && d.Role != "" {
		column.Role = declaredRoles[d.Role]
	}
	return column
}

var declaredRoles = map[string]Role{"identifier": RoleIdentifier, "dimension": RoleDimension, "measure": RoleMeasure, "date": RoleDate, "text": RoleText}

// columnScore is the mean of the columns' scores by weight; 100 where nothing has weight.
func (r *run) columnScore(columns []Column) float64 {
	sum, weights := 0.0, 0.0
	for c := range columns {
		weight := 1.0
		if d := r.plan.judges[c].cells.Declared; d != nil {
			weight = d.Weight
		}
		sum += weight * columns[c].Score
		weights += weight
	}
	if weights == 0 {
		return 100
	}
	return sum / weights
}

// newCodes tells of texts that are in no code list, where new ones are allowed.
func (r *run) newCodes(at int, rows int64) Lead {
	c := r.plan.checks[at]
	return Lead{c.columns[0], "new_codes", fmt.Sprintf("%s of %s %s a code that is not in its list yet: %s.", plural(rows, "1 cell", Grouped(rows)+" cells"), c.columns[0], plural(rows, "holds", "hold"), some(slices.Sorted(maps.Keys(r.texts[at])))), rows}
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
		cells := cellsOf(rows, caught)
		if m.Caught == nil {
			m.Caught = map[rulebook.Dimension][]uint32{}
		}
		m.Caught[d] = cells
	}
	return m
}

// cellsOf counts rows by the cells of a mesh; nil where there are none.
func cellsOf(rows int64, caught *table.RowSet) []uint32 {
	if caught.IsEmpty() {
		return nil
	}
	cells := make([]uint32, MeshCells(rows))
	for i := range cells {
		first, last := meshSpan(rows, len(cells), i)
		cells[i] = uint32(caught.Rank(last) - caught.Rank(first-1))
	}
	return cells
}

func number(cells *rulebook.Cells) func(string) (table.Decimal, bool) {
	return func(text string) (table.Decimal, bool) {
		v := cells.Read(text).Value
		return v.Number, v.Kind == table.Number
	}
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
	if c.found != "" {
		return c.found
	}
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
	case KindLength:
		return fmt.Sprintf("%s %s a text in %s that is too short or too long.", of, have, column)
	case KindDecimals:
		return fmt.Sprintf("%s %s too many digits after the point in %s.", of, have, column)
	case KindEnded:
		return fmt.Sprintf("%s %s a code in %s that has ended.", of, have, column)
	case KindFilled:
		return fmt.Sprintf("%s %s nothing in %s; at least %s %% must have a value.", of, have, column, decimalOf(c.filled))
	case KindParent:
		return fmt.Sprintf("%s %s a %s beside another %s than its own.", of, have, f.Columns[0], f.Columns[1])
	case KindKey:
		return fmt.Sprintf("%s %s surplus: %s %s more than once.", of, plural(f.Rows, "is", "are"), Grouped(f.Groups), plural(f.Groups, "value of "+column+" occurs", "values of "+column+" occur"))
	case KindEqualRows:
		return fmt.Sprintf("%s %s an earlier row in every cell.", of, plural(f.Rows, "repeats", "repeat"))
	case KindColumn:
		return fmt.Sprintf("The table has no column %s.", column)
	}
	breaks := plural(f.Rows, "breaks", "break")
	if c.rule == nil {
		return fmt.Sprintf("%s %s the rule %s.", of, breaks, f.Rule)
	}
	return fmt.Sprintf("%s %s the rule %s.", of, breaks, c.rule.Condition)
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
