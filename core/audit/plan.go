package audit

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"proudsieve/core/intake/detect"
	"proudsieve/core/rulebook"
	_ "proudsieve/core/rules" // the kinds of rules
	"proudsieve/core/table"
)

// check is a rule laid out over the columns of a table. What is found of it is its verdict.
type check struct {
	*rulebook.Declared
	columns  []string // that it speaks of
	at       []int    // their positions in the table
	unjudged string   // why it cannot be judged in this table
	excused  bool     // that it cannot be keeps no table from passing
}

// told reports whether the rule is told as a lead, and costs nothing.
func (c *check) told() bool {
	t, ok := c.Rule.(rulebook.ToldRule)
	return ok && t.IsTold()
}

// plan is a rulebook laid out over the columns of a table.
type plan struct {
	book   *rulebook.Rulebook
	names  []string
	judges []*judge
	checks []*check
	// positions in checks, by the level at which they are judged
	keys      []int
	equalRows int // -1 where equal rows are allowed
	equalVia  int // index in keys of the one that equal rows are looked for by; -1 for none
	rows      []int
	whole     []int
	ends      []int
	measures  []int // columns
	// per column: whether its values are asked for by rules on rows, its identities by keys, its codes by rules in the
	// end
	valued, keyed, met []bool
	apart              []bool // per column, whether it begins as one of nothing but different texts
	// estimated are, per column, the rows whose cell is an estimate; nil for none.
	estimated []*table.RowSet
}

// mark lays the marks of estimates over the columns.
func (p *plan) mark(marks *table.Marks) {
	p.estimated = make([]*table.RowSet, len(p.names))
	for c, name := range p.names {
		p.estimated[c] = marks.In(name)
	}
}

// fewestSeen is how many filled cells tell that nearly all of a column are different.
const fewestSeen = 32

// foresee looks, in a wide table, at the first rows for columns of nearly nothing but different texts: its stretches are short, and
// in each of them it would have to be found out anew, by looking up what is never met again.
func (p *plan) foresee(ctx context.Context, source table.Source) error {
	p.apart = make([]bool, len(p.names))
	if !table.Wide(len(p.names)) {
		return nil
	}
	rows, _, err := detect.Sample(ctx, source)
	if err != nil || rows == nil {
		return err
	}
	for c := range rows.Columns {
		column := &rows.Columns[c]
		filled, different := 0, len(column.Texts)
		for _, code := range column.Codes {
			if column.Texts[code] != "" {
				filled++
			}
		}
		if filled < rows.Len() {
			different--
		}
		p.apart[c] = filled >= fewestSeen && different*10 > filled*9
	}
	return nil
}

// lacking returns the rows of a column that count as missing though they have an estimate; nil for none.
func (p *plan) lacking(c int) *table.RowSet {
	if p.book.Estimates == rulebook.EstimatesValues {
		return nil
	}
	return p.estimated[c]
}

func newPlan(book *rulebook.Rulebook, names []string) *plan {
	n := len(names)
	p := &plan{book: book, names: names, equalRows: -1, valued: make([]bool, n), keyed: make([]bool, n),
		met: make([]bool, n)}
	for _, name := range names {
		p.judges = append(p.judges, &judge{cells: book.Cells(name)})
	}
	for _, d := range p.ordered() {
		p.lay(d)
	}
	for _, j := range p.judges {
		j.findSweep()
	}
	p.equalVia = -1
	if len(p.keys) > 0 && p.checks[p.keys[0]].unjudged == "" {
		p.equalVia = 0
	}
	for _, m := range book.Measures {
		if at := slices.Index(names, m); at >= 0 {
			p.measures = append(p.measures, at)
		}
	}
	return p
}

// ordered returns the rules that concern the table, those of columns in the table's order.
func (p *plan) ordered() []*rulebook.Declared {
	var rules []*rulebook.Declared
	for _, d := range p.book.Rules {
		_, lost := d.Rule.(rulebook.AbsenceRule)
		if d.Column == "" || lost != slices.Contains(p.names, d.Column) {
			rules = append(rules, d)
		}
	}
	last := slices.IndexFunc(rules, func(d *rulebook.Declared) bool { return d.Column == "" })
	if last < 0 {
		last = len(rules)
	}
	slices.SortStableFunc(rules[:last], func(a, b *rulebook.Declared) int {
		return cmp.Or(cmp.Compare(a.Kind.Place/100, b.Kind.Place/100), cmp.Compare(slices.Index(p.names, a.Column),
			slices.Index(p.names, b.Column)))
	})
	return rules
}

// lay adds a rule, at the level at which it is judged.
func (p *plan) lay(d *rulebook.Declared) {
	c := &check{Declared: d, columns: d.Rule.Columns()}
	_, lost := d.Rule.(rulebook.AbsenceRule)
	for _, name := range c.columns {
		at := slices.Index(p.names, name)
		if at < 0 && !lost {
			c.unjudged = fmt.Sprintf("the table has no column %q", name)
		}
		c.at = append(c.at, at)
	}
	if needs, ok := d.Rule.(rulebook.DependentRule); ok && c.unjudged == "" {
		c.unjudged, c.excused = needs.Unjudged(p.book)
	}
	index := len(p.checks)
	p.checks = append(p.checks, c)
	switch rule := d.Rule.(type) {
	case rulebook.CellRule:
		p.judges[c.at[0]].add(rule, index)
	case rulebook.RowRule:
		p.rows = append(p.rows, index)
		mark(p.valued, c.at)
	case rulebook.GroupRule:
		if _, whole := rule.GroupBy(); whole {
			p.equalRows = index
			return
		}
		p.keys = append(p.keys, index)
		mark(p.keyed, c.at)
	case rulebook.TableRule:
		p.whole = append(p.whole, index)
	case rulebook.SummaryRule:
		p.ends = append(p.ends, index)
		if _, asks := rule.(rulebook.CodesRule); asks {
			mark(p.met, c.at)
			mark(p.valued, c.at)
		}
	}
}

func mark(columns []bool, at []int) {
	for _, c := range at {
		if c >= 0 {
			columns[c] = true
		}
	}
}
