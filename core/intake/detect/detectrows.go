package detect

import (
	"bytes"
	"fmt"
	"regexp"
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
	defaults := first+1 < len(records) && allDefaults(records[first]) && !slices.ContainsFunc(records[first+1].Cells, looksTyped)
	if defaults { // a program put names of its own above the real ones
		first++
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
	if defaults {
		above = "; the line above it has the names that a program gives where there are none"
	}
	named, data := 0, 0
	for c, name := range candidate.Cells {
		typed, dated, filled, same := 0, 0, 0, 0
		for _, r := range below[:min(len(below), 200)] {
			if c >= len(r.Cells) || table.Trim(r.Cells[c]) == "" {
				continue
			}
			filled++
			if looksTyped(r.Cells[c]) {
				typed++
			}
			if looksDated(r.Cells[c]) {
				dated++
			}
			if r.Cells[c] == name {
				same++
			}
		}
		switch {
		case filled == 0 || table.Trim(name) == "":
		case looksDated(name) && dated == 0 && typed*10 >= filled*8: // a day above what was measured on it
			named++
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

// defaultName is what programs call a column without a name.
var defaultName = regexp.MustCompile(`(?i)^(column|col|field|feld|spalte|unnamed|var|v|x|f)[ _:.]*[0-9]+$`)

func allDefaults(r delimited.Record) bool {
	return len(r.Cells) > 1 && !slices.ContainsFunc(r.Cells, func(c string) bool { return !defaultName.MatchString(table.Trim(c)) })
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
	return numberFits(table.Trim(text)) != 0 || looksDated(text)
}

// looksDated reports whether a text is a date, and no number.
func looksDated(text string) bool {
	text = table.Trim(text)
	return numberFits(text) == 0 && mayBeDate(text) && slices.ContainsFunc(datePatterns, func(p table.DatePattern) bool {
		_, ok := p.Parse(text)
		return ok
	})
}

// TotalWords are words with which records of totals begin, levelled.
var TotalWords = []string{"total", "totals", "grand total", "sum", "summe", "gesamt", "gesamtsumme", "somme",
	"subtotal", "overall"}

// closing finds records at the end that are proved to be none: totals, for which two of three things speak, that their
// numbers are the sums of their columns, that they begin with a word for totals and that they lack what every other
// record has; and notes, a sentence alone in a column of
// other things. What only may be one stays a row.
func (d *Detection) closing(records []delimited.Record) {
	if d.Reading.Closing != nil || d.Reading.ClosingLines != 0 || len(records) < 3 {
		return
	}
	last, whole := records, len(records) < sampledRecords
	if !whole {
		if last = d.lastRecords(); last == nil {
			return
		}
	}
	above := newAbove(records, d.Reading.HeaderLine)
	var what, kinds []string
	totals, notes := 0, 0
	for i := len(last) - 1; i >= max(2, len(last)-20); i-- {
		at, text := firstFilled(last[i])
		total := false
		if at >= 0 && !looksTyped(text) {
			begins := slices.Contains(TotalWords, strings.TrimRight(table.Level(text), ": "))
			sums, lacks := whole && above.sums(last[i], last[:i]), above.lacks(last[i], at)
			total = begins && (sums || lacks) || sums && lacks
		}
		if !total && (at < 0 || !above.note(last[i], at)) {
			break
		}
		if total {
			totals++
			d.Reading.Closing = append(d.Reading.Closing, table.Trim(text))
		} else {
			notes++
			d.Reading.Closing = append(d.Reading.Closing, beginning(text))
		}
		what = append(what, fmt.Sprintf("%q",
			delimited.Clip(strings.Join(strings.Fields(strings.Join(last[i].Cells, " ")), " "))))
	}
	if len(what) == 0 {
		return
	}
	slices.Reverse(what)
	slices.Reverse(d.Reading.Closing)
	d.Reading.Closing = slices.Compact(d.Reading.Closing)
	if totals > 0 {
		kinds = append(kinds, plural(totals, "line")+" of totals")
	}
	if notes > 0 {
		kinds = append(kinds, plural(notes, "line")+" of notes")
	}
	d.add("closing lines", Likely, strings.Join(kinds, " and "), "set aside, since they are no records: "+
		strings.Join(what[:min(len(what), 3)], ", "))
}

// firstFilled returns where the first filled cell of a record stands, and what it holds; -1 for none.
func firstFilled(r delimited.Record) (at int, text string) {
	for c, cell := range r.Cells {
		if table.Level(cell) != "" {
			return c, cell
		}
	}
	return -1, ""
}

// beginning returns how a note begins: its first words, up to one with a digit.
func beginning(text string) string {
	words := strings.Fields(text)
	n := 0
	for n < min(len(words), 3) && !strings.ContainsAny(words[n], "0123456789") {
		n++
	}
	return strings.Join(words[:max(n, 1)], " ")
}

// above is what the records of a table have in common, those aside that may be closing lines.
type above struct {
	always []bool // whether a column is never empty
	words  []int  // the most words in a cell of a column
}

func newAbove(records []delimited.Record, header int) *above {
	a := &above{}
	for i, r := range records {
		if int(r.Line) <= header || i > 0 && len(records) < sampledRecords && i >= len(records)-20 && i > len(records)/2 {
			continue
		}
		for c, cell := range r.Cells {
			if c == len(a.always) {
				a.always, a.words = append(a.always, true), append(a.words, 0)
			}
			a.words[c] = max(a.words[c], words(cell))
		}
		for c := range a.always {
			a.always[c] = a.always[c] && c < len(r.Cells) && table.Trim(r.Cells[c]) != ""
		}
	}
	return a
}

// lacks reports whether a record is empty in a column that no other one is empty in.
func (a *above) lacks(r delimited.Record, first int) bool {
	for c, always := range a.always {
		if always && c != first && (c >= len(r.Cells) || table.Trim(r.Cells[c]) == "") {
			return true
		}
	}
	return false
}

// note reports whether a record is a sentence of three words or more, alone in a column that has none so long.
func (a *above) note(r delimited.Record, at int) bool {
	n := words(r.Cells[at])
	return len(a.always) >= 3 && filled(r) == 1 && n >= 3 && (at >= len(a.words) || n > a.words[at]) && a.lacks(r, at)
}

// words counts the words of a text.
func words(text string) (n int) {
	for range strings.FieldsSeq(text) {
		n++
	}
	return n
}

// sums reports whether the numbers of a record are the sums of those in the records above it, of which there are two
// at least that are not zero.
func (a *above) sums(r delimited.Record, above []delimited.Record) bool {
	sums := 0
	for c, cell := range r.Cells {
		for _, f := range numberFormats {
			total, ok := f.format.Parse(table.TypeDecimal, table.Trim(cell))
			if !ok {
				continue
			}
			sum, counted := table.Decimal{}, 0
			for _, one := range above {
				if c >= len(one.Cells) {
					continue
				}
				if v, ok := f.format.Parse(table.TypeDecimal, table.Trim(one.Cells[c])); ok && v.Number.Sign() != 0 {
					sum = sum.Add(v.Number)
					counted++
				}
			}
			if counted >= 2 && sum.Cmp(total.Number) == 0 {
				sums++
				break
			}
		}
	}
	numbers := 0
	for _, cell := range r.Cells {
		if looksTyped(cell) {
			numbers++
		}
	}
	return sums > 0 && sums == numbers
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
	tail = tail[start:]
	t := &delimited.Text{Layout: delimited.Layout{Delimiter: d.Reading.Delimiter[0], LineEnd: '\n'}}
	if d.Reading.Quote != "none" {
		t.Quote = d.Reading.Quote[0]
	}
	if t.Quote == 0 || bytes.IndexByte(tail, t.Quote) < 0 {
		tail = lastLines(tail, closingLines)
	}
	return t.Records(tail, len(tail))
}

// closingLines is how many lines at the end are looked at where every line is a record.
const closingLines = 200

// lastLines returns the end of a text from where so many lines are left.
func lastLines(text []byte, lines int) []byte {
	at := len(text)
	for range lines + 1 { // the last line ends with one too
		if at = bytes.LastIndexByte(text[:at], '\n'); at < 0 {
			return text
		}
	}
	return text[at+1:]
}
