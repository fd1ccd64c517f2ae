// Package tally tells of rows by group: how many there are, and what measures of them are. Groups are the values of
// expressions of the condition language, so that a period of a date, a step of a number and whatever else can be worked
// out of a row are told of in one way.
//
// To add a measure, give measures.go its kind.
package tally

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/relation"
	"proudsieve/core/table"
)

// Question says by what rows are grouped, and what is told of each group.
type Question struct {
	// By are one or two expressions of the condition language: columns, or what is made of them, as
	// DATE_TRUNC('month', sampled) or FLOOR(flow / 5) * 5. None tells of all rows as one group.
	By       []string
	Measures []Measure     // none counts the rows
	Rows     *table.RowSet // that count; nil for all
	// Top is how many groups are told of on their own, of each expression; the others are gathered. 0 for Top.
	Top int
	// Order puts the groups of the first expression into order; the zero value orders texts by their rows, most first, and
	// numbers, dates and times by their value.
	Order Order
}

// Order is an order of groups.
type Order struct {
	By      string // "group", "rows", or the name of a measure that is asked for; empty for the order that goes without saying
	Falling bool
}

// Tally tells of rows by group.
type Tally struct {
	By       []GroupedBy `json:"by"`
	Measures []Measure   `json:"measures"`
	// Cells are by the groups of the first expression and those of the second, of which there is one where there is none.
	// Groups beyond the first so many are gathered in a last one (GroupedBy.Rest).
	Cells  [][]Tallied `json:"cells"`
	Downs  []Tallied   `json:"downs"`  // each group of the first expression over all of the second
	Across []Tallied   `json:"across"` // and the other way round
	All    Tallied     `json:"all"`
}

// GroupedBy is an expression with its groups, in order.
type GroupedBy struct {
	Expression string         `json:"expression"`
	Kind       string         `json:"kind" enum:"text,number,date,datetime,boolean"`
	Groups     []TalliedGroup `json:"groups"`
	// Rest is how many groups are gathered in the last one beyond these; 0 where all stand here.
	Rest int `json:"rest"`
}

// NameOf is what the i-th group is called, and what the others are that are gathered behind the last one.
func (g *GroupedBy) NameOf(i int) string {
	switch {
	case i >= len(g.Groups):
		return fmt.Sprintf("the other %s", document.Grouped(int64(g.Rest)))
	case g.Groups[i].Missing:
		return "(missing)"
	}
	return g.Groups[i].Text
}

// TalliedGroup is the rows for which an expression has a value, or none.
type TalliedGroup struct {
	Text    string `json:"text"` // the value as tables of ours write it
	Missing bool   `json:"missing,omitempty" doc:"The expression has no value: something that it speaks of is missing, or not of its type"`
	value   table.Value
	place   table.Value // what it is put into order by
}

// Tallied is what is told of a group.
type Tallied struct {
	Rows int64 `json:"rows"`
	// Values are those of the measures, exact decimals and ISO dates; empty for none.
	Values []string `json:"values"`
	// Estimated says which of them are not exact: quantiles and counts of different values, where too many are held.
	Estimated []bool `json:"estimated,omitempty"`
}

func (t *Tallied) copied() Tallied {
	out := *t
	out.Values = slices.Clone(t.Values)
	return out
}

const (
	// Top is how many groups are told of on their own where nobody says how many, and Most how many can be.
	Top  = 40
	Most = 1000
	// groupsHeld bounds the groups that are held.
	groupsHeld = 1 << 17
	// valuesHeld is how many different values are held before groups of many of them are estimated, and valuesMost how
	// many can be in groups of few. What is estimated takes as much memory as some valuesWorth values, so that
	// to estimate fewer would free none, and estimatesHeld bounds how much of it there can be.
	valuesHeld    = 1 << 18
	valuesMost    = 1 << 21
	valuesWorth   = 1 << 11
	estimatesHeld = 1 << 11
)

// ErrTooManyGroups says that what is grouped by has too many values.
var ErrTooManyGroups = fmt.Errorf("there are more than %s groups; group by fewer values, as a period of a date or a step of a number, or choose rows",
	document.Grouped(groupsHeld))

// ErrTooManyValues says that there are too many different values in too many groups.
var ErrTooManyValues = fmt.Errorf("there are more than %s different values, in too many groups to tell medians, quartiles or counts of different values of; group by fewer values, as a period of a date or a step of a number, choose rows, or ask for sums and means alone",
	document.Grouped(valuesMost))

// prepared is a question made ready.
type prepared struct {
	by       []*condition.Expression
	of       []*condition.Expression // of the measures, each once
	measures []Measure
	sources  []int // of each measure, in of; -1 for none
	counted  []bool
	names    []string
	at       []int
}

// groupKey is a group by its values.
type groupKey [2]valueKey

// valueKey is what two values share exactly when they are equal: numbers and moments as machine words, where they are
// such, since most are and a text of each would take longer than all else.
type valueKey struct {
	kind   table.Kind
	scale  int8
	number int64
	text   string
}

func keyOf(v *table.Value) valueKey {
	switch v.Kind {
	case table.Missing:
		return valueKey{}
	case table.Date, table.Instant:
		return valueKey{kind: v.Kind, number: v.When}
	case table.Number:
		if c, scale, ok := v.Number.ShortestWord(); ok {
			return valueKey{kind: v.Kind, number: c, scale: int8(scale)}
		}
	}
	return valueKey{kind: v.Kind, text: v.Identity()}
}

func (k valueKey) compare(o valueKey) int {
	return cmp.Or(cmp.Compare(k.kind, o.kind), cmp.Compare(k.scale, o.scale), cmp.Compare(k.number, o.number), cmp.Compare(k.text, o.text))
}

// gathered is what is known of the rows of a group.
type gathered struct {
	rows int64
	of   []gatheredOf
}

// group is a group with its values.
type group struct {
	values [2]table.Value
	gathered
}

// Of groups rows and tells of each group.
//
// What it holds is bounded: ErrTooManyGroups and ErrTooManyValues say so.
func Of(ctx context.Context, t *relation.Table, asked Question) (*Tally, error) {
	q, err := prepare(t, asked)
	if err != nil {
		return nil, err
	}
	whole := map[groupKey]*group{}
	values, estimates := 0, 0
	scanning, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	err = relation.Scan(scanning, t, q.at, func() *part { return newPart(q, asked.Rows) },
		func(p *part, r *relation.Readers, b *table.Batch) { p.take(r, b) },
		func(p *part) {
			for key, g := range p.groups {
				to := whole[key]
				if to == nil {
					to = &group{values: g.values, gathered: gathered{of: make([]gatheredOf, len(q.of))}}
					whole[key] = to
				}
				before := to.held()
				to.merge(&g.gathered)
				values += to.held() - before
			}
			if values > valuesHeld {
				for _, g := range whole {
					let, n := g.estimate(valuesWorth)
					values, estimates = values-let, estimates+n
				}
			}
			switch {
			case len(whole) > groupsHeld:
				stop(ErrTooManyGroups)
			case values > valuesMost || estimates > estimatesHeld:
				stop(ErrTooManyValues)
			}
		})
	if scanning.Err() != nil {
		err = context.Cause(scanning)
	}
	if err != nil {
		return nil, err
	}
	return q.shown(whole, asked)
}

// prepare checks a question against a table.
func prepare(t *relation.Table, asked Question) (*prepared, error) {
	q := &prepared{measures: asked.Measures, names: t.Source.Columns()}
	if len(q.measures) == 0 {
		q.measures = []Measure{{Kind: MeasureRows}}
	}
	if len(asked.By) > 2 {
		return nil, fmt.Errorf("rows are grouped by two expressions at most, not by %d", len(asked.By))
	}
	types := t.Types()
	compile := func(source, what string) (*condition.Expression, error) {
		x, mistakes := condition.CompileExpression(source, types)
		if len(mistakes) > 0 {
			return nil, fmt.Errorf("%s, %q: %w", what, source, mistakes[0])
		}
		for _, name := range x.Names() {
			if at := slices.Index(q.names, name); !slices.Contains(q.at, at) {
				q.at = append(q.at, at)
			}
		}
		return x, nil
	}
	for _, source := range asked.By {
		x, err := compile(source, "what rows are grouped by")
		if err != nil {
			return nil, err
		}
		q.by = append(q.by, x)
	}
	sources := map[string]int{}
	for _, m := range q.measures {
		kind := measureKinds[m.Kind]
		if kind == nil {
			return nil, fmt.Errorf("%q is no measure; known are %s", m.Kind, strings.Join(MeasureKinds(), ", "))
		}
		switch m.Share {
		case "":
		case ShareOfAll, ShareOfRow, ShareOfColumn:
			if !kind.adds {
				return nil, fmt.Errorf("%s is no share of a whole; rows, filled and sum are", m.Kind)
			}
		case ShareOfBefore:
			if len(q.by) == 0 || q.by[0].Next() == nil {
				return nil, fmt.Errorf("a change is told against the period before; group by periods first, as DATE_TRUNC('month', day)")
			}
		default:
			return nil, fmt.Errorf("a share is of all, of its row, of its column or of the period before, not of %q", m.Share)
		}
		if kind.rows {
			q.sources = append(q.sources, -1)
			continue
		}
		at, known := sources[m.Of]
		if !known {
			x, err := compile(m.Of, "the measure "+m.Kind)
			if err != nil {
				return nil, err
			}
			at = len(q.of)
			sources[m.Of] = at
			q.of, q.counted = append(q.of, x), append(q.counted, false)
		}
		if kind.number && q.of[at].Kind != table.Number {
			return nil, fmt.Errorf("%s is of numbers, and %s is a %s", m.Kind, m.Of, q.of[at].Kind)
		}
		q.sources = append(q.sources, at)
		q.counted[at] = q.counted[at] || kind.counted
	}
	return q, nil
}

// part gathers one stretch.
type part struct {
	*prepared
	rows   *table.RowSet
	groups map[groupKey]*group
	values *typedRows
	by     []*condition.ExpressionEvaluator
	of     []*condition.ExpressionEvaluator
}

func newPart(q *prepared, rows *table.RowSet) *part {
	p := &part{prepared: q, rows: rows, groups: map[groupKey]*group{}}
	// Each has a memory of its own, so that what one gives is good while the others are worked out.
	evaluator := func(x *condition.Expression) *condition.ExpressionEvaluator {
		return x.Evaluator(condition.NewMemory(len(q.by) + len(q.of)))
	}
	for _, x := range q.by {
		p.by = append(p.by, evaluator(x))
	}
	for _, x := range q.of {
		p.of = append(p.of, evaluator(x))
	}
	return p
}

// column is the values that an expression has in a batch.
type column struct {
	values []table.Value
	codes  []uint32
}

// take gathers the rows of a batch.
func (p *part) take(r *relation.Readers, b *table.Batch) {
	if p.values == nil {
		p.values = &typedRows{r: r, names: p.names, at: p.at, values: make([][]table.Value, len(p.at)), begun: make([]uint64, len(p.at))}
	}
	p.values.begin(b)
	var by [2]column
	for i, x := range p.by {
		by[i].values, by[i].codes = x.Values(p.values)
	}
	of := make([]column, len(p.of))
	for i, x := range p.of {
		of[i].values, of[i].codes = x.Values(p.values)
	}
	groups := map[uint64]*group{} // by the codes in this batch
	for k, row := range b.Rows {
		if p.rows != nil && !p.rows.Contains(row) {
			continue
		}
		var codes [2]uint32
		for i := range p.by {
			codes[i] = by[i].codes[k]
		}
		pair := uint64(codes[0])<<32 | uint64(codes[1])
		g := groups[pair]
		if g == nil {
			g = p.group(by, codes)
			groups[pair] = g
		}
		g.rows++
		for i := range of {
			if v := &of[i].values[of[i].codes[k]]; v.Kind != table.Missing {
				g.of[i].add(v, 1, p.counted[i])
			}
		}
	}
}

func (p *part) group(by [2]column, codes [2]uint32) *group {
	var key groupKey
	g := &group{gathered: gathered{of: make([]gatheredOf, len(p.prepared.of))}}
	for i := range p.by {
		key[i] = keyOf(&by[i].values[codes[i]])
	}
	if known := p.groups[key]; known != nil {
		return known
	}
	for i := range p.by {
		g.values[i] = lasting(&by[i].values[codes[i]])
		key[i].text = strings.Clone(key[i].text) // it may stand in the bytes of a batch
	}
	p.groups[key] = g
	return g
}

// typedRows gives expressions the typed values of a batch, each text once.
type typedRows struct {
	r      *relation.Readers
	names  []string
	at     []int // columns that are read
	b      *table.Batch
	values [][]table.Value
	begun  []uint64 // how often each column was begun anew
}

func (t *typedRows) begin(b *table.Batch) {
	t.b = b
	for i, at := range t.at {
		known := t.r.Known(i)
		// The dictionary was forgotten, or each row has a text of its own, in the bytes of the batch.
		if len(known) < len(t.values[i]) || len(b.Columns[at].Texts) == b.Len() {
			t.values[i] = t.values[i][:0]
		}
		if len(t.values[i]) == 0 {
			t.begun[i]++
		}
		for code := len(t.values[i]); code < len(known); code++ {
			t.values[i] = append(t.values[i], known[code].Value)
		}
	}
}

// Begun implements condition.LastingRows.
func (t *typedRows) Begun(name string) uint64 {
	return t.begun[slices.Index(t.at, slices.Index(t.names, name))]
}

// Len implements condition.Rows.
func (t *typedRows) Len() int { return t.b.Len() }

// Values implements condition.Rows.
func (t *typedRows) Values(name string) ([]table.Value, []uint32) {
	at := slices.Index(t.names, name)
	return t.values[slices.Index(t.at, at)], t.b.Columns[at].Codes
}

// shown puts the groups into order, and gathers those beyond the first.
func (q *prepared) shown(whole map[groupKey]*group, asked Question) (*Tally, error) {
	top := asked.Top
	if top <= 0 {
		top = Top
	}
	top = min(top, Most)
	out := &Tally{By: []GroupedBy{}, Measures: q.measures, Cells: [][]Tallied{}, Downs: []Tallied{}, Across: []Tallied{}}
	keys := sortedKeys(whole)
	var places [2]map[valueKey]int
	var sizes [2]int
	for i := range 2 {
		places[i], sizes[i] = map[valueKey]int{{}: 0}, 1
		if i >= len(q.by) {
			continue
		}
		one, err := q.ordered(whole, keys, i, asked)
		if err != nil {
			return nil, err
		}
		all := one.Groups
		one.Groups = all[:min(len(all), top)]
		if last := all[max(len(all)-1, 0):]; len(all) > top && last[0].Missing { // what is missing stands on its own, always
			one.Groups = append(slices.Clone(one.Groups), last[0])
		}
		one.Rest = len(all) - len(one.Groups)
		places[i] = map[valueKey]int{}
		for _, g := range all {
			places[i][keyOf(&g.value)] = len(one.Groups)
		}
		for at, g := range one.Groups {
			places[i][keyOf(&g.value)] = at
		}
		sizes[i] = len(one.Groups) + min(one.Rest, 1)
		out.By = append(out.By, *one)
	}
	grid := make([]gathered, sizes[0]*sizes[1])
	downs, across, all := make([]gathered, sizes[0]), make([]gathered, sizes[1]), gathered{}
	for _, key := range keys { // sums of floating point are none here, but what is estimated depends on the order
		g := &whole[key].gathered
		down, beside := places[0][key[0]], places[1][key[1]]
		into := []*gathered{&all}
		if len(q.by) == 2 { // else a cell is its row, and the only column is all
			into = append(into, &downs[down], &across[beside])
		}
		for _, to := range into {
			if to.of == nil {
				to.of = make([]gatheredOf, len(q.of))
			}
			to.gather(g)
		}
		// What was held for the group is its cell's from here on, so that nothing is copied.
		if cell := &grid[down*sizes[1]+beside]; cell.of == nil {
			*cell = *g
		} else {
			cell.gather(g)
		}
	}
	for i := range sizes[0] {
		line := make([]Tallied, sizes[1])
		for k := range line {
			line[k] = q.told(&grid[i*sizes[1]+k])
		}
		out.Cells = append(out.Cells, line)
		if len(q.by) == 2 {
			out.Downs = append(out.Downs, q.told(&downs[i]))
		} else {
			out.Downs = append(out.Downs, line[0].copied())
		}
	}
	if len(q.by) < 2 {
		out.All = q.told(&all)
		out.Across = append(out.Across, out.All.copied())
		q.share(out)
		return out, nil
	}
	for k := range sizes[1] {
		out.Across = append(out.Across, q.told(&across[k]))
	}
	out.All = q.told(&all)
	q.share(out)
	return out, nil
}

// share tells measures as shares where that is asked.
func (q *prepared) share(t *Tally) {
	for m, asked := range q.measures {
		if asked.Share == "" {
			continue
		}
		if asked.Share == ShareOfBefore {
			q.change(t, m)
			continue
		}
		all := t.All.Values[m]
		whole := func(down, across int) string {
			switch {
			case asked.Share == ShareOfRow && down >= 0:
				return t.Downs[down].Values[m]
			case asked.Share == ShareOfColumn && across >= 0:
				return t.Across[across].Values[m]
			}
			return all
		}
		for i, line := range t.Cells {
			for k := range line {
				line[k].Values[m] = shareOf(line[k].Values[m], whole(i, k))
			}
		}
		downs, across := make([]string, len(t.Downs)), make([]string, len(t.Across))
		for i := range t.Downs {
			downs[i] = shareOf(t.Downs[i].Values[m], whole(i, -1))
		}
		for k := range t.Across {
			across[k] = shareOf(t.Across[k].Values[m], whole(-1, k))
		}
		for i := range t.Downs {
			t.Downs[i].Values[m] = downs[i]
		}
		for k := range t.Across {
			t.Across[k].Values[m] = across[k]
		}
		t.All.Values[m] = shareOf(all, all)
	}
}

func sortedKeys(whole map[groupKey]*group) []groupKey {
	keys := make([]groupKey, 0, len(whole))
	for key := range whole {
		keys = append(keys, key)
	}
	slices.SortFunc(keys, func(a, b groupKey) int { return cmp.Or(a[0].compare(b[0]), a[1].compare(b[1])) })
	return keys
}

// change tells a measure as its change against the period before. Of all periods together there is none.
func (q *prepared) change(t *Tally, m int) {
	next := q.by[0].Next()
	at := map[valueKey]int{}
	for i := range t.By[0].Groups {
		at[keyOf(&t.By[0].Groups[i].value)] = i
	}
	before := make([]int, len(t.Downs)) // of each period the place of the one before; -1 where it is not told of
	for i := range before {
		before[i] = -1
	}
	for i, g := range t.By[0].Groups {
		if g.Missing {
			continue
		}
		after := next(g.value)
		if k, told := at[keyOf(&after)]; told {
			before[k] = i
		}
	}
	downs, cells := make([]string, len(t.Downs)), make([][]string, len(t.Cells))
	for i := range t.Downs {
		cells[i] = make([]string, len(t.Cells[i]))
		if before[i] < 0 {
			continue
		}
		downs[i] = changeOf(t.Downs[before[i]].Values[m], t.Downs[i].Values[m])
		for k := range t.Cells[i] {
			cells[i][k] = changeOf(t.Cells[before[i]][k].Values[m], t.Cells[i][k].Values[m])
		}
	}
	for i := range t.Downs {
		t.Downs[i].Values[m] = downs[i]
		for k := range t.Cells[i] {
			t.Cells[i][k].Values[m] = cells[i][k]
		}
	}
	for k := range t.Across {
		t.Across[k].Values[m] = ""
	}
	t.All.Values[m] = ""
}

// told says what the measures of a group are.
func (q *prepared) told(g *gathered) Tallied {
	out := Tallied{Rows: g.rows, Values: make([]string, len(q.measures))}
	for i, m := range q.measures {
		var of *gatheredOf
		if at := q.sources[i]; at >= 0 {
			if g.of == nil {
				continue
			}
			of = &g.of[at]
		}
		text, exact := measureKinds[m.Kind].tell(g.rows, of)
		if out.Values[i] = text; !exact && text != "" {
			if out.Estimated == nil {
				out.Estimated = make([]bool, len(q.measures))
			}
			out.Estimated[i] = true
		}
	}
	return out
}

// place is what a group is put into order by where that is a measure.
func (q *prepared) place(g *gathered, measure int) table.Value {
	var of *gatheredOf
	if at := q.sources[measure]; at >= 0 {
		of = &g.of[at]
	}
	kind := measureKinds[q.measures[measure].Kind]
	if kind.one != nil {
		return *kind.one(of)
	}
	text, _ := kind.tell(g.rows, of)
	v, _ := table.StandardFormat.Parse(table.TypeDecimal, text)
	return v
}

// ordered lists the groups of an expression. Missing ones come last.
func (q *prepared) ordered(whole map[groupKey]*group, keys []groupKey, i int, asked Question) (*GroupedBy, error) {
	kind := q.by[i].Kind
	order := asked.Order
	if i > 0 {
		order = Order{}
	}
	if order.By == "" {
		order = Order{By: "group"}
		if kind == table.Text {
			order = Order{By: "rows", Falling: true}
		}
	}
	measure := -1
	if order.By != "group" && order.By != "rows" {
		measure = slices.IndexFunc(q.measures, func(m Measure) bool { return m.Name() == order.By })
		if measure < 0 {
			return nil, fmt.Errorf("groups are put into order by group, by rows, or by one of the measures asked for, not by %q", order.By)
		}
	}
	out := &GroupedBy{Expression: asked.By[i], Kind: kind.String(), Groups: []TalliedGroup{}}
	sums := map[valueKey]*gathered{}
	for _, key := range keys {
		g := whole[key]
		to := sums[key[i]]
		if to == nil {
			to = &gathered{of: make([]gatheredOf, len(q.of))}
			sums[key[i]] = to
			v := g.values[i]
			out.Groups = append(out.Groups, TalliedGroup{Text: v.Standard(), Missing: v.Kind == table.Missing, value: v})
		}
		if measure < 0 {
			to.rows += g.rows
		} else {
			to.gather(&g.gathered)
		}
	}
	if next := q.by[i].Next(); next != nil {
		q.fill(out, sums, next)
	}
	for k := range out.Groups {
		g := &out.Groups[k]
		switch of := sums[keyOf(&g.value)]; {
		case order.By == "group":
			g.place = g.value
		case order.By == "rows":
			g.place = table.NumberValue(table.DecimalOf(of.rows, 0))
		default:
			g.place = q.place(of, measure)
		}
	}
	slices.SortStableFunc(out.Groups, func(a, b TalliedGroup) int {
		switch {
		case a.Missing:
			return 1
		case b.Missing:
			return -1
		}
		by := table.Compare(a.place, b.place)
		if order.Falling {
			by = -by
		}
		return cmp.Or(by, table.Compare(a.value, b.value))
	})
	return out, nil
}

// fill adds the periods between the first and the last that no row is of, so that a series without them is not taken for
// one without a gap; unless they are too many to be told of.
func (q *prepared) fill(by *GroupedBy, sums map[valueKey]*gathered, next func(table.Value) table.Value) {
	var first, last table.Value
	for _, g := range by.Groups {
		if g.Missing {
			continue
		}
		if first.Kind == table.Missing || table.Compare(g.value, first) < 0 {
			first = g.value
		}
		if last.Kind == table.Missing || table.Compare(g.value, last) > 0 {
			last = g.value
		}
	}
	if first.Kind == table.Missing {
		return
	}
	var none []TalliedGroup
	for at := next(first); table.Compare(at, last) < 0; at = next(at) {
		if sums[keyOf(&at)] != nil {
			continue
		}
		if len(none) >= Most {
			return
		}
		none = append(none, TalliedGroup{Text: at.Standard(), value: at})
	}
	for i := range none {
		sums[keyOf(&none[i].value)] = &gathered{of: make([]gatheredOf, len(q.of))}
	}
	by.Groups = append(by.Groups, none...)
}
