package detect

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/intake"
	"proudsieve/core/intake/content"
	"proudsieve/core/intake/delimited"
	"proudsieve/core/table"
)

// header finds the line with the names: the first record as wide as most, and unlike
// those below it.
func (d *Detection) header(records []delimited.Record) {
	typical := typicalWidth(records)
	first := 0
	for first < len(records)-1 && width(records[first]) < typical && (len(records[first].Cells) < typical ||
		filled(records[first])*2 < typical) {
		first++
	}
	if d.Reading.HeaderLine != 0 {
		return
	}
	candidate := records[first]
	if candidate.Line > 10_000 {
		first, candidate = 0, records[0]
	}
	below := records[first+1:]
	above := ""
	if first > 0 || candidate.Line > 1 {
		above = fmt.Sprintf("; the %s above it %s fewer cells than the %d of most records",
			plural(int(candidate.Line)-1, "line"), map[bool]string{true: "has", false: "have"}[candidate.Line == 2],
			typical)
	}
	named, data := 0, 0
	for c, name := range candidate.Cells {
		typed, filled, same := 0, 0, 0
		for _, r := range below[:min(len(below), 200)] {
			if c >= len(r.Cells) || table.Trim(r.Cells[c]) == "" {
				continue
			}
			filled++
			if looksTyped(r.Cells[c]) {
				typed++
			}
			if r.Cells[c] == name {
				same++
			}
		}
		switch {
		case filled == 0 || table.Trim(name) == "":
		case looksTyped(name) && typed*2 > filled:
			data++
		case !looksTyped(name) && typed*10 >= filled*8:
			named++
		case same > 0:
			data++
		}
	}
	switch {
	case data > named:
		d.Reading.HeaderLine = intake.NoHeader
		d.add("header", Likely, "none", fmt.Sprintf("the first record looks like those below it in %s",
			plural(data, "column"))+above)
		if first > 0 {
			d.add("lines before", Likely, plural(first, "line"),
				"they have fewer cells than most records; without a header they cannot be told apart and are read as rows")
		}
	case named > 0:
		d.Reading.HeaderLine = int(candidate.Line)
		d.add("header", Likely, fmt.Sprintf("line %d", candidate.Line),
			fmt.Sprintf("its cells are texts above numbers or dates in %s", plural(named, "column"))+above)
	default:
		d.Reading.HeaderLine = int(candidate.Line)
		d.add("header", Ambiguous, fmt.Sprintf("line %d", candidate.Line),
			"its cells are texts like those below it, and none of them occurs there again"+above)
	}
}

// typicalWidth is the width that most records have; of equals the one met first.
func typicalWidth(records []delimited.Record) (typical int) {
	widths := map[int]int{}
	for _, r := range records {
		widths[width(r)]++
	}
	for _, r := range records {
		if w := width(r); widths[w] > widths[typical] {
			typical = w
		}
	}
	return typical
}

// width is the number of cells up to the last filled one; delimiters at the end of a line do not count.
func width(r delimited.Record) int {
	n := len(r.Cells)
	for n > 1 && table.Trim(r.Cells[n-1]) == "" {
		n--
	}
	return n
}

// looksTyped reports whether a text is a number or starts as a date does.
func looksTyped(text string) bool {
	text = table.Trim(text)
	for _, f := range numberFormats {
		if _, ok := f.format.Parse(table.TypeDecimal, text); ok {
			return true
		}
	}
	for _, p := range datePatterns {
		if _, ok := p.Parse(text); ok {
			return true
		}
	}
	return false
}

var totalWords = []string{"total", "totals", "grand total", "sum", "summe", "gesamt", "gesamtsumme", "somme",
	"subtotal", "overall"}

// closing finds lines at the end that are no records: totals and notes.
func (d *Detection) closing(records []delimited.Record) {
	if d.Reading.ClosingLines != 0 || len(records) < 3 {
		return
	}
	last := records
	if len(records) >= sampledRecords {
		if last = d.lastRecords(); last == nil {
			return
		}
	}
	typical := typicalWidth(records)
	lines, notes, totals := 0, 0, 0
	var what []string
	for i := len(last) - 1; i >= max(1, len(last)-20); i-- {
		first := ""
		for _, cell := range last[i].Cells {
			if first = table.Level(cell); first != "" {
				break
			}
		}
		isTotal := slices.Contains(totalWords, strings.TrimRight(first, ": "))
		isNote := typical >= 3 && width(last[i]) == 1 && filled(last[i]) == 1
		if !isTotal && !isNote {
			break
		}
		if isTotal {
			totals++
		} else {
			notes++
		}
		lines++
		what = append(what, fmt.Sprintf("%q",
			delimited.Clip(strings.Join(strings.Fields(strings.Join(last[i].Cells, " ")), " "))))
	}
	if lines == 0 {
		return
	}
	d.Reading.ClosingLines = lines
	slices.Reverse(what)
	var kinds []string
	if totals > 0 {
		kinds = append(kinds, plural(totals, "line")+" of totals")
	}
	if notes > 0 {
		kinds = append(kinds, plural(notes, "line")+" of notes")
	}
	d.add("closing lines", Likely, strings.Join(kinds, " and "), "set aside, since they are no records: "+
		strings.Join(what[:min(len(what), 3)], ", "))
}

// lastRecords reads the end of a long file; nil where that would mean to read all of it.
func (d *Detection) lastRecords() []delimited.Record {
	tail := d.opened.Tail
	if d.opened.Ends {
		tail = d.opened.Text[max(0, len(d.opened.Text)-content.TailSize):]
	}
	if d.opened.Converted() || strings.HasPrefix(d.Reading.Encoding, "utf-16") {
		return nil
	}
	start := bytes.IndexByte(tail, '\n') + 1
	if start == 0 {
		return nil
	}
	t := &delimited.Text{Layout: delimited.Layout{Delimiter: d.Reading.Delimiter[0], LineEnd: '\n'}}
	if d.Reading.Quote != "none" {
		t.Quote = d.Reading.Quote[0]
	}
	return t.Records(tail[start:], len(tail))
}
