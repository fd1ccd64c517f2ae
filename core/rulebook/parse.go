package rulebook

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"proudsieve/core/condition"
	"proudsieve/core/document"
	"proudsieve/core/intake"
	"proudsieve/core/table"
)

// Limits on a declaration, so that a hostile one is refused instead of obeyed.
const (
	columnLimit  = 500
	ruleLimit    = 2_000
	patternLimit = 2_000 // characters
)

var idShape = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)

// Parse reads and checks a rulebook. Its error is a document.Problems with every mistake.
func Parse(source []byte) (*Rulebook, error) {
	root, err := document.Parse(source)
	if err != nil {
		return nil, err
	}
	p := &parser{book: &Rulebook{CodeLists: map[string]*CodeList{}, PassMark: 100, Digest: DigestOf(source)}, ids: map[string]bool{}}
	p.rulebook(root)
	if err := p.Err(); err != nil {
		return nil, err
	}
	return p.book, nil
}

type parser struct {
	document.Reader
	book  *Rulebook
	ids   map[string]bool
	later []func() // checks that need the whole rulebook
}

func (p *parser) rulebook(root *document.Node) {
	b := p.book
	readingNode := root
	p.Mapping(root, "a rulebook",
		document.Field{Name: "dataset", Required: true, Read: func(n *document.Node) { b.Dataset = p.id(n, "the name of a dataset") }},
		document.Field{Name: "title", Read: func(n *document.Node) { b.Title = p.Text(n, "title") }},
		document.Field{Name: "reading", Read: func(n *document.Node) { readingNode = n; p.reading(n) }},
		document.Field{Name: "columns", Required: true, Read: func(n *document.Node) { p.List(n, "columns", p.column) }},
		document.Field{Name: "keys", Read: func(n *document.Node) { p.List(n, "keys", p.key) }},
		document.Field{Name: "equal_rows", Read: p.duplicates},
		document.Field{Name: "code_lists", Read: p.codeLists},
		document.Field{Name: "rules", Read: func(n *document.Node) { p.List(n, "rules", p.rule) }},
		document.Field{Name: "table_rules", Read: func(n *document.Node) { p.List(n, "table_rules", p.tableRule) }},
		document.Field{Name: "references", Read: func(n *document.Node) { p.List(n, "references", p.reference) }},
		document.Field{Name: "history", Read: func(n *document.Node) { p.List(n, "history", p.historyRule) }},
		document.Field{Name: "measures", Read: p.measures},
		document.Field{Name: "pass_mark", Read: p.passMark},
	)
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
	if n := len(b.Rules) + len(b.TableRules) + len(b.References) + len(b.History); n > ruleLimit {
		p.Fail(root, "%d rules are declared; at most %d can be", n, ruleLimit)
	}
	if len(p.Problems) == 0 || len(b.Columns) > 0 {
		for _, check := range p.later {
			check()
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
		document.Field{Name: "format", Read: func(n *document.Node) { r.Format = intake.Format(p.Text(n, "format")) }},
		document.Field{Name: "entry", Read: text(&r.Entry, "entry")},
		document.Field{Name: "sheet", Read: text(&r.Sheet, "sheet")},
		document.Field{Name: "closing_lines", Read: func(n *document.Node) { r.ClosingLines = p.Whole(n, "closing_lines") }},
		document.Field{Name: "encoding", Read: text(&r.Encoding, "encoding")},
		document.Field{Name: "delimiter", Read: text(&r.Delimiter, "delimiter")},
		document.Field{Name: "quote", Read: text(&r.Quote, "quote")},
		document.Field{Name: "header_line", Read: func(n *document.Node) { r.HeaderLine = p.Whole(n, "header_line") }},
		document.Field{Name: "decimal_mark", Read: text(&r.DecimalMark, "decimal_mark")},
		document.Field{Name: "grouping_mark", Read: text(&r.GroupingMark, "grouping_mark")},
		document.Field{Name: "missing", Read: texts(&r.Missing, "missing")},
		document.Field{Name: "dates", Read: texts(&r.Dates, "dates")},
		document.Field{Name: "datetimes", Read: texts(&r.DateTimes, "datetimes")},
		document.Field{Name: "true_words", Read: texts(&r.TrueWords, "true_words")},
		document.Field{Name: "false_words", Read: texts(&r.FalseWords, "false_words")},
	)
}

// id reads a name of ours: it becomes part of addresses and messages.
func (p *parser) id(n *document.Node, what string) string {
	id := p.Text(n, what)
	if n.Kind == document.Scalar && (!idShape.MatchString(id) || len(id) > 60) {
		p.Fail(n, "%s is written in lower-case letters, digits and underscores, a letter first and at most 60, not %q", what, id)
	}
	return id
}

// newID reads the id of a key or rule, which no other may have.
func (p *parser) newID(n *document.Node) string {
	id := p.id(n, "an id")
	if p.ids[id] || id == DuplicatesID {
		p.Fail(n, "the id %q is taken already; every key and rule needs its own", id)
	}
	p.ids[id] = true
	return id
}

func (p *parser) severity(into *Severity) document.Field {
	return document.Field{Name: "severity", Read: func(n *document.Node) {
		*into = Severity(p.Choice(n, "a severity", string(Stop), string(Warn), string(Note)))
	}}
}

func (p *parser) reason(into *string) document.Field {
	return document.Field{Name: "reason", Read: func(n *document.Node) { *into = p.Text(n, "reason") }}
}

func (p *parser) column(n *document.Node) {
	c := Column{Type: table.TypeText, Severity: Warn, Decimals: -1, Weight: 1}
	names := make([]string, len(table.Types))
	for i, t := range table.Types {
		names[i] = string(t)
	}
	var lowest, highest, codes, length, decimals, parent *document.Node
	p.Mapping(n, "a column",
		document.Field{Name: "name", Required: true, Read: func(n *document.Node) {
			c.Name = p.Text(n, "the name of a column")
			if p.book.Column(c.Name) != nil {
				p.Fail(n, "the column %q is declared twice", c.Name)
			}
		}},
		document.Field{Name: "title", Read: func(n *document.Node) { c.Title = p.Text(n, "title") }},
		document.Field{Name: "type", Read: func(n *document.Node) { c.Type = table.Type(p.Choice(n, "a type", names...)) }},
		document.Field{Name: "unit", Read: func(n *document.Node) { c.Unit = p.Text(n, "unit") }},
		document.Field{Name: "role", Read: func(n *document.Node) { c.Role = p.Choice(n, "what a column can be", Roles...) }},
		document.Field{Name: "required", Read: func(n *document.Node) { c.Required = p.Truth(n, "required") }},
		document.Field{Name: "filled", Read: func(n *document.Node) { c.Filled = p.percentage(n, "filled") }},
		document.Field{Name: "shortest", Read: func(n *document.Node) { length = n; c.Shortest = p.count(n, "shortest") }},
		document.Field{Name: "longest", Read: func(n *document.Node) { length = n; c.Longest = p.count(n, "longest") }},
		document.Field{Name: "decimals", Read: func(n *document.Node) { decimals = n; c.Decimals = p.count(n, "decimals") }},
		document.Field{Name: "new_codes", Read: func(n *document.Node) { c.NewCodes = p.Truth(n, "new_codes") }},
		document.Field{Name: "parent_in", Read: func(n *document.Node) { parent = n; c.ParentIn = p.oneColumn(n, "parent_in", anyColumn) }},
		document.Field{Name: "weight", Read: func(n *document.Node) { c.Weight = p.weight(n) }},
		document.Field{Name: "pattern", Read: func(n *document.Node) { c.Pattern = p.pattern(n) }},
		document.Field{Name: "from", Read: func(n *document.Node) { lowest = n }},
		document.Field{Name: "to", Read: func(n *document.Node) { highest = n }},
		document.Field{Name: "codes", Read: func(n *document.Node) { codes = n; c.CodeList = p.Text(n, "codes") }},
		document.Field{Name: "dates", Read: func(n *document.Node) {
			c.Dates = p.Texts(n, "dates")
			for _, source := range c.Dates {
				if _, err := table.ParseDatePattern(source); err != nil {
					p.Fail(n, "%v", err)
				}
			}
		}},
		document.Field{Name: "decimal_mark", Read: func(n *document.Node) { c.DecimalMark = p.Choice(n, "a decimal mark", ".", ",") }},
		document.Field{Name: "grouping_mark", Read: func(n *document.Node) {
			if c.GroupingMark = p.Text(n, "grouping_mark"); len(c.GroupingMark) != 1 {
				p.Fail(n, "a grouping mark is one character, not %q", c.GroupingMark)
			}
		}},
		p.severity(&c.Severity), p.reason(&c.Reason),
	)
	if length != nil && c.Longest > 0 && c.Shortest > c.Longest {
		p.Fail(length, "the longest text of %q would be shorter than its shortest", c.Name)
	}
	if decimals != nil && c.Type != table.TypeDecimal {
		p.Fail(decimals, "decimals go with type decimal, and %q is of type %s", c.Name, c.Type)
	}
	if c.Type != table.TypeCode && (c.NewCodes || parent != nil) {
		p.Fail(n, "new_codes and parent_in go with type code, and %q is of type %s", c.Name, c.Type)
	}
	if c.GroupingMark != "" && c.DecimalMark == "" {
		p.Fail(n, "a column with a grouping mark needs a decimal_mark too")
	}
	if c.GroupingMark != "" && c.GroupingMark == c.DecimalMark {
		p.Fail(n, "the decimal mark and the grouping mark of %q are the same", c.Name)
	}
	if c.Type == "" { // refused above
		c.Type = table.TypeText
	}
	c.Lowest = p.bound(lowest, &c)
	c.Highest = p.bound(highest, &c)
	if c.Lowest != nil && c.Highest != nil && table.Compare(*c.Lowest, *c.Highest) > 0 {
		p.Fail(highest, "the range of %q ends before it starts", c.Name)
	}
	switch {
	case c.Type == table.TypeCode && codes == nil:
		p.Fail(n, "a column of type code needs \"codes\", the name of its code list")
	case c.Type != table.TypeCode && codes != nil:
		p.Fail(codes, "codes go with type code, and %q is of type %s", c.Name, c.Type)
	}
	if codes != nil {
		p.later = append(p.later, func() {
			if p.book.CodeLists[c.CodeList] == nil {
				p.Fail(codes, "there is no code list %q%s", c.CodeList, document.Nearest(c.CodeList, slices.Sorted(maps.Keys(p.book.CodeLists))))
			}
		})
	}
	p.book.Columns = append(p.book.Columns, c)
}

func (p *parser) pattern(n *document.Node) *Pattern {
	source := p.Text(n, "pattern")
	if len(source) > patternLimit {
		p.Fail(n, "the pattern is longer than %d characters", patternLimit)
		return nil
	}
	pattern, err := NewPattern(source)
	if err != nil {
		p.Fail(n, "the pattern cannot be read: %s", strings.TrimPrefix(err.Error(), "error parsing regexp: "))
		return nil
	}
	return pattern
}

func (p *parser) bound(n *document.Node, c *Column) *table.Value {
	if n == nil {
		return nil
	}
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
	p.later = append(p.later, func() {
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
	})
	return names
}

func (p *parser) key(n *document.Node) {
	k := Key{Severity: Stop}
	p.Mapping(n, "a key",
		document.Field{Name: "id", Required: true, Read: func(n *document.Node) { k.ID = p.newID(n) }},
		document.Field{Name: "columns", Required: true, Read: func(n *document.Node) {
			if k.Columns = p.columns(n, "the columns of a key", anyColumn); len(k.Columns) == 0 {
				p.Fail(n, "a key is of one column at least")
			}
		}},
		document.Field{Name: "may_lack_parts", Read: func(n *document.Node) { k.MayLackParts = p.Truth(n, "may_lack_parts") }},
		p.severity(&k.Severity), p.reason(&k.Reason),
	)
	if !k.MayLackParts {
		p.later = append(p.later, func() {
			for _, name := range k.Columns {
				if c := p.book.Column(name); c != nil {
					c.Required = true
				}
			}
		})
	}
	p.book.Keys = append(p.book.Keys, k)
}

func anyColumn(*Column) string { return "" }

func (p *parser) duplicates(n *document.Node) {
	d := Duplicates{Severity: Warn}
	p.Mapping(n, "equal_rows", p.severity(&d.Severity), p.reason(&d.Reason))
	p.book.Duplicates = &d
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

func (p *parser) rule(n *document.Node) {
	r := Rule{Severity: Warn}
	var tolerance *document.Node
	p.Mapping(n, "a rule",
		document.Field{Name: "id", Required: true, Read: func(n *document.Node) { r.ID = p.newID(n) }},
		document.Field{Name: "when", Read: func(n *document.Node) { r.When = p.condition(n) }},
		document.Field{Name: "condition", Required: true, Read: func(n *document.Node) { r.Condition = p.condition(n) }},
		document.Field{Name: "tolerance", Read: func(n *document.Node) { tolerance = n }},
		document.Field{Name: "may_break", Read: func(n *document.Node) { r.MayBreak = p.percentage(n, "may_break") }},
		p.severity(&r.Severity), p.reason(&r.Reason),
	)
	if tolerance != nil && r.Condition != nil {
		if err := r.Condition.Tolerate(p.amount(tolerance, "a tolerance")); err != nil {
			p.Fail(tolerance, "%v", err)
		}
	}
	p.book.Rules = append(p.book.Rules, r)
}

func (p *parser) condition(n *document.Node) *condition.Condition {
	parsed, err := condition.Parse(p.Text(n, "condition"))
	if err != nil {
		p.FailInside(n, "in the condition: ", err)
		return nil
	}
	p.later = append(p.later, func() {
		for _, err := range parsed.Check(p.book.Types()) {
			p.FailInside(n, "in the condition: ", err)
		}
	})
	return parsed
}

func (p *parser) measures(n *document.Node) {
	p.book.Measures = p.columns(n, "measures", func(c *Column) string {
		if c.Type.IsNumber() {
			return ""
		}
		return fmt.Sprintf("%q is of type %s; a measure is a number that can be summed", c.Name, c.Type)
	})
}

func (p *parser) passMark(n *document.Node) {
	p.book.PassMark = p.number(n, "pass_mark is a score from 0 to 100", 0, 100)
}

func (p *parser) percentage(n *document.Node, what string) float64 {
	return p.number(n, what+" is a percentage from 0 to 100", 0, 100)
}

func (p *parser) weight(n *document.Node) float64 {
	return p.number(n, "a weight is a number from 0 to 1000", 0, 1000)
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
