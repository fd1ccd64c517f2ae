// Package merge puts cleaned tables together: it stacks tables with columns of the
// same names, joins others to them by key, and accounts for every row on the way.
package merge

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"proudsieve/core/document"
	"proudsieve/core/rulebook"
)

// Plan is one version of a declared merge. Its name is that of the dataset the
// merged table belongs to.
type Plan struct {
	Name  string
	Title string
	Stack []string // datasets, in this order
	// Tables says which tables of a stacked dataset take part: the newest of those that are not here.
	Tables map[string]Choice
	// Columns are the names that the stack has for columns of a dataset, by those that they have there.
	Columns map[string]map[string]string
	// Grains say of the tables of a dataset, stacked or joined, how rows of them become one before they take part.
	Grains map[string]Grain
	Key    []string // columns of the stack that tell its rows apart; none for the key that all rulebooks declare
	// EqualRows and Contradicting say what becomes of keys that several tables have.
	EqualRows     string
	Contradicting string
	Period        string   // the column by whose days overlaps and gaps are told; "" for the only one of dates
	OtherCodes    []string // columns that are stacked although their code lists contradict one another
	// Columns to be added that say of each row which dataset, which table and which row there it is from; "" for none.
	Origin, OriginTable, OriginRow string
	Joins                          []Join
	Digest                         string // SHA-256 of the source, in hexadecimal
	// Old tells of words of earlier versions that the text has, and what is said now.
	Old []document.Problem

	counting bool // it is not looked into why keys do not meet
}

// Join adds columns of another dataset's table to the rows whose key it has.
type Join struct {
	With      string   // a dataset
	Left      []string // columns of the rows so far, or expressions on them
	Right     []string // what they must equal of the joined table, in the same order
	Between   *Between // what is compared beside, or instead of, the key; nil for nothing
	Nearest   *Nearest // the same
	Take      []string // columns to be added
	Unmatched string   // what becomes of rows whose key is not there
	Unasked   string   // what becomes of rows of the joined table that no row asks for
	Repeated  string   // what if the key is there more than once
	By        string   // the column whose value decides which of them is taken, where one is by a value
	Blanks    string   // whether blank parts of a key are equal
	// MetAtLeast is the least percentage of rows that must find a partner.
	MetAtLeast float64
}

// metUsually is the least percentage of rows that must find a partner where none is declared:
// a join that meets less than one row in two seldom does what was meant.
const metUsually = 50

// What becomes of rows that a join finds no partner for.
const (
	KeepUnmatched   = "keep" // with the added columns missing
	SetAside        = "set_aside"
	RefuseUnmatched = "refuse"
)

// What becomes of rows of the joined table that no row asks for.
const (
	LeaveOut    = "leave_out"
	KeepUnasked = "keep" // as rows of their own, with the columns of the other side missing
)

// What becomes of a key that the joined table has more than once.
const (
	RefuseRepeated = "refuse"
	Multiply       = "multiply" // one row for every partner
	EarliestRow    = "earliest_row"
	LatestRow      = "latest_row"
	LargestValue   = "largest_value" // of the column by, the latest for dates
	LeastValue     = "least_value"
)

// Whether blank parts of a key are equal. A key of which every part is blank meets nothing either way.
const (
	BlanksNever = "never_meet"
	BlanksEqual = "equal"
)

var (
	repeatedWays = []string{RefuseRepeated, Multiply, EarliestRow, LatestRow, LargestValue, LeastValue}
	blankWays    = []string{BlanksNever, BlanksEqual}
	unaskedWays  = []string{LeaveOut, KeepUnasked}
)

var idShape = regexp.MustCompile(`^[a-z][a-z0-9_]{0,59}$`)

// Datasets returns every dataset the merge reads, each once.
func (p *Plan) Datasets() []string {
	names, seen := []string{}, map[string]bool{}
	for _, name := range append(append([]string(nil), p.Stack...), p.joined()...) {
		if !seen[name] {
			names = append(names, name)
		}
		seen[name] = true
	}
	return names
}

// Readings returns how often the tables of a dataset are read, but for looks at single rows: once, or twice where keys that several
// have must be known before rows are written.
func (p *Plan) Readings(dataset string) int64 {
	if slices.Contains(p.Stack, dataset) && (p.EqualRows != KeepAll || p.Contradicting != KeepAll) {
		return 2
	}
	return 1
}

func (p *Plan) joined() []string {
	names := make([]string, len(p.Joins))
	for i, j := range p.Joins {
		names[i] = j.With
	}
	return names
}

// Parse reads a merge. Its error is a document.Problems with every mistake.
func Parse(source []byte) (*Plan, error) {
	root, err := document.Parse(source)
	if err != nil {
		return nil, err
	}
	p := &parser{plan: &Plan{Digest: rulebook.DigestOf(source)}}
	p.Mapping(root, "a merge",
		document.Field{Name: "merge", Required: true, Read: func(n *document.Node) {
			p.plan.Name = p.name(n, "the name of a merge")
		}},
		document.Field{Name: "title", Read: func(n *document.Node) { p.plan.Title = p.Text(n, "title") }},
		document.Field{Name: "stack", Required: true, Read: func(n *document.Node) {
			p.stacked = [2]int{n.Line, n.Column}
			p.plan.Stack = p.Texts(n, "stack")
			if len(p.plan.Stack) == 0 {
				p.Fail(n, "stack names at least one dataset")
			}
		}},
		document.Field{Name: "origin", Read: func(n *document.Node) {
			p.plan.Origin = p.name(n, "the name of the origin column")
		}},
		document.Field{Name: "origin_table", Read: func(n *document.Node) {
			p.plan.OriginTable = p.name(n, "the name of the column of tables")
		}},
		document.Field{Name: "origin_row", Read: func(n *document.Node) {
			p.plan.OriginRow = p.name(n, "the name of the column of rows")
		}},
		document.Field{Name: "tables", Read: p.tables},
		document.Field{Name: "columns", Read: p.columns},
		document.Field{Name: "grain", Read: p.grains},
		document.Field{Name: "key", Read: func(n *document.Node) { p.plan.Key = p.Texts(n, "key") }},
		document.Field{Name: "equal_rows", Read: func(n *document.Node) {
			p.plan.EqualRows = p.Choice(n, "a way with equal rows", equalWays...)
		}},
		document.Field{Name: "contradicting", Read: func(n *document.Node) {
			p.plan.Contradicting = p.Choice(n, "a way with rows of one key that contradict one another", contradictingWays...)
		}},
		document.Field{Name: "period", Read: func(n *document.Node) { p.plan.Period = p.Text(n, "period") }},
		document.Field{Name: "other_codes", Read: func(n *document.Node) { p.plan.OtherCodes = p.Texts(n, "other_codes") }},
		document.Field{Name: "join", Read: func(n *document.Node) { p.List(n, "join", p.join) }},
	)
	if p.plan.EqualRows == "" {
		p.plan.EqualRows = KeepAll
	}
	if p.plan.Contradicting == "" { // of a key that somebody thought of, nothing is doubled
		p.plan.Contradicting = map[bool]string{true: RefuseKeys, false: KeepAll}[len(p.plan.Key) > 0]
	}
	p.once()
	p.plan.Old = p.Old
	return p.plan, p.Err()
}

// Forms are the parts of a merge that a person writes, with their fields.
func Forms() []rulebook.SectionForm {
	return []rulebook.SectionForm{
		{Name: "merge", Title: "the merge itself", Single: true, Form: []rulebook.FieldForm{
			{Name: "merge", Kind: "text", Required: true, Says: "Its name, which is that of the dataset of its tables"},
			{Name: "title", Kind: "text", Says: "What it is for, in a few words"},
			{Name: "stack", Kind: "datasets", Required: true, Says: "The datasets whose tables are put under each other"},
			{Name: "tables", Kind: "pairs", Says: "Which tables of a dataset take part, where it is not the newest: " + choiceForm},
			{Name: "columns", Kind: "pairs", Says: "What the stack calls a column that has another name in a dataset, as lab_results.value: result"},
			{Name: "grain", Kind: "pairs", Says: "How rows of a dataset become one before it takes part, stacked or joined: " + grainForm},
			{Name: "key", Kind: "texts", Says: "The columns that tell rows apart; the key that all rulebooks declare where it is left out"},
			{Name: "contradicting", Kind: "choice", Choices: contradictingWays, Otherwise: "keep, or refuse with a key",
				Says: "What becomes of a key that several tables have with rows that differ: the newest table's row stands, or its empty cells are filled from the others too"},
			{Name: "equal_rows", Kind: "choice", Choices: equalWays, Otherwise: KeepAll, Says: "What becomes of rows that are equal in several tables"},
			{Name: "period", Kind: "text", Says: "The column by whose days overlaps and gaps between tables are told"},
			{Name: "origin", Kind: "text", Says: "A column that says which dataset a row is from"},
			{Name: "origin_table", Kind: "text", Says: "A column that says which table a row is from"},
			{Name: "origin_row", Kind: "text", Says: "A column that says which row of its table a row is"},
			{Name: "other_codes", Kind: "texts", Says: "Columns that are stacked although their code lists contradict one another"},
		}},
		{Name: "join", Title: "a join", Form: []rulebook.FieldForm{
			{Name: "with", Kind: "datasets", Required: true, Says: "The dataset whose columns are added"},
			{Name: "match", Kind: "texts", Says: "The columns that must be equal, or what is worked out of them, as LOWER(TRIM(code))"},
			{Name: "between", Kind: "pairs", Says: "A column so far whose value must lie in a range of the joined dataset: " + betweenForm},
			{Name: "nearest", Kind: "pairs", Says: "A time so far, and the one of the joined dataset of which the nearest earlier row is taken"},
			{Name: "within", Kind: "text", Says: "The longest time between the two, as 2 hours"},
			{Name: "take", Kind: "texts", Required: true, Says: "The columns that are added"},
			{Name: "unmatched", Kind: "choice", Choices: []string{KeepUnmatched, SetAside, RefuseUnmatched},
				Otherwise: RefuseUnmatched, Says: "What becomes of rows without a partner"},
			{Name: "unasked", Kind: "choice", Choices: unaskedWays, Otherwise: LeaveOut, Says: "What becomes of rows of the joined dataset that no row asks for"},
			{Name: "repeated", Kind: "choice", Choices: repeatedWays, Otherwise: RefuseRepeated,
				Says: "What becomes of a key that is there more than once: refuse, multiply the rows, or take one of them"},
			{Name: "by", Kind: "text", Says: "The column whose value decides, for largest_value and least_value"},
			{Name: "blanks", Kind: "choice", Choices: blankWays, Otherwise: BlanksNever, Says: "Whether blank parts of a key are equal"},
			{Name: "met_at_least", Kind: "number", Otherwise: strconv.Itoa(metUsually), Says: "The least percentage of rows that must find a partner"},
		}},
	}
}

type parser struct {
	document.Reader
	plan    *Plan
	stacked [2]int   // where stack stands
	places  [][2]int // of the joins
	ofStack []ofStack
	ofMerge []ofStack // of a dataset that takes part
}

// ofStack is what is said of a dataset that must be stacked.
type ofStack struct {
	entry   document.Entry
	dataset string
}

// once refuses a dataset that takes part twice: its rows and sums would be counted twice.
func (p *parser) once() {
	taking := map[string]bool{}
	for _, name := range p.plan.Stack {
		if taking[name] {
			p.FailAt(p.stacked[0], p.stacked[1],
				"%s is stacked twice, so that its rows and sums would be counted twice", name)
		}
		taking[name] = true
	}
	for _, o := range p.ofStack {
		if !taking[o.dataset] {
			p.FailAt(o.entry.Line, o.entry.Column, "%s is not stacked%s", o.dataset, document.Nearest(o.dataset, p.plan.Stack))
		}
	}
	for i, j := range p.plan.Joins {
		if taking[j.With] && j.With != "" {
			p.FailAt(p.places[i][0], p.places[i][1], "%s takes part in the merge already; a table takes part once",
				j.With)
		}
		taking[j.With] = true
	}
	for _, o := range p.ofMerge {
		if !taking[o.dataset] {
			p.FailAt(o.entry.Line, o.entry.Column, "%s does not take part in the merge%s", o.dataset, document.Nearest(o.dataset, p.plan.Datasets()))
		}
	}
}

func (p *parser) name(n *document.Node, what string) string {
	name := p.Text(n, what)
	if !idShape.MatchString(name) {
		p.Fail(n, "%s is written in lower-case letters, digits and underscores, a letter first, not %q", what, name)
	}
	return name
}

func (p *parser) join(n *document.Node) {
	j := Join{Unmatched: RefuseUnmatched, Unasked: LeaveOut, Repeated: RefuseRepeated, Blanks: BlanksNever, MetAtLeast: metUsually}
	by := n
	var within *document.Node
	var longest time.Duration
	matched := false // with what it is, or a mistake that is told
	p.places = append(p.places, [2]int{n.Line, n.Column})
	p.Mapping(n, "a join",
		document.Field{Name: "with", Required: true, Read: func(n *document.Node) {
			j.With = p.name(n, "the dataset to join with")
		}},
		document.Field{Name: "match", Old: "on", Read: func(n *document.Node) { matched = true; p.match(n, &j) }},
		document.Field{Name: "between", Read: func(n *document.Node) { p.between(n, &j) }},
		document.Field{Name: "nearest", Read: func(n *document.Node) {
			p.one(n, "nearest", func(e document.Entry) {
				j.Nearest = &Nearest{Left: e.Name, Right: p.Text(e.Value, "the time of the joined dataset")}
			})
		}},
		document.Field{Name: "within", Read: func(n *document.Node) {
			within = n
			d, err := parseWithin(p.Text(n, "within"))
			if err != nil {
				p.Fail(n, "%v", err)
			}
			longest = d
		}},
		document.Field{Name: "take", Required: true, Read: func(n *document.Node) { j.Take = p.Texts(n, "take") }},
		document.Field{Name: "unmatched", Read: func(n *document.Node) {
			j.Unmatched = p.Choice(n, "a way with unmatched rows", KeepUnmatched, SetAside, RefuseUnmatched)
		}},
		document.Field{Name: "met_at_least", Read: func(n *document.Node) {
			share, err := strconv.ParseFloat(n.Text, 64)
			if n.Kind != document.Scalar || err != nil || share < 0 || share > 100 {
				p.Fail(n, "met_at_least is the least percentage of rows that must find a partner, 0 to 100, not %q",
					n.Text)
			}
			j.MetAtLeast = share
		}},
		document.Field{Name: "repeated", Read: func(n *document.Node) {
			j.Repeated = p.Choice(n, "a way with repeated keys", repeatedWays...)
		}},
		document.Field{Name: "unasked", Read: func(n *document.Node) {
			j.Unasked = p.Choice(n, "a way with rows that no row asks for", unaskedWays...)
		}},
		document.Field{Name: "by", Read: func(n *document.Node) { by, j.By = n, p.Text(n, "by") }},
		document.Field{Name: "blanks", Read: func(n *document.Node) { j.Blanks = p.Choice(n, "a way with blank keys", blankWays...) }},
	)
	if valued := j.Repeated == LargestValue || j.Repeated == LeastValue; valued != (j.By != "") {
		p.Fail(by, "\"by\" names the column whose value decides; it goes with repeated: %s and %s, which need it", LargestValue, LeastValue)
	}
	switch {
	case j.Between != nil && j.Nearest != nil:
		p.Fail(n, "a join has \"between\" or \"nearest\", not both")
	case j.Nearest != nil && within == nil:
		p.Fail(n, "a join with \"nearest\" needs \"within\", the longest time between two rows, as 2 hours")
	case j.Nearest == nil && within != nil:
		p.Fail(within, "\"within\" goes with \"nearest\"")
	case j.Between == nil && j.Nearest == nil && len(j.Left) == 0 && matched:
	case j.Between == nil && j.Nearest == nil && len(j.Left) == 0:
		p.Fail(n, "a join needs \"match\", \"between\" or \"nearest\": what its rows are found by")
	}
	if j.Nearest != nil {
		j.Nearest.Within = longest
	}
	p.plan.Joins = append(p.plan.Joins, j)
}

// one hands the only entry of a mapping to read.
func (p *parser) one(n *document.Node, what string, read func(e document.Entry)) {
	if n.Kind == document.Mapping && len(n.Entries) != 1 {
		p.Fail(n, "%s names one column of the rows so far and what it is held against", what)
		return
	}
	p.named(n, what, read)
}

// between reads the range of the joined table that a value must lie in.
func (p *parser) between(n *document.Node, j *Join) {
	p.one(n, "between", func(e document.Entry) {
		m := rangeForm.FindStringSubmatch(p.Text(e.Value, "a range of the joined dataset"))
		if m == nil {
			p.Fail(e.Value, "a range is written as %s, not %q", betweenForm, e.Value.Text)
			return
		}
		j.Between = &Between{Left: e.Name, From: m[1], To: m[3], Before: m[2] != ""}
	})
}

// named hands the value of each name of a mapping to read.
func (p *parser) named(n *document.Node, what string, read func(e document.Entry)) {
	if n.Kind != document.Mapping {
		p.Fail(n, "%s is made of names and values, as {a: b}, and this is %s", what, n.Kind)
		return
	}
	for _, e := range n.Entries {
		read(e)
	}
}

// tables reads which tables of each dataset take part.
func (p *parser) tables(n *document.Node) {
	p.plan.Tables = map[string]Choice{}
	p.named(n, "tables", func(e document.Entry) {
		c, err := ParseChoice(p.Text(e.Value, "which tables of "+e.Name+" take part"))
		if err != nil {
			p.Fail(e.Value, "%v", err)
		}
		p.plan.Tables[e.Name] = c
		p.ofStack = append(p.ofStack, ofStack{e, e.Name})
	})
}

// grains reads how rows of a dataset become one before it takes part.
func (p *parser) grains(n *document.Node) {
	p.plan.Grains = map[string]Grain{}
	p.named(n, "grain", func(e document.Entry) {
		g, err := ParseGrain(p.Text(e.Value, "the grain of "+e.Name))
		if err != nil {
			p.Fail(e.Value, "%v", err)
		}
		p.plan.Grains[e.Name] = g
		p.ofMerge = append(p.ofMerge, ofStack{e, e.Name})
	})
}

// columns reads what the stack calls columns that have other names, as dataset.column: name.
func (p *parser) columns(n *document.Node) {
	p.plan.Columns = map[string]map[string]string{}
	p.named(n, "columns", func(e document.Entry) {
		dataset, column, ok := strings.Cut(e.Name, ".")
		if !ok {
			p.FailAt(e.Line, e.Column, "columns names a stacked dataset, a point and its column, as lab_results.value, not %q", e.Name)
			return
		}
		p.ofStack = append(p.ofStack, ofStack{e, dataset})
		if p.plan.Columns[dataset] == nil {
			p.plan.Columns[dataset] = map[string]string{}
		}
		p.plan.Columns[dataset][column] = p.Text(e.Value, "what the stack calls the column")
	})
}

// match reads columns that have the same name on both sides, or pairs of names.
func (p *parser) match(n *document.Node, j *Join) {
	if n.Kind != document.Mapping {
		j.Left = p.Texts(n, "match")
		j.Right = j.Left
		if len(j.Left) == 0 {
			p.Fail(n, "match names at least one column")
		}
		return
	}
	p.named(n, "match", func(e document.Entry) {
		j.Left = append(j.Left, e.Name)
		j.Right = append(j.Right, p.Text(e.Value, "the column of the joined dataset"))
	})
}
