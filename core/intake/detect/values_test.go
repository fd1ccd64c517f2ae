package detect

import (
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"proudsieve/core/table"
)

func columnOf(texts ...string) *table.Batch {
	b := &table.Batch{Columns: []table.Column{{}}}
	for i, text := range texts {
		b.Columns[0].Texts = append(b.Columns[0].Texts, text)
		b.Columns[0].Codes = append(b.Columns[0].Codes, uint32(i))
		b.Rows = append(b.Rows, uint32(i)+1)
	}
	return b
}

func TestDatesAreDecidedAmbiguousOrMixed(t *testing.T) {
	for _, c := range []struct {
		name     string
		texts    []string
		status   string
		patterns []PatternFit
		both     int
		row      uint32
	}{
		{"decided by the third row", []string{"01/02/2024", "03/04/2024", "29/02/2024"}, DatesDecided,
			[]PatternFit{{Pattern: "dd/MM/yyyy", Rows: 3}}, 0, 3},
		{"the same day either way decides nothing and harms nothing", []string{"01/01/2024", "29/02/2024"},
			DatesDecided, []PatternFit{{Pattern: "dd/MM/yyyy", Rows: 2}}, 0, 1},
		{"either way", []string{"01/02/2024", "03/04/2024"}, DatesAmbiguous,
			[]PatternFit{{Pattern: "dd/MM/yyyy", Rows: 2}, {Pattern: "MM/dd/yyyy", Rows: 2}}, 0, 0},
		{"mixed", []string{"29/02/2024", "02/28/2024", "02/27/2024", "03/04/2024"}, DatesMixed,
			[]PatternFit{{Pattern: "MM/dd/yyyy", Rows: 2}, {Pattern: "dd/MM/yyyy", Rows: 1}}, 1, 0},
		{"two ways that cannot be confused", []string{"2024-02-29", "29/02/2024", "2024-03-01"}, DatesMixed,
			[]PatternFit{{Pattern: "yyyy-MM-dd", Rows: 2}, {Pattern: "dd/MM/yyyy", Rows: 1}}, 0, 0},
	} {
		e := columnEvidence("day", columnOf(c.texts...), 0)
		if e.Dates == nil {
			t.Errorf("%s: no dates", c.name)
			continue
		}
		if e.Dates.Status != c.status || !reflect.DeepEqual(e.Dates.Patterns, c.patterns) || e.Dates.Both != c.both ||
			e.Dates.DecidedRow != c.row {
			t.Errorf("%s: %+v", c.name, *e.Dates)
		}
	}
	if e := columnEvidence("n", columnOf("1.5", "2.5", "2024-02-29"), 0); e.Dates != nil || e.Numbers == nil {
		t.Errorf("a date among numbers: %+v", e)
	}
}

func TestMarksOfNumbers(t *testing.T) {
	for _, c := range []struct {
		texts             []string
		decimal, grouping string
		confidence        Confidence
		row               uint32
	}{
		{[]string{"1.5", "2.25"}, ".", "", Certain, 1},
		{[]string{"1,5", "2,25"}, ",", "", Certain, 1},
		{[]string{"1.234,5", "2"}, ",", ".", Certain, 1},
		{[]string{"1,234", "2,345"}, ",", "", Ambiguous, 0},
		{[]string{"1,234", "2,345", "1,234,567"}, ".", ",", Certain, 3},
		{[]string{"1 234,5", "7,25"}, ",", " ", Certain, 1},
		{[]string{"12", "13"}, ".", "", Certain, 0},
		{[]string{"1.5", "2.5", "3.5", "4,5"}, ".", "", Likely, 1},
	} {
		e := columnEvidence("n", columnOf(c.texts...), 0)
		if m := e.Numbers; m == nil || m.DecimalMark != c.decimal || m.GroupingMark != c.grouping ||
			m.Confidence != c.confidence || m.DecidedRow != c.row {
			t.Errorf("%q: %+v", c.texts, e.Numbers)
		}
	}
}

// What is known of a text without reading it by each format or pattern is what reading it says.
func TestTextsAreRuledOutOnlyWhereNoFormatFits(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	pieces := []string{"1", "12", "234", "567", "0", ".", ",", " ", "'", "-", "+", "e", "E5", "\u00a0", "\u202f", "\u2019", "x", "/", ":", "\t"}
	for range 200_000 {
		text := ""
		for range 1 + r.IntN(8) {
			text += pieces[r.IntN(len(pieces))]
		}
		fits := numberFits(text)
		for f, one := range numberFormats {
			if _, ok := one.format.Parse(table.TypeDecimal, text); ok != fits.has(f) {
				t.Fatalf("%q with the mark %q and the grouping %q: a number %t, said %t", text, one.decimal, one.grouping, ok, fits.has(f))
			}
		}
	}
	shortest := strings.NewReplacer("'T'", "T", "yyyy", "2024", "yy", "24", "MMM", "Sep", "MM", "09", "M", "9", "dd", "03", "d", "3",
		"HH", "04", "H", "4", "mm", "05", "ss", "06", "SSSSSS", "123456", "SSS", "123", "X", "Z")
	for _, p := range datePatterns {
		text := shortest.Replace(p.String())
		if _, ok := p.Parse(text); !ok || !mayBeDate(text) {
			t.Errorf("%q by %s: read %t, may be a date %t", text, &p, ok, mayBeDate(text))
		}
	}
}
