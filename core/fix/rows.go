package fix

import (
	"fmt"
	"slices"

	"proudsieve/core/condition"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Rows are those of a batch, as a step finds them. They give conditions and expressions their values.
type Rows struct {
	rulebook.Batch
	meant []bool // nil for all
	told  *told
	// estimated returns which cells of a column are estimates of earlier steps.
	estimated func(column int) func(at int) bool
}

// Estimated returns which cells of a column were estimated before the step, or when the table arrived. It is for steps that
// look at the whole table.
func (r *Rows) Estimated(column int) func(at int) bool { return r.estimated(column) }

// Means reports whether a row is one that the step is for.
func (r *Rows) Means(at int) bool { return r.meant == nil || r.meant[at] }

// Text returns the text of a cell.
func (r *Rows) Text(column, at int) string { return r.Columns[column].At(at) }

// Cell reads a cell.
func (r *Rows) Cell(column, at int) rulebook.Cell { return r.Cells[column].Read(r.Text(column, at)) }

// Read reads every text of a column once.
func (r *Rows) Read(column int) []rulebook.Cell {
	out := make([]rulebook.Cell, len(r.Columns[column].Texts))
	for i, text := range r.Columns[column].Texts {
		out[i] = r.Cells[column].Read(text)
	}
	return out
}

// some are the rows that are meant; nil for all.
func (r *Rows) some() []int {
	if r.meant == nil {
		return nil
	}
	out := []int{}
	for at, meant := range r.meant {
		if meant {
			out = append(out, at)
		}
	}
	return out
}

// Counts returns how many of the rows that are meant hold each text of a column.
func (r *Rows) Counts(column int) []int64 { return r.Columns[column].Counts(r.some()) }

// Rewrite gives every text of a column another one, once each; a text is left as it is where keep is returned.
func (r *Rows) Rewrite(column int, rewrite func(text string) (now string, keep bool)) Edit {
	old := r.Columns[column]
	texts := old.Texts
	for i, text := range old.Texts {
		now, keep := rewrite(text)
		if keep || now == text {
			continue
		}
		if &texts[0] == &old.Texts[0] {
			texts = slices.Clone(old.Texts)
		}
		texts[i] = now
	}
	return Edit{Column: column, New: table.Column{Texts: texts, Codes: old.Codes}}
}

// Each makes the texts of a column, one for each row; rows that are not meant keep theirs, and so do those for which keep
// is returned.
func (r *Rows) Each(column int, text func(at int) (now string, keep bool)) Edit {
	old := r.Columns[column]
	out := old
	var codes map[string]uint32
	for at := range old.Codes {
		if !r.Means(at) {
			continue
		}
		now, keep := text(at)
		if keep || now == old.At(at) {
			continue
		}
		if codes == nil {
			codes = map[string]uint32{}
			out = table.Column{Texts: slices.Clone(old.Texts), Codes: slices.Clone(old.Codes)}
		}
		code, known := codes[now]
		if !known {
			code = uint32(len(out.Texts))
			codes[now] = code
			out.Texts = append(out.Texts, now)
		}
		out.Codes[at] = code
	}
	return Edit{Column: column, New: out}
}

// Values works an expression out for the rows.
func (r *Rows) Values(x *condition.Expression) func(at int) table.Value {
	values, codes := x.Evaluator(condition.NewMemory(1)).Values(r.Batch)
	return func(at int) table.Value { return values[codes[at]] }
}

// WriteWorked is Write for what was worked out, whose zeros at the end say nothing.
func (r *Rows) WriteWorked(column, at int, v table.Value) string {
	if v.Kind == table.Number {
		if short, ok := table.ParseDecimal(v.Number.Shortest()); ok {
			v.Number = short
		}
	}
	return r.Write(column, at, v)
}

// Write writes a value as the cells of a column are written. Where they have no text for it the step is refused.
func (r *Rows) Write(column, at int, v table.Value) string {
	text, ok := r.Cells[column].Write(v)
	if !ok {
		r.Refuse(at, column, v.Standard(), fmt.Sprintf("values that %s cannot be written with, as it is read; a step standard_form before this one would let it", r.Names[column]))
	}
	return text
}

// Count adds to a number that the note of the step speaks of.
func (r *Rows) Count(what string, n int64) {
	if n != 0 {
		r.told.count(what, n)
	}
}

// Refuse says that the step must not be done as it is declared, for the sake of a row; why is the same text for all of
// them, and continues "12 rows: ".
func (r *Rows) Refuse(at, column int, text, why string) {
	place := Place{Row: r.Rows[at], Line: r.Lines[at], Text: text}
	if column >= 0 {
		place.Column = r.Names[column]
	}
	r.told.refuse(why, 1, place)
}

// told is what a step has to tell, of a batch or in all.
type told struct {
	counts    map[string]int64
	refused   []Refusal
	undecided []Undecided // the first undecidedKept
	open      int64       // of them in all
}

// Refusal is why a step must not be done as it is declared.
type Refusal struct {
	Why    string  `json:"why"`
	Rows   int64   `json:"rows"`
	Places []Place `json:"places"` // the first of them
}

// Place is a cell or row that a refusal is about.
type Place struct {
	Row    uint32 `json:"row"`
	Line   int64  `json:"line,omitempty"`
	Column string `json:"column,omitempty"`
	Text   string `json:"text"`
}

// placesShown is how many places a refusal shows.
const placesShown = 5

func (t *told) count(what string, n int64) {
	if t.counts == nil {
		t.counts = map[string]int64{}
	}
	t.counts[what] += n
}

func (t *told) refuse(why string, rows int64, places ...Place) {
	at := slices.IndexFunc(t.refused, func(r Refusal) bool { return r.Why == why })
	if at < 0 {
		at = len(t.refused)
		t.refused = append(t.refused, Refusal{Why: why, Places: []Place{}})
	}
	one := &t.refused[at]
	one.Rows += rows
	one.Places = append(one.Places, places[:min(len(places), placesShown-len(one.Places))]...)
}

func (t *told) add(o told) {
	for what, n := range o.counts {
		t.count(what, n)
	}
	for _, r := range o.refused {
		t.refuse(r.Why, r.Rows, r.Places...)
	}
}

// Undecided is a cell of which no rule says what stays; a person chooses.
type Undecided struct {
	Key     map[string]string `json:"key"` // the texts of the row's key, by their columns
	Column  string            `json:"column"`
	Choices []Choice          `json:"choices"`
}

// Choice is a text that could stay, with how many rows have it and the first of them.
type Choice struct {
	Text string `json:"text"`
	Rows int64  `json:"rows"`
	Row  uint32 `json:"row"`
}

// undecidedKept is how many undecided cells a ledger lists; the number of all of them stands beside.
const undecidedKept = 200
