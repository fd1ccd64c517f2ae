package rulebook

import (
	"proudsieve/core/intake"
	"proudsieve/core/table"
)

// typicalShare is how many of a hundred different texts must be of a type for a
// column to be of it; the others are then shown as exceptions.
const typicalShare = 90

// Draft is the rulebook of a table that nobody has declared anything about: the
// type of each column as its sample suggests, and no rule that could be broken
// but by a value of another type. It passes whatever its score.
func Draft(dataset string, reading intake.Reading, names []string, sample *table.Batch) *Rulebook {
	book := &Rulebook{Dataset: dataset, Reading: reading, CodeLists: map[string]*CodeList{}}
	format := reading.Values()
	for i, name := range names {
		c := Column{Name: name, Type: table.TypeText, Severity: Note}
		if sample != nil {
			c.Type = typical(format, sample.Columns[i].Texts)
		}
		book.Columns = append(book.Columns, c)
	}
	return book
}

// typical is the narrowest type that most of the texts are of.
func typical(format *table.Format, texts []string) table.Type {
	for _, t := range []table.Type{table.TypeInteger, table.TypeDecimal, table.TypeDate, table.TypeDateTime, table.TypeBoolean} {
		filled, fits := 0, 0
		for _, text := range texts {
			if table.Trim(text) == "" {
				continue
			}
			filled++
			if _, ok := format.Parse(t, text); ok && !leadingZero(t, text) {
				fits++
			}
		}
		if filled > 0 && fits*100 >= filled*typicalShare {
			return t
		}
	}
	return table.TypeText
}

// leadingZero reports whether a number would lose its leading zeros: 00712 names
// something, it does not count.
func leadingZero(t table.Type, text string) bool {
	return t.IsNumber() && len(text) > 1 && text[0] == '0' && text[1] >= '0' && text[1] <= '9'
}
