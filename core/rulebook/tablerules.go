package rulebook

import (
	"fmt"
	"slices"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/table"
)

// Roles lists what a column can be declared to be.
var Roles = []string{"identifier", "dimension", "measure", "date", "text"}

// Elsewhere names columns of another dataset.
type Elsewhere struct {
	Dataset string
	Columns []string
}

// String names it in messages.
func (e Elsewhere) String() string {
	return fmt.Sprintf("%s of %s", document.Join(e.Columns), e.Dataset)
}

// TableCheck is what a table rule asks of the table as a whole.
type TableCheck string

// The table checks.
const (
	RowCount    TableCheck = "row_count"    // the number of rows is from Least to Most
	PartsSum    TableCheck = "parts_sum"    // per group, the numbers Of the rows for which Total does not hold sum to those for which it does
	NoGaps      TableCheck = "no_gaps"      // per group, the dates or whole numbers In a column follow one another by Step
	InOrder     TableCheck = "in_order"     // per group, the rows are in the order of the values In a column
	Covers      TableCheck = "covers"       // every value of a column of another dataset occurs
	TotalsMatch TableCheck = "totals_match" // per group, the sum Of a column is that in another dataset
)

// TableRule declares what must hold of the table as a whole.
type TableRule struct {
	ID        string
	Check     TableCheck
	Least     int64 // of RowCount
	Most      int64 // of RowCount; 0 for no bound
	Of        string
	In        string
	Per       []string
	Step      Step
	Total     *condition.Condition
	With      *Elsewhere    // of Covers one column; of TotalsMatch the columns of Per, and the one of the sum
	Tolerance table.Decimal // by which sums may differ
	Severity  Severity
	Reason    string
}

// Step is the distance between neighbours in a series: so many days or months, or of numbers so many.
type Step struct {
	Days, Months int
	Number       int64
	Says         string
}

// Reference declares that the values of some columns must exist in another dataset's. A row
// that lacks one of them is not looked for.
type Reference struct {
	ID       string
	Columns  []string
	To       Elsewhere
	Severity Severity
	Reason   string
}

// HistoryCheck is what a history rule compares with earlier deliveries.
type HistoryCheck string

// The history checks.
const (
	RowsSteady    HistoryCheck = "rows_steady"    // the rows are within Within percent of their mean
	SameColumns   HistoryCheck = "same_columns"   // no column of the last delivery is lost or of another type
	NoNewValues   HistoryCheck = "no_new_values"  // a column has no value that none of them had
	MissingSteady HistoryCheck = "missing_steady" // the percentage of missing cells moves by at most Within points
	MeanSteady    HistoryCheck = "mean_steady"    // the mean moves by at most Within percent
	ShapeSteady   HistoryCheck = "shape_steady"   // the distribution's distance to the last one's is at most Within percent
	NotOlderThan  HistoryCheck = "not_older_than" // the newest date is at most Days old on the day of the audit
)

// HistoryRule declares what must hold against the last deliveries.
type HistoryRule struct {
	ID       string
	Check    HistoryCheck
	Column   string
	Within   float64
	Last     int // how many deliveries back; at least 1
	Days     int
	Severity Severity
	Reason   string
}

func (p *parser) tableRule(n *document.Node) {
	r := TableRule{Severity: Warn}
	given := map[string]*document.Node{}
	field := func(name string, read func(*document.Node)) document.Field {
		return document.Field{Name: name, Read: func(n *document.Node) { given[name] = n; read(n) }}
	}
	p.Mapping(n, "a table rule",
		document.Field{Name: "id", Required: true, Read: func(n *document.Node) { r.ID = p.newID(n) }},
		document.Field{Name: "check", Required: true, Read: func(n *document.Node) {
			r.Check = TableCheck(p.Choice(n, "a check of a table", string(RowCount), string(PartsSum), string(NoGaps), string(InOrder), string(Covers), string(TotalsMatch)))
		}},
		field("from", func(n *document.Node) { r.Least = int64(p.count(n, "from")) }),
		field("to", func(n *document.Node) { r.Most = int64(p.count(n, "to")) }),
		field("of", func(n *document.Node) { r.Of = p.oneColumn(n, "of", wantNumber) }),
		field("in", func(n *document.Node) { r.In = p.oneColumn(n, "in", anyColumn) }),
		field("per", func(n *document.Node) { r.Per = p.columns(n, "per", anyColumn) }),
		field("step", func(n *document.Node) { r.Step = p.step(n) }),
		field("total", func(n *document.Node) { r.Total = p.condition(n) }),
		field("with", func(n *document.Node) { r.With = p.elsewhere(n) }),
		field("tolerance", func(n *document.Node) { r.Tolerance = p.amount(n, "a tolerance") }),
		p.severity(&r.Severity), p.reason(&r.Reason),
	)
	takes := map[TableCheck]struct{ must, may []string }{
		RowCount:    {nil, []string{"from", "to"}},
		PartsSum:    {[]string{"of", "total"}, []string{"per", "tolerance"}},
		NoGaps:      {[]string{"in", "step"}, []string{"per"}},
		InOrder:     {[]string{"in"}, []string{"per"}},
		Covers:      {[]string{"in", "with"}, nil},
		TotalsMatch: {[]string{"of", "with"}, []string{"per", "tolerance"}},
	}[r.Check]
	if r.Check == "" {
		return
	}
	p.fits(n, string(r.Check), given, takes.must, takes.may)
	switch r.Check {
	case RowCount:
		if given["from"] == nil && given["to"] == nil {
			p.Fail(n, "row_count needs \"from\" or \"to\"")
		}
		if given["to"] != nil && r.Most < r.Least {
			p.Fail(given["to"], "the number of rows would end before it starts")
		}
	case Covers:
		p.wantColumns(given["with"], r.With, 1, "covers looks for the values of one column")
	case TotalsMatch:
		p.wantColumns(given["with"], r.With, len(r.Per)+1, "totals_match wants the other dataset's columns for each of \"per\", and then the one that is summed")
	case NoGaps:
		p.later = append(p.later, func() { p.stepFits(given["step"], &r) })
	}
	p.book.TableRules = append(p.book.TableRules, r)
}

// fits checks that the fields given are those of a check.
func (p *parser) fits(n *document.Node, check string, given map[string]*document.Node, must, may []string) {
	for _, name := range must {
		if given[name] == nil {
			p.Fail(n, "%s needs %q", check, name)
		}
	}
	for name, at := range given {
		if !slices.Contains(must, name) && !slices.Contains(may, name) {
			p.Fail(at, "%s has no %q; it takes %s", check, name, document.Join(append(slices.Clone(must), may...)))
		}
	}
}

func (p *parser) wantColumns(n *document.Node, e *Elsewhere, count int, says string) {
	if n != nil && e != nil && len(e.Columns) != count {
		p.Fail(n, "%s: %d, not %d", says, count, len(e.Columns))
	}
}

func (p *parser) oneColumn(n *document.Node, what string, accept func(*Column) string) string {
	if n.Kind != document.Scalar {
		p.Fail(n, "%s is one column, and this is %s", what, n.Kind)
		return ""
	}
	return p.columns(n, what, accept)[0]
}

func wantNumber(c *Column) string {
	if c.Type.IsNumber() {
		return ""
	}
	return fmt.Sprintf("%q is of type %s; only numbers are summed", c.Name, c.Type)
}

// step reads day, week, month, quarter, year, or a whole number.
func (p *parser) step(n *document.Node) Step {
	text := p.Text(n, "step")
	if s, ok := map[string]Step{"day": {Days: 1}, "week": {Days: 7}, "month": {Months: 1}, "quarter": {Months: 3}, "year": {Months: 12}}[text]; ok {
		s.Says = text
		return s
	}
	v := p.Whole(n, "a step (day, week, month, quarter, year, or a whole number)")
	if v < 1 {
		p.Fail(n, "a step is 1 or more")
	}
	return Step{Number: int64(max(v, 1)), Says: text}
}

func (p *parser) stepFits(n *document.Node, r *TableRule) {
	c := p.book.Column(r.In)
	if n == nil || c == nil {
		return
	}
	switch {
	case c.Type == table.TypeDate && r.Step.Number > 0:
		p.Fail(n, "%q is of type date, so that its step is day, week, month, quarter or year", c.Name)
	case c.Type == table.TypeInteger && r.Step.Number == 0:
		p.Fail(n, "%q is of type integer, so that its step is a whole number", c.Name)
	case c.Type != table.TypeDate && c.Type != table.TypeInteger:
		p.Fail(n, "%q is of type %s; a series is of dates or whole numbers", c.Name, c.Type)
	}
}

// elsewhere reads {dataset: …, columns: […]}.
func (p *parser) elsewhere(n *document.Node) *Elsewhere {
	e := &Elsewhere{}
	p.Mapping(n, "the columns of another dataset",
		document.Field{Name: "dataset", Required: true, Read: func(n *document.Node) { e.Dataset = p.id(n, "the name of a dataset") }},
		document.Field{Name: "columns", Required: true, Read: func(n *document.Node) {
			if e.Columns = p.Texts(n, "columns"); len(e.Columns) == 0 {
				p.Fail(n, "columns names at least one")
			}
		}},
	)
	return e
}

func (p *parser) reference(n *document.Node) {
	r := Reference{Severity: Warn}
	var to *document.Node
	p.Mapping(n, "a reference",
		document.Field{Name: "id", Required: true, Read: func(n *document.Node) { r.ID = p.newID(n) }},
		document.Field{Name: "columns", Required: true, Read: func(n *document.Node) { r.Columns = p.columns(n, "the columns of a reference", anyColumn) }},
		document.Field{Name: "to", Required: true, Read: func(n *document.Node) { to = n; r.To = *p.elsewhere(n) }},
		p.severity(&r.Severity), p.reason(&r.Reason),
	)
	p.wantColumns(to, &r.To, len(r.Columns), "a reference pairs its columns with those of the other dataset")
	p.book.References = append(p.book.References, r)
}

func (p *parser) historyRule(n *document.Node) {
	r := HistoryRule{Severity: Warn, Last: 1}
	given := map[string]*document.Node{}
	field := func(name string, read func(*document.Node)) document.Field {
		return document.Field{Name: name, Read: func(n *document.Node) { given[name] = n; read(n) }}
	}
	p.Mapping(n, "a history rule",
		document.Field{Name: "id", Required: true, Read: func(n *document.Node) { r.ID = p.newID(n) }},
		document.Field{Name: "check", Required: true, Read: func(n *document.Node) {
			r.Check = HistoryCheck(p.Choice(n, "a check against earlier deliveries", string(RowsSteady), string(SameColumns), string(NoNewValues), string(MissingSteady), string(MeanSteady), string(ShapeSteady), string(NotOlderThan)))
		}},
		field("column", func(n *document.Node) {
			r.Column = p.oneColumn(n, "column", func(c *Column) string {
				switch {
				case r.Check == MeanSteady && !c.Type.IsNumber():
					return fmt.Sprintf("%q is of type %s; only numbers have a mean", c.Name, c.Type)
				case r.Check == NotOlderThan && c.Type != table.TypeDate && c.Type != table.TypeDateTime:
					return fmt.Sprintf("%q is of type %s; only dates grow old", c.Name, c.Type)
				}
				return ""
			})
		}),
		field("within", func(n *document.Node) { r.Within = p.number(n, "within is a number from 0 to 1000", 0, 1000) }),
		field("last", func(n *document.Node) {
			if r.Last = p.count(n, "last"); r.Last < 1 || r.Last > 100 {
				p.Fail(n, "last is how many deliveries back, from 1 to 100")
			}
		}),
		field("days", func(n *document.Node) { r.Days = p.count(n, "days") }),
		p.severity(&r.Severity), p.reason(&r.Reason),
	)
	takes := map[HistoryCheck]struct{ must, may []string }{
		RowsSteady:    {[]string{"within"}, []string{"last"}},
		SameColumns:   {nil, nil},
		NoNewValues:   {[]string{"column"}, []string{"last"}},
		MissingSteady: {[]string{"column", "within"}, []string{"last"}},
		MeanSteady:    {[]string{"column", "within"}, []string{"last"}},
		ShapeSteady:   {[]string{"column", "within"}, nil},
		NotOlderThan:  {[]string{"column", "days"}, nil},
	}[r.Check]
	if r.Check != "" {
		p.fits(n, string(r.Check), given, takes.must, takes.may)
	}
	p.book.History = append(p.book.History, r)
}
