package rulebook

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"

	"proudsieve/core/document"
	"proudsieve/core/table"
)

// Limits on a declaration, so that a hostile one is refused instead of obeyed.
const (
	columnLimit  = 10_000
	ruleLimit    = 10_000
	patternLimit = 2_000 // characters
)

var idShape = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)

// Parse reads and checks a rulebook. Its error is a document.Problems with every mistake.
func Parse(source []byte) (*Rulebook, error) {
	root, err := document.Parse(source)
	if err != nil {
		return nil, err
	}
	p := &parser{book: &Rulebook{CodeLists: map[string]*CodeList{}, Estimates: EstimatesMissing, PassMark: 100, Digest: DigestOf(source)},
		ids: map[string]bool{}}
	p.rulebook(root)
	p.book.Old = p.Old
	if err := p.Err(); err != nil {
		return nil, err
	}
	return p.book, nil
}

// parser reads a rulebook in two passes: first what the table is made of, its columns and
// their codes, and then what must hold of them.
type parser struct {
	document.Reader
	book  *Rulebook
	ids   map[string]bool
	items []*Item
}

func (p *parser) rulebook(root *document.Node) {
	b := p.book
	readingNode := root
	var measures *document.Node
	fields := []document.Field{
		{Name: "dataset", Required: true, Read: func(n *document.Node) {
			b.Dataset = p.id(n, "the name of a dataset")
		}},
		{Name: "title", Read: func(n *document.Node) { b.Title = p.Text(n, "title") }},
		{Name: "reading", Read: func(n *document.Node) { readingNode = n; p.reading(n) }},
		{Name: "code_lists", Read: p.codeLists},
		{Name: "measures", Read: func(n *document.Node) { measures = n }},
		{Name: "estimates", Read: func(n *document.Node) {
			if is := p.Choice(n, "what estimates count as", estimatesAre...); is != "" {
				b.Estimates = is
			}
		}},
		{Name: "pass_mark", Read: p.passMark},
	}
	for i := range sections {
		s := &sections[i]
		read := func(n *document.Node) { p.List(n, s.Name, func(n *document.Node) { p.item(s, n) }) }
		if s.Single {
			read = func(n *document.Node) { p.item(s, n) }
		}
		fields = append(fields, document.Field{Name: s.Name, Required: s.Name == "columns", Read: read})
	}
	p.Mapping(root, "a rulebook", fields...)
	if root.Kind != document.Mapping {
		return
	}
	b.Reading = b.Reading.WithDefaults()
	for _, wrong := range b.Reading.Check() {
		at := readingNode
		for _, e := range readingNode.Entries {
			if e.Name == wrong.Field {
				at = e.Value
			}
		}
		p.Fail(at, "%s: %s", wrong.Field, wrong.Message)
	}
	if len(b.Columns) > columnLimit {
		p.Fail(root, "%d columns are declared; at most %d can be", len(b.Columns), columnLimit)
	}
	p.renamed()
	rules := 0
	for _, i := range p.items {
		if i.Column == nil {
			rules++
		}
	}
	if rules > ruleLimit {
		p.Fail(root, "%d rules are declared; at most %d can be", rules, ruleLimit)
	}
	if len(p.Problems) > 0 && len(b.Columns) == 0 {
		return // there is nothing that the rules could speak of
	}
	if measures != nil {
		b.Measures = p.columns(measures, "measures", func(c *Column) string {
			if c.Type.IsNumber() {
				return ""
			}
			return fmt.Sprintf("%q is of type %s; a measure is a number that can be summed", c.Name, c.Type)
		})
	}
	p.declare()
}

// item reads the fields that every item of a section has, and keeps the others for its kinds.
func (p *parser) item(s *Section, n *document.Node) {
	i := newItem(p, s, n)
	var fields []document.Field
	for _, f := range s.forms() {
		field := document.Field{Name: f.Name, Required: f.Required, Read: func(n *document.Node) {
			i.given[f.Name] = n
		}}
		switch f.Name {
		case "id":
			field.Read = func(n *document.Node) { i.Name = p.newID(n) }
		case "check":
			field.Read = func(n *document.Node) {
				if name := p.Choice(n, s.Choice, f.Choices...); name != "" {
					i.kind = KindsOf(s.Name)[slices.Index(f.Choices, name)]
					i.note("check", name)
				}
			}
		case "severity":
			field.Read = func(n *document.Node) { i.Severity = p.severity(n) }
		case "reason":
			field.Read = func(n *document.Node) { i.Reason = p.Text(n, "reason") }
		}
		fields = append(fields, field)
	}
	what := "a " + s.Subject
	if s.Single {
		what = s.Name
	}
	p.Mapping(n, what, fields...)
	if s.Name == "columns" {
		p.column(i)
	}
	p.items = append(p.items, i)
}

func newItem(p *parser, s *Section, n *document.Node) *Item {
	return &Item{parser: p, section: s, node: n, given: map[string]*document.Node{}, facts: map[string]string{},
		Severity: s.Default}
}

// declare asks the kinds of each item for its rules.
func (p *parser) declare() {
	b := p.book
	for c, i := 0, 0; i < len(p.items); i++ {
		if p.items[i].Column != nil { // where the columns lie is settled now
			p.items[i].Column = &b.Columns[c]
			c++
		}
	}
	// Keys come first, since they require their columns.
	slices.SortStableFunc(p.items, func(x, y *Item) int {
		return cmp.Compare(btoi(x.Column != nil), btoi(y.Column != nil))
	})
	for _, i := range p.items {
		switch {
		case i.section.Quiet:
			i.meant()
		case !i.section.Checked:
			if i.Column != nil {
				i.checkCodes()
			}
			for _, k := range KindsOf(i.section.Name) {
				i.declare(k)
			}
		case i.kind != nil:
			i.fits(i.kind)
			i.declare(i.kind)
		}
	}
	slices.SortStableFunc(p.items,
		func(x, y *Item) int { return cmp.Compare(rank(x.section.Name), rank(y.section.Name)) })
	for _, i := range p.items {
		b.facts = append(b.facts, i.statement())
	}
	b.sortRules()
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// declare adds the item's rule of a kind, where it has one.
func (i *Item) declare(k *Kind) {
	rule := k.Declare(i)
	if rule == nil {
		return
	}
	d := &Declared{ID: i.Name, Kind: k, Severity: i.Severity, Reason: i.Reason, Dimension: k.Dimension, Rule: rule}
	switch {
	case i.Column != nil:
		d.ID, d.Column = i.Column.Name+"."+k.Name, i.Column.Name
	case i.section.Single:
		d.ID = i.section.Name
	}
	if _, lost := rule.(AbsenceRule); lost {
		d.Severity = Major
	}
	i.book.Rules = append(i.book.Rules, d)
}

// sortRules puts the rules into the order in which they are judged and shown.
func (b *Rulebook) sortRules() {
	column := map[string]int{}
	for c := range b.Columns {
		column[b.Columns[c].Name] = c
	}
	slices.SortStableFunc(b.Rules, func(x, y *Declared) int {
		return cmp.Or(cmp.Compare(rank(x.Kind.Section), rank(y.Kind.Section)),
			cmp.Compare(x.Kind.Place/100, y.Kind.Place/100),
			cmp.Compare(column[x.Column], column[y.Column]), cmp.Compare(x.place(), y.place()))
	})
}

// place orders the rules of one column; others keep the order of the text.
func (d *Declared) place() int {
	if d.Column == "" {
		return 0
	}
	return d.Kind.Place
}

// fits checks that the fields given are those of the kind.
func (i *Item) fits(k *Kind) {
	takes := make([]string, len(k.Fields))
	for at, f := range k.Fields {
		takes[at] = f.Name
		if f.Required && !i.Gives(f.Name) {
			i.Fail(i.node, "%s needs %q", k.Name, f.Name)
		}
	}
	for name, at := range i.given {
		if !slices.Contains(takes, name) {
			i.Fail(at, "%s has no %q; it takes %s", k.Name, name, document.Join(takes))
		}
	}
}

func (p *parser) reading(n *document.Node) {
	r := &p.book.Reading
	texts := func(into *[]string, what string) func(*document.Node) {
		return func(n *document.Node) { *into = p.Texts(n, what) }
	}
	text := func(into *string, what string) func(*document.Node) {
		return func(n *document.Node) { *into = p.Text(n, what) }
	}
	p.Mapping(n, "a reading",
		document.Field{Name: "format", Read: func(n *document.Node) { r.Format = p.Text(n, "format") }},
		document.Field{Name: "entry", Read: text(&r.Entry, "entry")},
		document.Field{Name: "sheet", Read: text(&r.Sheet, "sheet")},
		document.Field{Name: "closing_lines", Read: func(n *document.Node) {
			if _, err := strconv.Atoi(n.Text); n.Kind != document.Scalar || err != nil {
				r.Closing = p.Texts(n, "closing_lines")
				return
			}
			r.ClosingLines = p.Whole(n, "closing_lines")
			p.OldWord(n, n.Text, "the texts with which closing lines begin, as [Total]")
		}},
		document.Field{Name: "encoding", Read: text(&r.Encoding, "encoding")},
		document.Field{Name: "delimiter", Read: text(&r.Delimiter, "delimiter")},
		document.Field{Name: "quote", Read: text(&r.Quote, "quote")},
		document.Field{Name: "header_line", Read: func(n *document.Node) { r.HeaderLine = p.Whole(n, "header_line") }},
		document.Field{Name: "decimal_mark", Read: text(&r.DecimalMark, "decimal_mark")},
		document.Field{Name: "grouping_mark", Read: text(&r.GroupingMark, "grouping_mark")},
		document.Field{Name: "missing", Read: texts(&r.Missing, "missing")},
		document.Field{Name: "dates", Read: texts(&r.Dates, "dates")},
		document.Field{Name: "datetimes", Read: func(n *document.Node) {
			r.DateTimes = p.Texts(n, "datetimes")
			p.OldWord(n, "datetimes", "dates")
		}},
		document.Field{Name: "true_words", Read: texts(&r.TrueWords, "true_words")},
		document.Field{Name: "false_words", Read: texts(&r.FalseWords, "false_words")},
	)
}

// id reads a name of ours: it becomes part of addresses and messages.
func (p *parser) id(n *document.Node, what string) string {
	id := p.Text(n, what)
	if n.Kind == document.Scalar && (!idShape.MatchString(id) || len(id) > 60) {
		p.Fail(n, "%s is written in lower-case letters, digits and underscores, a letter first and at most 60, not %q",
			what, id)
	}
	return id
}

// newID reads the id of a key or rule, which no other may have.
func (p *parser) newID(n *document.Node) string {
	id := p.id(n, "an id")
	if p.ids[id] || id == EqualRowsID {
		p.Fail(n, "the id %q is taken already; every key and rule needs its own", id)
	}
	p.ids[id] = true
	return id
}

// severity reads a severity; the words of earlier versions are understood, and noted.
func (p *parser) severity(n *document.Node) Severity {
	return Severity(p.ChoiceOrOld(n, "a severity", oldSeverities, Severities...))
}

func (p *parser) bound(n *document.Node, c *Column) *table.Value {
	text := p.Text(n, "a bound of a range")
	if c.Type == table.TypeCode || c.Type == table.TypeBoolean {
		p.Fail(n, "a column of type %s has no range", c.Type)
		return nil
	}
	v, ok := table.StandardFormat.Parse(c.Type, text)
	if !ok {
		p.Fail(n, "%q is no %s; bounds are written with a point as decimal mark and dates as yyyy-MM-dd", text, c.Type)
		return nil
	}
	return &v
}

// columns reads a list of declared columns.
func (p *parser) columns(n *document.Node, what string, accept func(*Column) string) []string {
	names := p.Texts(n, what)
	for i, name := range names {
		at := n
		if n.Kind == document.List {
			at = n.Items[i]
		}
		c := p.book.Column(name)
		if c == nil {
			known := make([]string, len(p.book.Columns))
			for i := range p.book.Columns {
				known[i] = p.book.Columns[i].Name
			}
			p.Fail(at, "there is no column %q%s", name, document.Nearest(name, known))
		} else if why := accept(c); why != "" {
			p.Fail(at, "%s", why)
		}
		if slices.Index(names, name) < i {
			p.Fail(at, "%q stands twice in %s", name, what)
		}
	}
	return names
}

func (p *parser) codeLists(n *document.Node) {
	if n.Kind != document.Mapping {
		p.Fail(n, "code_lists gives each list its name, and this is %s", n.Kind)
		return
	}
	for _, e := range n.Entries {
		if p.book.CodeLists[e.Name] != nil {
			p.FailAt(e.Line, e.Column, "the code list %q is declared twice", e.Name)
		}
		l := newCodeList()
		p.book.CodeLists[e.Name] = l
		codes := func(n *document.Node) { p.List(n, "a code list", func(n *document.Node) { p.code(n, l) }) }
		if e.Value.Kind != document.Mapping {
			codes(e.Value)
			continue
		}
		p.Mapping(e.Value, "a code list",
			document.Field{Name: "codes", Read: codes},
			document.Field{Name: "from", Read: func(n *document.Node) {
				l.From = p.elsewhere(n)
				l.Lacking = "the dataset " + l.From.Dataset + ", whose codes these are, is not at hand"
				p.wantColumns(n, l.From, 1, "codes are taken from one column")
			}},
			document.Field{Name: "all_occur", Read: func(n *document.Node) { l.AllOccur = p.Truth(n, "all_occur") }},
		)
		if l.From == nil && len(l.Codes) == 0 {
			p.Fail(e.Value, "the code list %q has neither codes nor a dataset to take them from", e.Name)
		}
	}
}

func (p *parser) code(n *document.Node, l *CodeList) {
	var c Code
	if n.Kind == document.Scalar {
		c.Code = n.Text
	} else {
		p.Mapping(n, "a code",
			document.Field{Name: "code", Required: true, Read: func(n *document.Node) { c.Code = p.Text(n, "code") }},
			document.Field{Name: "label", Read: func(n *document.Node) { c.Label = p.Text(n, "label") }},
			document.Field{Name: "parent", Read: func(n *document.Node) { c.Parent = p.Text(n, "parent") }},
			document.Field{Name: "spellings", Read: func(n *document.Node) { c.Spellings = p.Texts(n, "spellings") }},
			document.Field{Name: "ended", Read: func(n *document.Node) { c.Ended = p.Truth(n, "ended") }},
			document.Field{Name: "must_occur", Read: func(n *document.Node) { c.MustOccur = p.Truth(n, "must_occur") }},
		)
		if c.Ended && c.MustOccur {
			p.Fail(n, "the code %q has ended, so it cannot have to occur", c.Code)
		}
	}
	l.add(c, func(text, code string) {
		p.Fail(n, "%q already stands for the code %q, once spaces and case are levelled", text, code)
	})
}

func (p *parser) passMark(n *document.Node) {
	p.book.PassMark = p.number(n, "pass_mark is a score from 0 to 100", 0, 100)
}

func (p *parser) number(n *document.Node, says string, least, most float64) float64 {
	v, err := strconv.ParseFloat(p.Text(n, says), 64)
	if err != nil || !(v >= least && v <= most) {
		p.Fail(n, "%s, not %q", says, n.Text)
		return 0
	}
	return v
}

// count reads a whole number that is not below 0.
func (p *parser) count(n *document.Node, what string) int {
	v := p.Whole(n, what)
	if v < 0 {
		p.Fail(n, "%s is not below 0", what)
	}
	return max(v, 0)
}

// amount reads an exact number that is not below 0.
func (p *parser) amount(n *document.Node, what string) table.Decimal {
	d, ok := table.ParseDecimal(p.Text(n, what))
	if !ok || d.Sign() < 0 {
		p.Fail(n, "%s is a number, 0 or above, not %q", what, n.Text)
		return table.Decimal{}
	}
	return d
}

func (p *parser) wantColumns(n *document.Node, e *Elsewhere, count int, says string) {
	if n != nil && e != nil && len(e.Columns) != count {
		p.Fail(n, "%s: %d, not %d", says, count, len(e.Columns))
	}
}

// elsewhere reads {dataset: …, columns: […]}.
func (p *parser) elsewhere(n *document.Node) *Elsewhere {
	e := &Elsewhere{}
	p.Mapping(n, "the columns of another dataset",
		document.Field{Name: "dataset", Required: true, Read: func(n *document.Node) {
			e.Dataset = p.id(n, "the name of a dataset")
			p.book.others = append(p.book.others, e.Dataset)
		}},
		document.Field{Name: "columns", Required: true, Read: func(n *document.Node) {
			if e.Columns = p.Texts(n, "columns"); len(e.Columns) == 0 {
				p.Fail(n, "columns names at least one")
			}
		}},
	)
	return e
}
