package merge

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"proudsieve/core/condition"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Totals says which totals of two tables should agree: of one that is looked at, and of another that it is held against.
type Totals struct {
	Here, There TotalsOf
	// Factor is what the totals there are multiplied by before they are compared, as 1000 for thousands against units.
	Factor table.Decimal
	// Tolerance is how far two totals may lie apart, and Percent the same in percent of the one there; the larger one counts.
	Tolerance, Percent table.Decimal
	// Shown is how many groups that do not agree are told; the furthest apart come first.
	Shown int
}

// TotalsOf says what is added up of a table.
type TotalsOf struct {
	By    []string // columns, or what is worked out of them, whose values a group has in common; none for one total
	Of    string   // a column of numbers, or an expression; "" for the number of rows
	Where string   // a condition on the rows that count; "" for all
}

// Reconciled says which totals agree.
type Reconciled struct {
	By        []string `json:"by"`
	ByThere   []string `json:"by_there"`
	Here      string   `json:"here"` // the whole sum
	There     string   `json:"there"`
	RowsHere  int64    `json:"rows_here"`
	RowsThere int64    `json:"rows_there"`
	Agree     int64    `json:"agree"` // groups
	Differ    int64    `json:"differ"`
	OnlyHere  int64    `json:"only_here"`
	OnlyThere int64    `json:"only_there"`
	// Groups are those that do not agree, the furthest apart first: as many as were asked for.
	Groups []TotalPair `json:"groups"`
	Causes []Cause     `json:"causes"` // that may be common to many of them
}

// TotalPair is a group with its total on both sides.
type TotalPair struct {
	Key       []string `json:"key"`
	Here      string   `json:"here,omitempty"` // exact; empty where the group is not there
	There     string   `json:"there,omitempty"`
	Apart     string   `json:"apart"` // here less there
	RowsHere  int64    `json:"rows_here"`
	RowsThere int64    `json:"rows_there"`

	here, there *group
}

const (
	// groupsLimit is how many groups are held on each side.
	groupsLimit = 1 << 20
	// mostShown is how many groups can be asked for at once.
	mostShown = 10_000
)

// group is what is added up of some rows.
type group struct {
	key  []string
	rows int64
	sum  table.Decimal
}

// side is a table whose totals are worked out.
type side struct {
	in    *Input
	frame *frame
	by    []keyPart
	of    *keyPart // nil for the number of rows
	where *condition.Condition
	says  string // how it is called in messages
}

// sides fits what is asked to both tables.
func (t *Totals) sides(here, there *Input) (a, b *side, err error) {
	a, b = &side{in: here, frame: frameOf(*here), says: "this table"}, &side{in: there, frame: frameOf(*there), says: there.label()}
	if len(t.Here.By) != len(t.There.By) {
		return nil, nil, fmt.Errorf("totals are by %d columns here and by %d there; each needs its counterpart", len(t.Here.By), len(t.There.By))
	}
	t.byDays(a.frame, b.frame)
	if a.by, b.by, err = (Join{Left: t.Here.By, Right: t.There.By, With: there.label()}).meeting(a.frame, b.frame); err != nil {
		return nil, nil, errors.New(strings.ReplaceAll(err.Error(), "the table so far", "this table"))
	}
	for _, one := range []struct {
		*side
		TotalsOf
	}{{a, t.Here}, {b, t.There}} {
		if one.Of != "" {
			p, err := one.frame.part(one.Of, one.says)
			if err != nil {
				return nil, nil, err
			}
			if p.kind != table.Number {
				return nil, nil, fmt.Errorf("%s of %s is a %s; totals are of numbers", one.Of, one.says, p.kind)
			}
			one.of = &p
		}
		if one.Where != "" {
			c, mistakes := condition.Compile(one.Where, one.frame.types())
			if len(mistakes) > 0 {
				return nil, nil, fmt.Errorf("where of %s: %w", one.says, errors.Join(mistakes...))
			}
			one.where = c
		}
	}
	return a, b, nil
}

// byDays takes the days of datetimes where the other side has days. What totals are by is told with them.
func (t *Totals) byDays(here, there *frame) {
	t.Here.By, t.There.By = slices.Clone(t.Here.By), slices.Clone(t.There.By)
	for i := range t.Here.By {
		a, err := here.part(t.Here.By[i], "")
		b, failed := there.part(t.There.By[i], "")
		switch {
		case err != nil || failed != nil: // which is told by who fits them together
		case a.kind == table.Instant && b.kind == table.Date:
			t.Here.By[i] = "CAST(" + t.Here.By[i] + " AS DATE)"
		case a.kind == table.Date && b.kind == table.Instant:
			t.There.By[i] = "CAST(" + t.There.By[i] + " AS DATE)"
		}
	}
}

// batchOf gives expressions the values of a batch.
func (f *frame) batchOf(b *table.Batch) rulebook.Batch {
	return rulebook.Batch{Batch: b, Names: f.names, Cells: f.cells}
}

// within returns which rows of a batch count; nil for all.
func (s *side) within(b *table.Batch) []condition.Truth {
	if s.where == nil {
		return nil
	}
	return s.where.Evaluate(s.frame.batchOf(b))
}

// totals adds up.
func (s *side) totals(ctx context.Context, workers int) (map[table.Hash]*group, error) {
	all := map[table.Hash]*group{}
	work := func(b *table.Batch) (map[table.Hash]*group, error) {
		found := map[table.Hash]*group{}
		keys, counts := newKeyReader(b, s.frame, s.by, true), s.within(b)
		var values []table.Value
		var codes []uint32
		if s.of != nil {
			values, _, codes = s.of.valuesOf(b, s.frame)
		}
		for i := range b.Rows {
			if counts != nil && counts[i] != condition.True {
				continue
			}
			h, _ := keys.hash(i)
			g := found[h]
			if g == nil {
				g = &group{key: keys.identities(i)}
				found[h] = g
			}
			g.rows++
			if s.of == nil {
				continue
			}
			if v := values[codes[i]]; v.Kind == table.Number {
				g.sum = g.sum.Add(v.Number)
			}
		}
		return found, nil
	}
	err := table.ScanBatches(ctx, s.in.Source, workers, work, func(found map[table.Hash]*group) error {
		for h, g := range found {
			known := all[h]
			if known == nil {
				if len(all) == groupsLimit {
					return fmt.Errorf("%s has more than %d groups; take coarser ones, as DATE_TRUNC('month', day)", s.says, groupsLimit)
				}
				all[h] = g
				continue
			}
			known.rows += g.rows
			known.sum = known.sum.Add(g.sum)
		}
		return nil
	})
	if s.of == nil {
		for _, g := range all {
			g.sum = table.DecimalOf(g.rows, 0)
		}
	}
	return all, err
}

// identities are the parts of a row's key as they are compared: values of one thing are one text.
func (r *keyReader) identities(at int) []string {
	out := make([]string, len(r.parts))
	for k := range r.parts {
		out[k] = r.parts[k].identity(r.parts[k].codes[at])
	}
	return out
}

// Reconcile holds the totals of a table against those of another.
func Reconcile(ctx context.Context, t Totals, here, there *Input, workers int) (*Reconciled, error) {
	a, b, err := t.sides(here, there)
	if err != nil {
		return nil, err
	}
	mine, err := a.totals(ctx, workers)
	if err != nil {
		return nil, err
	}
	theirs, err := b.totals(ctx, workers)
	if err != nil {
		return nil, err
	}
	out := &Reconciled{By: append([]string{}, t.Here.By...), ByThere: append([]string{}, t.There.By...), Groups: []TotalPair{}, Causes: []Cause{}}
	var sumHere, sumThere table.Decimal
	var pairs, apart []TotalPair
	for h, g := range mine {
		sumHere, out.RowsHere = sumHere.Add(g.sum), out.RowsHere+g.rows
		pairs = append(pairs, t.pair(g, theirs[h]))
	}
	for h, g := range theirs {
		g.sum = g.sum.Mul(t.Factor)
		sumThere, out.RowsThere = sumThere.Add(g.sum), out.RowsThere+g.rows
		if mine[h] == nil {
			pairs = append(pairs, t.pair(nil, g))
		}
	}
	for i := range pairs { // now that the factor counts
		p := &pairs[i]
		p.finish()
		switch {
		case p.there == nil:
			out.OnlyHere++
		case p.here == nil:
			out.OnlyThere++
		case t.agrees(p):
			out.Agree++
			continue
		default:
			out.Differ++
		}
		apart = append(apart, *p)
	}
	out.Here, out.There = sumHere.Shortest(), sumThere.Shortest()
	slices.SortFunc(apart, func(a, b TotalPair) int {
		return cmp.Or(b.apart().Abs().Cmp(a.apart().Abs()), slices.Compare(a.Key, b.Key))
	})
	out.Causes = t.causes(pairs, apart, a, b)
	out.Groups = append(out.Groups, apart[:min(len(apart), t.Shown, mostShown)]...)
	return out, nil
}

func (t *Totals) pair(here, there *group) TotalPair { return TotalPair{here: here, there: there} }

// apart is the total here less that there.
func (p *TotalPair) apart() table.Decimal {
	var d table.Decimal
	if p.here != nil {
		d = p.here.sum
	}
	if p.there != nil {
		d = d.Sub(p.there.sum)
	}
	return d
}

// finish writes a pair out.
func (p *TotalPair) finish() {
	if g := p.there; g != nil {
		p.Key, p.There, p.RowsThere = g.key, g.sum.Shortest(), g.rows
	}
	if g := p.here; g != nil {
		p.Key, p.Here, p.RowsHere = g.key, g.sum.Shortest(), g.rows
	}
	p.Apart = p.apart().Shortest()
}

// agrees reports whether two totals are as near to one another as they must be.
func (t *Totals) agrees(p *TotalPair) bool {
	apart := p.apart().Abs()
	return apart.Cmp(t.Tolerance) <= 0 || apart.Mul(table.DecimalOf(100, 0)).Cmp(p.there.sum.Abs().Mul(t.Percent)) <= 0
}

// GroupRows says which rows make up the difference between the two totals of a group.
type GroupRows struct {
	Group []string `json:"group"`
	// Same counts rows that have the same key and number on both sides.
	Same int64 `json:"same"`
	// Differ are rows of one key with other numbers, OnlyHere and OnlyThere those whose key the other side does not have in this
	// group; the first of them, and how many there are.
	Differ         []RowPair `json:"differ"`
	OnlyHere       []RowPair `json:"only_here"`
	OnlyThere      []RowPair `json:"only_there"`
	DifferRows     int64     `json:"differ_rows"`
	OnlyHereRows   int64     `json:"only_here_rows"`
	OnlyThereRows  int64     `json:"only_there_rows"`
	DifferApart    string    `json:"differ_apart"` // what each kind makes up of the difference
	OnlyHereApart  string    `json:"only_here_apart"`
	OnlyThereApart string    `json:"only_there_apart"`
}

// RowPair is a row here with the one of the same key there.
type RowPair struct {
	Key      []string `json:"key"`
	RowHere  uint32   `json:"row_here,omitempty"`
	RowThere uint32   `json:"row_there,omitempty"`
	Here     string   `json:"here,omitempty"`
	There    string   `json:"there,omitempty"`
}

const (
	// groupRowsLimit is how many rows of a group are held against one another.
	groupRowsLimit = 1 << 20
	pairsListed    = 100
)

// ofGroup is a row of a group.
type ofGroup struct {
	key  []string
	hash table.Hash
	row  uint32
	of   table.Decimal
}

// rowsOf returns the rows of a group, by the hash of their keys.
func (s *side) rowsOf(ctx context.Context, key []string, parts []keyPart, workers int) ([]ofGroup, error) {
	var all []ofGroup
	err := table.ScanBatches(ctx, s.in.Source, workers, func(b *table.Batch) ([]ofGroup, error) {
		var out []ofGroup
		groups, keys, counts := newKeyReader(b, s.frame, s.by, true), newKeyReader(b, s.frame, parts, true), s.within(b)
		var values []table.Value
		var codes []uint32
		if s.of != nil {
			values, _, codes = s.of.valuesOf(b, s.frame)
		}
		for i, row := range b.Rows {
			if counts != nil && counts[i] != condition.True || !slices.Equal(groups.identities(i), key) {
				continue
			}
			one := ofGroup{key: keys.identities(i), row: row, of: table.DecimalOf(1, 0)}
			one.hash, _ = keys.hash(i)
			if s.of != nil {
				one.of = values[codes[i]].Number
			}
			out = append(out, one)
		}
		return out, nil
	}, func(found []ofGroup) error {
		if all = append(all, found...); len(all) > groupRowsLimit {
			return fmt.Errorf("the group has more than %d rows in %s; take finer groups", groupRowsLimit, s.says)
		}
		return nil
	})
	return all, err
}

// RowsOfGroup holds the rows of a group against one another, by a key that both tables have: columns, or what is worked out of
// them. Rows that share a key are paired in the order of the tables.
func RowsOfGroup(ctx context.Context, t Totals, here, there *Input, group, key, keyThere []string, workers int) (*GroupRows, error) {
	a, b, err := t.sides(here, there)
	if err != nil {
		return nil, err
	}
	if len(group) != len(t.Here.By) {
		return nil, fmt.Errorf("a group has a value for each of %s", strings.Join(t.Here.By, ", "))
	}
	if len(key) == 0 || len(key) != len(keyThere) {
		return nil, errors.New("name the columns that tell rows apart on both sides")
	}
	left, right, err := (Join{Left: key, Right: keyThere, With: there.label()}).meeting(a.frame, b.frame)
	if err != nil {
		return nil, err
	}
	mine, err := a.rowsOf(ctx, group, left, workers)
	if err != nil {
		return nil, err
	}
	theirs, err := b.rowsOf(ctx, group, right, workers)
	if err != nil {
		return nil, err
	}
	waiting := map[table.Hash][]int{}
	for i, one := range theirs {
		waiting[one.hash] = append(waiting[one.hash], i)
	}
	out := &GroupRows{Group: group, Differ: []RowPair{}, OnlyHere: []RowPair{}, OnlyThere: []RowPair{}}
	var differ, onlyHere, onlyThere table.Decimal
	paired := make([]bool, len(theirs))
	list := func(into *[]RowPair, n *int64, p RowPair) {
		if *n++; len(*into) < pairsListed {
			*into = append(*into, p)
		}
	}
	for _, one := range mine {
		others := waiting[one.hash]
		if len(others) == 0 {
			onlyHere = onlyHere.Add(one.of)
			list(&out.OnlyHere, &out.OnlyHereRows, RowPair{Key: one.key, RowHere: one.row, Here: one.of.Shortest()})
			continue
		}
		other := theirs[others[0]]
		paired[others[0]], waiting[one.hash] = true, others[1:]
		value := other.of.Mul(t.Factor)
		if one.of.Cmp(value) == 0 {
			out.Same++
			continue
		}
		differ = differ.Add(one.of.Sub(value))
		list(&out.Differ, &out.DifferRows, RowPair{one.key, one.row, other.row, one.of.Shortest(), value.Shortest()})
	}
	for i, one := range theirs {
		if paired[i] {
			continue
		}
		value := one.of.Mul(t.Factor)
		onlyThere = onlyThere.Sub(value)
		list(&out.OnlyThere, &out.OnlyThereRows, RowPair{Key: one.key, RowThere: one.row, There: value.Shortest()})
	}
	out.DifferApart, out.OnlyHereApart, out.OnlyThereApart = differ.Shortest(), onlyHere.Shortest(), onlyThere.Shortest()
	return out, nil
}

// ParseNumbers reads the numbers of a question for totals: "" is 1 for a factor and 0 for a tolerance.
func (t *Totals) ParseNumbers(factor, tolerance, percent string) error {
	for _, one := range []struct {
		what, text, otherwise string
		into                  *table.Decimal
	}{{"factor", factor, "1", &t.Factor}, {"tolerance", tolerance, "0", &t.Tolerance}, {"percent", percent, "0", &t.Percent}} {
		d, ok := table.ParseDecimal(cmp.Or(one.text, one.otherwise))
		if !ok || d.Sign() < 0 || one.what == "factor" && d.Sign() == 0 {
			return fmt.Errorf("%s is a number of 0 or more, and a factor more than 0, not %s", one.what, strconv.Quote(one.text))
		}
		*one.into = d
	}
	return nil
}
