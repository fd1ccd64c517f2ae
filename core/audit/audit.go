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
	"maps"
	"slices"
	"strings"
	"sync/atomic"

	"proudsieve/core/guard"
	"proudsieve/core/intake/delimited"
	"proudsieve/core/leads"
	"proudsieve/core/profile"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

const (
	// textsKept bounds the offending texts that are counted per check.
	textsKept     = 1 << 16
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
	if book, err = WithOpen(ctx, book, source); err != nil {
		return nil, err
	}
	result, opened, err := readThrough(ctx, source, book, workers)
	if err == nil && result == nil {
		result, opened, err = readThrough(ctx, source, book.Settled(opened), workers)
	}
	if err != nil {
		return nil, err
	}
	result.book = book.Settled(opened)
	if file, ok := source.(interface{ Renamed() map[string]string }); ok {
		result.Renamed = file.Renamed()
	}
	return result, nil
}

// readThrough audits source by book, and says of which types the open columns are. There is no result where they are to be read otherwise.
func readThrough(ctx context.Context, source table.Source, book *rulebook.Rulebook,
	workers int) (*Result, map[string]rulebook.Opened, error) {
	p, marks := newPlan(book, source.Columns()), table.MarksOf(source)
	p.mark(marks)
	if err := p.foresee(ctx, source); err != nil {
		return nil, nil, err
	}
	r := newRun(p, workers)
	defer r.close()
	if err := table.ScanStretches(ctx, source, workers, r.begin, (*stretch).judge, (*stretch).end,
		func(s *stretch) error { return r.take(ctx, s) }); err != nil {
		return nil, nil, err
	}
	opened := r.openColumns()
	if !book.ReadsAs(opened) {
		if ok, err := r.readAnew(ctx, source, opened, marks); err != nil || !ok {
			return nil, opened, err
		}
		opened = r.openColumns()
	}
	if err := r.resolveGroups(ctx, source); err != nil {
		return nil, nil, err
	}
	if err := r.judgeWhole(ctx, source, workers); err != nil {
		return nil, nil, err
	}
	r.judgeEnds()
	if err := r.weighLate(ctx, source, workers); err != nil {
		return nil, nil, err
	}
	out, err := r.result(ctx, opened)
	if err != nil {
		return nil, nil, err
	}
	if n := marks.Count(); n > 0 {
		out.Estimates = &Estimates{Cells: n, Are: cmp.Or(book.Estimates, rulebook.EstimatesMissing), Marks: marks.Digest}
	}
	if book.Beside != nil && len(book.Beside.Used) > 0 {
		out.Beside = maps.Clone(book.Beside.Used)
	}
	return out, opened, nil
}

// run gathers the stretches of a table.
type run struct {
	plan        *plan
	workers     int
	idle        chan *stretch
	estimated   []atomic.Uint64 // per column, what its shards may begin with
	rows        int64
	setAside    int64
	closing     []string
	defects     []table.Defect
	defectsN    int64
	summaries   []profile.Summary
	census      []census        // per column
	missing     []*table.RowSet // per column
	together    together
	verdicts    []verdict         // per check
	groups      []*table.Groups   // per key, then equal rows
	keyed       []keyed           // per key
	jumbled     []atomic.Bool     // per key, whether it was seen not to ascend
	met         []map[string]bool // per column, the codes met
	crowded     bool              // texts of some column were given up, to make room for those of others
	checkpoints []delimited.Checkpoint
}

// verdict is what was found of a check.
type verdict struct {
	rows      *table.RowSet   // that break it
	all       bool            // every row does
	late      bool            // the rows are known only in the end, and are weighed then
	impact    []table.Decimal // per measure
	texts     map[string]int64
	groups    int64  // of a key or equal rows
	found     string // in a sentence, of a rule that is judged in the end
	unjudged  string
	excused   bool
	undecided int64 // rows for which a condition is neither true nor false
	tolerated int64 // rows that break a rule which so many may break
}

func newRun(p *plan, workers int) *run {
	r := &run{plan: p, workers: workers, idle: make(chan *stretch, workers+2),
		estimated: make([]atomic.Uint64, len(p.names)), keyed: make([]keyed, len(p.keys)), jumbled: make([]atomic.Bool,
			len(p.keys)), summaries: make([]profile.Summary, len(p.names)), census: make([]census, len(p.names)), met: make([]map[string]bool, len(p.names))}
	for range p.names {
		r.missing = append(r.missing, table.NewRowSet())
	}
	for _, c := range p.checks {
		r.verdicts = append(r.verdicts, verdict{rows: table.NewRowSet(), impact: make([]table.Decimal, len(p.measures)),
			unjudged: c.unjudged, excused: c.excused})
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
	r.checkpoints = append(r.checkpoints, s.checkpoints...)
	r.rows += s.rows
	r.setAside += s.setAside
	r.closing = append(r.closing, s.closing...)
	r.defectsN += s.defectsN
	if room := defectsKept - len(r.defects); room > 0 {
		r.defects = append(r.defects, s.defects[:min(room, len(s.defects))]...)
	}
	r.together.merge(&s.together)
	for c, codes := range s.met {
		if r.met[c] == nil {
			r.met[c] = map[string]bool{}
		}
		maps.Copy(r.met[c], codes)
	}
	// Columns and keys know nothing of one another, so each takes the stretch in on its own.
	var columns guard.Group
	columns.Go(func() error {
		return r.each(ctx, len(s.columns), func(c int) {
			r.summaries[c].Take(&s.columns[c].shard)
			r.estimated[c].Store(r.summaries[c].Estimated())
			r.missing[c].AddMany(s.columns[c].missingRows)
			r.census[c].merge(s.columns[c].census)
		})
	})
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
	for at := range s.found {
		r.verdicts[at].take(&s.found[at])
	}
	err = errors.Join(err, columns.Wait())
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

// counted is how many texts are counted of all columns together.
func (r *run) counted() (all int) {
	for c := range r.summaries {
		all += r.summaries[c].Counted()
	}
	return all
}

// makeRoom keeps what is counted within bounds.
func (r *run) makeRoom() {
	all := r.counted()
	for all > textsCounted {
		most := 0
		for c := range r.summaries {
			if r.summaries[c].Counted() > r.summaries[most].Counted() {
				most = c
			}
		}
		before := r.summaries[most].Counted()
		r.summaries[most].Crowd()
		r.crowded = true
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

// take adds what a stretch says.
func (v *verdict) take(p *partial) {
	v.rows.AddMany(p.rows)
	v.weigh(p.impact)
	mergeTexts(&v.texts, p.texts)
	v.undecided += p.undecided
}

func (v *verdict) weigh(sums []table.Decimal) {
	for m, sum := range sums {
		v.impact[m] = v.impact[m].Add(sum)
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
					hashed = append(hashed, table.HashedRow{Hash: table.HashRow(b, i), Row: row})
				}
			}
			return hashed, nil
		}
		if err := table.ScanBatches(ctx, table.Where(source, shared), r.workers, work, equal.AddAll); err != nil {
			return err
		}
	}
	return r.surplus(r.plan.equalRows, equal, func([]uint32) {})
}

func (r *run) surplus(at int, groups *table.Groups, each func(rows []uint32)) error {
	v := &r.verdicts[at]
	v.late = true
	return groups.Repeated(r.workers, func(_ table.Hash, rows []uint32) error {
		v.groups++
		v.rows.AddMany(rows[1:])
		each(rows)
		return nil
	})
}

// weighLate reads the parts with rows found late once more, to sum the measures over them.
func (r *run) weighLate(ctx context.Context, source table.Source, workers int) error {
	caught := table.NewRowSet()
	var late []int
	for at := range r.verdicts {
		if v := &r.verdicts[at]; v.late {
			caught.Or(v.rows)
			late = append(late, at)
		}
	}
	if caught.IsEmpty() || len(r.plan.measures) == 0 {
		return nil
	}
	work := func(b *table.Batch) (map[int][]table.Decimal, error) {
		sums := map[int][]table.Decimal{}
		for _, at := range late {
			var rows []uint32
			for _, row := range b.Rows {
				if r.verdicts[at].rows.Contains(row) {
					rows = append(rows, row)
				}
			}
			sums[at] = r.plan.sums(b, func(c, i int) string { return b.Columns[c].At(i) }, rows)
		}
		return sums, nil
	}
	return table.ScanBatches(ctx, table.Where(source, caught), workers, work, func(sums map[int][]table.Decimal) error {
		for at, s := range sums {
			r.verdicts[at].weigh(s)
		}
		return nil
	})
}

func (r *run) result(ctx context.Context, opened map[string]rulebook.Opened) (*Result, error) {
	p := r.plan
	out := &Result{Rows: r.rows, SetAside: r.setAside, Records: r.rows + r.setAside, DefectCount: r.defectsN,
		Defects: r.defects,
		Closing: r.closing, Findings: []Finding{}, Rules: []Judged{}, Sums: map[string]string{}, PassMark: p.book.PassMark, Checkpoints: r.checkpoints}
	if out.Defects == nil {
		out.Defects = []table.Defect{}
	}
	wrong := table.NewRowSet()
	stopped := false
	told := []Lead{}
	for at, c := range p.checks {
		v := &r.verdicts[at]
		if v.all {
			v.rows.AddRange(1, uint64(r.rows)+1)
		}
		judged := Judged{Rule: c.ID, Says: c.Rule.Says(), Severity: c.Severity, Rows: int64(v.rows.GetCardinality()),
			Unjudged: v.unjudged, Excused: v.unjudged != "" && v.excused, Undecided: v.undecided, Tolerated: v.tolerated}
		stopped = stopped || v.unjudged != "" && !v.excused
		if c.told() {
			if judged.Rows > 0 {
				kind, says := c.Rule.(rulebook.ToldRule).Told(r.brokenBy(at))
				told = append(told, Lead{Column: c.columns[0], Columns: c.columns, Kind: kind, Says: says, Rows: judged.Rows,
					FirstRows: []uint32{}, Sure: 0.6, Share: percent(judged.Rows, r.rows) / 100})
			}
			judged.Rows = 0
			out.Rules = append(out.Rules, judged)
			continue
		}
		out.Rules = append(out.Rules, judged)
		if judged.Rows == 0 && v.found == "" {
			continue
		}
		wrong.Or(v.rows)
		stopped = stopped || c.Severity == rulebook.Major
		out.Findings = append(out.Findings, r.finding(at))
	}
	weighCosts(out)
	for m, c := range p.measures {
		out.Sums[p.names[c]] = r.summaries[p.measures[m]].Sum().Shortest()
	}
	var err error
	if out.Columns, err = r.columns(ctx, out.Findings); err != nil {
		return nil, err
	}
	for c := range out.Columns {
		column := &out.Columns[c]
		if is, open := opened[column.Name]; open {
			column.Type, column.ReadBy = is.Type, is.Dates
		}
		column.Role = r.roleOf(column, c)
	}
	out.Leads = append(leads.Find(r.known(out)), told...)
	leads.Order(out.Leads)
	out.meant(p.book)
	out.ColumnScore = r.columnScore(out.Columns)
	out.MissingTogether, out.MoreTogether = r.together.result(p.names)
	out.Score = share(r.rows, wrong)
	out.Mesh = mesh(r.rows, out.Findings, func(*Finding) bool { return true })
	if p.book.Judges() {
		passed := !stopped && out.Score >= out.PassMark
		out.Passed = &passed
	}
	return out, nil
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

// columns describes the columns, each on its own.
func (r *run) columns(ctx context.Context, findings []Finding) ([]Column, error) {
	columns := make([]Column, len(r.plan.names))
	err := r.each(ctx, len(columns), func(c int) { columns[c] = r.column(c, findings) })
	return columns, err
}

// each calls work with 0, 1, … up to n, on as many goroutines as there are workers.
func (r *run) each(ctx context.Context, n int, work func(at int)) error {
	var group guard.Group
	next := make(chan int, n)
	for at := range n {
		next <- at
	}
	close(next)
	for range min(r.workers, n) {
		group.Go(func() error {
			defer guard.Slot(ctx)()
			for at := range next {
				if err := ctx.Err(); err != nil {
					return err
				}
				work(at)
			}
			return nil
		})
	}
	return group.Wait()
}

func (r *run) column(c int, findings []Finding) Column {
	j, name := r.plan.judges[c], r.plan.names[c]
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
	if estimated := r.plan.estimated[c]; estimated != nil {
		column.Estimated = int64(estimated.GetCardinality())
	}
	return column
}

// roleOf returns the declared role of a column, or what it seems to be.
func (r *run) roleOf(column *Column, c int) Role {
	if d := r.plan.judges[c].cells.Declared; d != nil && d.Role != "" {
		return declaredRoles[d.Role]
	}
	return roleOf(column, r.rows)
}

var declaredRoles = map[string]Role{"identifier": RoleIdentifier, "category": RoleCategory, "measure": RoleMeasure,
	"date": RoleDate, "text": RoleText}

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

func number(cells *rulebook.Cells) profile.NumberReader {
	return func(t table.Token, text string) (table.Decimal, bool) {
		if cells.Type.IsNumber() {
			if _, c, scale, ok := cells.Number(t); ok {
				return table.DecimalOf(c, scale), true
			}
		}
		v := cells.Read(t.Text(text)).Value
		return v.Number, v.Kind == table.Number
	}
}

func (r *run) finding(at int) Finding {
	c, v := r.plan.checks[at], &r.verdicts[at]
	v.rows.RunOptimize()
	f := Finding{Rule: c.ID, Kind: c.Kind.FindingKind(), Dimension: c.Dimension, Severity: c.Severity,
		Columns: c.columns, Says: c.Rule.Says(), Found: v.found, Reason: c.Reason,
		Rows: int64(v.rows.GetCardinality()), Groups: v.groups, Impact: map[string]string{}, RowSet: v.rows,
		FirstRows: []uint32{}}
	for it := v.rows.Iterator(); it.HasNext() && len(f.FirstRows) < firstRowsKept; {
		f.FirstRows = append(f.FirstRows, it.Next())
	}
	for m, column := range r.plan.measures {
		f.Impact[r.plan.names[column]] = v.impact[m].Shortest()
	}
	for text, n := range v.texts {
		f.Texts = append(f.Texts, profile.Frequency{Text: text, Rows: n})
	}
	slices.SortFunc(f.Texts, func(a, b profile.Frequency) int {
		return cmp.Or(cmp.Compare(b.Rows, a.Rows), strings.Compare(a.Text, b.Text))
	})
	f.Texts = f.Texts[:min(len(f.Texts), textsShown)]
	if f.Found == "" {
		f.Found = c.Rule.Found(r.brokenBy(at))
	}
	return f
}

// brokenBy says how much of the table breaks a rule.
func (r *run) brokenBy(at int) *rulebook.Broken {
	v := &r.verdicts[at]
	broken := &rulebook.Broken{Rows: int64(v.rows.GetCardinality()), Of: r.rows, Groups: v.groups, Texts: v.texts}
	if c := r.plan.checks[at]; len(c.at) == 1 && c.at[0] >= 0 {
		if estimated := r.plan.lacking(c.at[0]); estimated != nil {
			broken.Estimated = int64(estimated.AndCardinality(v.rows))
		}
	}
	return broken
}

func percent(part, of int64) float64 {
	if of == 0 {
		return 0
	}
	return 100 * float64(part) / float64(of)
}
