package workbook

import (
	"errors"
	"testing"
	"time"
)

func TestDateFormatsOfWorkbooks(t *testing.T) {
	for code, want := range map[string]shown{
		"yyyy-mm-dd": showsDate, "d/m/yy h:mm": showsDate, "[$-409]mmmm d, yyyy": showsDate, "[h]:mm:ss": showsDuration,
		"[mm]:ss": showsDuration, "[Red]0.00": showsNumber, "0.00": showsNumber, "General": showsNumber,
		`0.0" days"`: showsNumber, `#,##0\ "m³"`: showsNumber, "@": showsNumber, "0.00;[Red]-0.00": showsNumber,
		`"yyyy"0`: showsNumber,
	} {
		if got := shownBy(code); got != want {
			t.Errorf("%q shows %v, want %v", code, got, want)
		}
	}
}

func TestValuesOfWorkbooks(t *testing.T) {
	b := &bookParts{shared: []string{"x", "12.5", " 7"}, numbers: []bool{false, true, true}, shows: []shown{showsNumber, showsDate, showsDuration}}
	b.from = dateOf("1899-12-30")
	for _, c := range []struct {
		kind, raw, style, want string
		asText                 bool
	}{
		{"", "1", "0", "1", false}, {"", "0.30000000000000004", "0", "0.3", false},
		{"", "1.5E-3", "0", "0.0015", false}, {"", "123456789012345678", "0", "123456789012346000", false},
		{"s", "0", "", "x", false}, {"s", "1", "", "12.5", true}, {"s", "2", "", " 7", true},
		{"b", "1", "", "true", false}, {"e", "#N/A", "", "#N/A", false},
		{"str", "y", "", "y", false}, {"str", "a_x000D_\nb_x005F_x0041_", "", "a\r\nb_x0041_", false}, {"str", "_xD800_ _xyz", "", "_xD800_ _xyz", false}, {"", "45351", "1", "2024-02-29", false},
		{"", "45351.5", "1", "2024-02-29 12:00:00", false}, {"", "0.25", "1", "06:00:00", false},
		{"", "1", "1", "1900-01-01", false}, {"", "61", "1", "1900-03-01", false}, {"", "-1", "1", "-1", false},
		{"", "1.25069444444444", "2", "30:01:00", false}, {"", "-0.5", "2", "-12:00:00", false},
		{"", "", "1", "", false}, {"d", "2024-02-29T00:00:00", "", "2024-02-29", false},
	} {
		got, err := b.value(sheetCell{}, c.kind, c.raw, c.style)
		if err != nil || got.text != c.want || got.numberAsText != c.asText {
			t.Errorf("%q of kind %q: %+v, %v; want %q, as text %v", c.raw, c.kind, got, err, c.want, c.asText)
		}
	}
	for _, raw := range []string{"3", "-1", "x"} {
		if _, err := b.value(sheetCell{}, "s", raw, ""); !errors.Is(err, ErrWorkbook) {
			t.Errorf("the shared text %q: %v", raw, err)
		}
	}
}

func TestPlacesOfCells(t *testing.T) {
	for ref, want := range map[string][3]int{"A1": {0, 1, 1}, "Z9": {25, 9, 1}, "AA10": {26, 10, 1},
		"XFD1048576": {16383, 1048576, 1}, "1": {-1, 1, 0}, "A": {0, 0, 0}, "": {-1, 0, 0}} {
		column, row, ok := cellPlace(ref)
		if column != want[0] || row != want[1] || ok != (want[2] == 1) {
			t.Errorf("%q is column %d, row %d, %v", ref, column, row, ok)
		}
	}
}

func dateOf(text string) time.Time {
	when, err := time.Parse(time.DateOnly, text)
	if err != nil {
		panic(err)
	}
	return when
}
