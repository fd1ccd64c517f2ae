package rulebook

import (
	"testing"

	"proudsieve/core/table"
)

func TestARulebookForATableWithTypes(t *testing.T) {
	book, err := Parse([]byte(`dataset: readings
reading: {encoding: windows-1252, delimiter: ";", header_line: 3, decimal_mark: ",", dates: [dd.MM.yyyy], missing: [n/a], true_words: [ja], false_words: [nein]}
columns:
  - {name: level, type: decimal}
  - {name: said_level, type: decimal}
  - {name: day, type: date}
  - {name: said_day, type: date}
  - {name: noted, was: [said_noted], type: date, dates: [MM/dd/yyyy]}
  - {name: dry, type: boolean}
  - {name: said_dry, type: boolean}
`))
	if err != nil {
		t.Fatal(err)
	}
	typed := book.ForTyped([]string{"said_level", "said_day", "said_noted", "said_dry"})
	for _, c := range []struct {
		column, text, other string // what is one of its type, and what is not
		kind                table.Kind
	}{
		{"level", "1.5", "1,5", table.Number}, {"said_level", "1,5", "1.5x", table.Number}, {"day", "2026-05-31", "31.05.2026", table.Date},
		{"said_day", "31.05.2026", "2026-05-31", table.Date}, {"noted", "05/31/2026", "2026-05-31", table.Date}, {"dry", "true", "ja", table.Boolean}, {"said_dry", "ja", "true", table.Boolean},
	} {
		cells := typed.Cells(c.column)
		if v := cells.Read(c.text); v.Value.Kind != c.kind || v.Mistyped {
			t.Errorf("%s: %q is %+v", c.column, c.text, v)
		}
		if v := cells.Read(c.other); !v.Mistyped {
			t.Errorf("%s: %q is %+v", c.column, c.other, v)
		}
		if v := cells.Read("n/a"); !v.Missing || v.Mistyped {
			t.Errorf("%s: a missing mark is %+v", c.column, v)
		}
	}
	if r := typed.Reading; r.Delimiter != "," || r.HeaderLine != 1 || r.Encoding != "utf-8" || r.Format != "delimited" {
		t.Errorf("it is read by %+v", r)
	}
	if book.Reading.Delimiter != ";" || len(book.Columns[2].Dates) != 0 {
		t.Error("the rulebook itself was changed")
	}
}
