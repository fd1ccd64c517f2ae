package condition

import (
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/table"
)

// Step is a part of a condition that passed Check, for whoever says it in another language.
type Step struct {
	// Does is what it does: one of the words below, or the name of a function in upper case.
	Does string
	Kind table.Kind  // of its value
	Word string      // that stands beside the arguments, as YEAR, or what a LIKE has as its escape character
	Name string      // of a column
	Is   table.Value // of a literal
	By   Moved       // of a move
	Of   []Step
	node node // nil for a part that the condition does not have by itself
}

// What steps do that are no functions. The arguments of a CASE are conditions and values in turn, and the last one stands after ELSE; those of
// OneOf are what is looked for and then the list.
const (
	Literally = "literal"
	OfColumn  = "column"
	Minus     = "minus" // of one number
	IsNull    = "IS NULL"
	IsMissing = "IS MISSING"
	// IsMistyped asks a column for a text that is no value of its type.
	IsMistyped = "IS MISTYPED"
	OneOf      = "IN"
	Not        = "NOT"
	And        = "AND"
	Or         = "OR"
	Move       = "move" // a date or datetime
	DaysFrom   = "days" // the first date less the second
	PlusDays   = "plus days"
	LessDays   = "less days"
)

// Moved is by how much a date or datetime is moved: first by months, then by days and then by microseconds. A day beyond the end of a month becomes its
// last one.
type Moved struct{ Months, Days, Micros int64 }

// Steps returns the condition, which must have passed Check.
func (c *Condition) Steps() Step { return toldStep(c.root) }

// Columns names the columns that the step speaks of, each once.
func (s *Step) Columns() (names []string) {
	if s.Does == OfColumn {
		return []string{s.Name}
	}
	for i := range s.Of {
		for _, name := range s.Of[i].Columns() {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	return names
}

// Truths returns what a step that is true or false is for each of some rows; ok is false for one that the condition does not have by itself.
func (s *Step) Truths(rows Rows) (truths []Truth, ok bool) {
	if s.node == nil || s.Kind != table.Boolean {
		return nil, false
	}
	return (&Condition{root: s.node}).Evaluate(rows), true
}

func toldStep(n node) Step {
	s := stepOfNode(n)
	s.node = n
	return s
}

func stepOfNode(n node) Step {
	switch n := n.(type) {
	case literal:
		return Step{Does: Literally, Kind: n.value.Kind, Is: n.value}
	case column:
		return Step{Does: OfColumn, Kind: n.kind, Name: n.name}
	case negative:
		return made(Minus, table.Number, n.node)
	case arithmetic:
		return made(string(n.sign), table.Number, n.left, n.right)
	case comparison:
		return made(n.sign, table.Boolean, n.left, n.right)
	case isNull:
		return unless(n.not, made(IsNull, table.Boolean, n.of))
	case isGap:
		if n.mistyped {
			return unless(n.not, made(IsMistyped, table.Boolean, n.of))
		}
		return unless(n.not, made(IsMissing, table.Boolean, n.of))
	case between:
		low, high := made(">=", table.Boolean, n.of, n.low), made("<=", table.Boolean, n.of, n.high)
		return unless(n.not, Step{Does: And, Kind: table.Boolean, Of: []Step{low, high}})
	case within:
		return unless(n.not, made(OneOf, table.Boolean, append([]node{n.of}, n.list...)...))
	case moved:
		of := toldStep(n.of)
		kind := of.Kind
		if kind == table.Date && n.by.micros != 0 {
			kind = table.Instant
		}
		return Step{Does: Move, Kind: kind, By: Moved{n.by.months, n.by.days, n.by.micros}, Of: []Step{of}}
	case call:
		return called(n)
	case negation:
		return made(Not, table.Boolean, n.of)
	case junction:
		if n.or {
			return made(Or, table.Boolean, n.left, n.right)
		}
		return made(And, table.Boolean, n.left, n.right)
	}
	panic(fmt.Sprintf("condition: unknown node %T", n))
}

func made(does string, kind table.Kind, of ...node) Step {
	s := Step{Does: does, Kind: kind}
	for _, one := range of {
		s.Of = append(s.Of, toldStep(one))
	}
	return s
}

func unless(not bool, s Step) Step {
	if !not {
		return s
	}
	return Step{Does: Not, Kind: table.Boolean, Of: []Step{s}}
}

// called tells what a function makes of which kind.
func called(n call) Step {
	s := made(n.name, table.Missing, n.args...)
	s.Word = n.word
	switch n.name {
	case "-":
		s.Does, s.Kind = DaysFrom, table.Number
	case "+": // days may be taken away too, which only what it does tells
		s.Does, s.Kind = PlusDays, table.Date
		if n.word == "-" {
			s.Does = LessDays
		}
	case "CASE":
		for i := range s.Of {
			if s.Kind == table.Missing && (i%2 == 1 || i == len(s.Of)-1) {
				s.Kind = s.Of[i].Kind
			}
		}
	case "COALESCE", "NULLIF":
		for i := range s.Of {
			if s.Kind == table.Missing {
				s.Kind = s.Of[i].Kind
			}
		}
	case "DATE_TRUNC":
		s.Kind = s.Of[1].Kind
	case "CAST":
		s.Kind = casts[n.word].Kind()
	case "LOWER", "UPPER", "TRIM", "SUBSTRING", "||":
		s.Kind = table.Text
	case "LIKE", "LIKE_REGEX", "IS DISTINCT FROM":
		s.Kind = table.Boolean
	default:
		s.Kind = table.Number
		if strings.HasPrefix(n.name, "IS ") {
			s.Kind = table.Boolean
		}
	}
	return s
}
