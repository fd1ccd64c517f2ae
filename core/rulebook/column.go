package rulebook

import (
	"maps"
	"slices"
	"unicode/utf8"

	"proudsieve/core/document"
	"proudsieve/core/table"
)

// Column declares one column: what its cells are and how they are read. What must hold of
// them are rules.
type Column struct {
	Name     string
	Was      []string // names that it had in earlier deliveries
	Title    string
	Type     table.Type
	Unit     string
	Role     string // one of Roles; empty for what it seems to be
	Required bool   // declared so, or part of a key
	CodeList string // of a code column
	Weight   float64
	Dates    []string
	// The marks of its numbers, where they are not those of the reading.
	DecimalMark, GroupingMark string
	WrittenWith               []string // what may stand before or after its numbers, as % or €
	Brackets                  bool     // (5) is -5
	TrueWords, FalseWords     []string // where they are not those of the reading
	Reason                    string
	// Open says that nobody declared the column: its type is what was seen of it so far, and the whole of it decides.
	Open bool
	// Rivals are other patterns by which the dates of an open column could be read; all of its values decide.
	Rivals []string
}

// Roles lists what a column can be declared to be.
var Roles = []string{"identifier", "category", "measure", "date", "text"}

// oldRoles are the words that earlier versions had for roles.
var oldRoles = map[string]string{"dimension": "category"}

func typeNames() []string {
	names := make([]string, len(table.Types))
	for i, t := range table.Types {
		names[i] = string(t)
	}
	return names
}

// columnForms are the fields of a column that are no rules.
var columnForms = []FieldForm{
	{Name: "name", Kind: "text", Required: true, Says: "As it stands in the header"},
	{Name: "was", Kind: "text", Says: "Names that it had before, by which it is still found", Aspect: "names before", Eases: EasesNever},
	{Name: "title", Kind: "text", Says: "What it is called among people", Aspect: "title", Eases: EasesNever, CSVW: "-"},
	{Name: "type", Kind: "choice", Choices: typeNames(), Says: "What its values are", Aspect: "type", Eases: EasesType, CSVW: "-"},
	{Name: "unit", Kind: "text", Says: "The unit of its numbers", Aspect: "unit", Eases: EasesNever},
	{Name: "role", Kind: "choice", Choices: slices.Clone(Roles), Says: "What it is used for", Aspect: "role", Eases: EasesNever},
	{Name: "codes", Kind: "codes", Says: "The code list, where the type is code", Aspect: "code list", Eases: EasesAny, CSVW: "-"},
	{Name: "dates", Kind: "text", Says: "The pattern of its dates, as dd/MM/yyyy", Aspect: "date patterns", Eases: EasesPatterns, CSVW: "-"},
	{Name: "decimal_mark", Kind: "choice", Choices: []string{".", ","},
		Says: "What stands before the decimals, where it is not the reading's", Aspect: "decimal mark", Eases: EasesAny, CSVW: "-"},
	{Name: "grouping_mark", Kind: "text", Says: "What stands between thousands, where it is not the reading's",
		Aspect: "grouping mark", Eases: EasesGiven, CSVW: "-"},
	{Name: "written_with", Kind: "text", Says: "What may stand before or after its numbers, as % or mg/L; 12 % is 12 then",
		Aspect: "what is written with its numbers", Eases: EasesLonger},
	{Name: "brackets_negative", Kind: "truth", Says: "A number in brackets is below zero: (5) is -5",
		Aspect: "brackets", Eases: EasesOn},
	{Name: "true_words", Kind: "text", Says: "The words for true, as Y, where they are not the reading's",
		Aspect: "words for true", Eases: EasesLonger},
	{Name: "false_words", Kind: "text", Says: "The words for false", Aspect: "words for false", Eases: EasesLonger},
	{Name: "weight", Kind: "number", Says: "How much it counts in the mean score of the columns", Aspect: "weight", Eases: EasesNever,
		Default: "1"},
}

// column reads what an item of the section columns says of its cells.
func (p *parser) column(i *Item) {
	c := Column{Type: table.TypeText, Weight: 1, Reason: i.Reason}
	i.Column = &c
	if n := i.given["name"]; n != nil {
		c.Name = p.Text(n, "the name of a column")
		if p.book.Column(c.Name) != nil {
			p.Fail(n, "the column %q is declared twice", c.Name)
		}
	}
	i.Name = c.Name
	c.Was = i.TextsOf("was")
	c.Title, c.Unit, c.CodeList = i.TextOf("title"), i.TextOf("unit"), i.TextOf("codes")
	if n := i.given["type"]; n != nil {
		c.Type = table.Type(p.Choice(n, "a type", typeNames()...))
	}
	i.note("type", string(c.Type))
	if n := i.given["role"]; n != nil {
		c.Role = p.ChoiceOrOld(n, "what a column can be", oldRoles, Roles...)
		i.note("role", c.Role)
	}
	if i.Gives("weight") {
		c.Weight = i.NumberOf("weight", "a weight is a number from 0 to 1000", 0, 1000)
	}
	c.Dates = i.TextsOf("dates")
	for _, source := range c.Dates {
		switch pattern, err := table.ParseDatePattern(source); {
		case err != nil:
			i.Wrong("dates", "%v", err)
		case pattern.Timed() && c.Type == table.TypeDate:
			i.Wrong("dates", "the date pattern %q has a time of day, which a column of type date has not; write type: datetime", source)
		}
	}
	if n := i.given["decimal_mark"]; n != nil {
		c.DecimalMark = p.Choice(n, "a decimal mark", ".", ",")
		i.note("decimal_mark", c.DecimalMark)
	}
	if c.GroupingMark = i.TextOf("grouping_mark"); i.Gives("grouping_mark") && utf8.RuneCountInString(c.GroupingMark) != 1 {
		i.Wrong("grouping_mark", "a grouping mark is one character, not %q", c.GroupingMark)
	}
	if c.GroupingMark != "" && c.DecimalMark == "" {
		p.Fail(i.node, "a column with a grouping mark needs a decimal_mark too")
	}
	if c.GroupingMark != "" && c.GroupingMark == c.DecimalMark {
		p.Fail(i.node, "the decimal mark and the grouping mark of %q are the same", c.Name)
	}
	c.WrittenWith, c.Brackets = i.TextsOf("written_with"), i.TruthOf("brackets_negative")
	i.OnlyForNumbers("written_with", c.Type)
	i.OnlyForNumbers("brackets_negative", c.Type)
	if c.TrueWords, c.FalseWords = i.TextsOf("true_words"), i.TextsOf("false_words"); len(c.TrueWords) != 0 !=
		(len(c.FalseWords) != 0) {
		p.Fail(i.node, "%q has words for one of true and false; it needs true_words and false_words", c.Name)
	}
	if c.Type == "" { // refused above
		c.Type = table.TypeText
	}
	switch {
	case c.Type == table.TypeCode && !i.Gives("codes"):
		p.Fail(i.node, "a column of type code needs \"codes\", the name of its code list")
	case c.Type != table.TypeCode && i.Gives("codes"):
		i.Wrong("codes", "codes go with type code, and %q is of type %s", c.Name, c.Type)
	}
	p.book.Columns = append(p.book.Columns, c)
}

// renamed gives the reading the names that columns had before; each is that of one column, and of none that there is now.
func (p *parser) renamed() {
	for _, i := range p.items {
		if i.Column == nil {
			continue
		}
		for _, was := range i.TextsOf("was") {
			now, taken := p.book.Reading.Renamed[was]
			switch {
			case p.book.Column(was) != nil:
				i.Wrong("was", "%q is a column that is declared; only one that is no more can be what %q was", was, i.Name)
			case taken:
				i.Wrong("was", "%q is what %q was already", was, now)
			default:
				if p.book.Reading.Renamed == nil {
					p.book.Reading.Renamed = map[string]string{}
				}
				p.book.Reading.Renamed[was] = i.Name
			}
		}
	}
}

// CodesOf returns the code list of the item's column; nil where it has none.
func (i *Item) CodesOf() *CodeList {
	c := i.Column
	if c.Type != table.TypeCode || !i.Gives("codes") && i.node != nil {
		return nil
	}
	return i.book.CodeLists[c.CodeList]
}

// checkCodes records that the item's column has a code list that there is not.
func (i *Item) checkCodes() {
	if i.Gives("codes") && i.book.CodeLists[i.Column.CodeList] == nil {
		i.Wrong("codes", "there is no code list %q%s", i.Column.CodeList,
			document.Nearest(i.Column.CodeList, slices.Sorted(maps.Keys(i.book.CodeLists))))
	}
}
