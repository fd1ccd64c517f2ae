package intake

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"proudsieve/core/table"
)

// Confidence is how sure a finding about a file is.
type Confidence string

// The confidences.
const (
	Certain   Confidence = "certain"   // the content allows nothing else
	Likely    Confidence = "likely"    // most of the content speaks for it
	Ambiguous Confidence = "ambiguous" // the content allows several; the one named is only a default
)

// Evidence is one finding about how a file is read, and what it rests on.
type Evidence struct {
	Aspect     string     `json:"aspect"` // format, encoding, line ends, delimiter, quote, header, blanks, closing lines, missing
	Found      string     `json:"found"`
	Because    string     `json:"because"`
	Confidence Confidence `json:"confidence"`
}

// Detection is how a file is probably read, with the evidence for it.
type Detection struct {
	Reading  Reading          `json:"reading"`
	Format   Format           `json:"format"`
	Packing  Packing          `json:"packing,omitempty"`
	Evidence []Evidence       `json:"evidence"`
	Columns  []ColumnEvidence `json:"columns"`
	Sample   *table.Batch     `json:"-"` // the first rows; nil where there are none
	fixed    Reading
}

func (d *Detection) add(aspect string, confidence Confidence, found, because string) {
	d.Evidence = append(d.Evidence, Evidence{aspect, found, because, confidence})
}

// Detect looks at the start of a file, and its end, and says how it is probably read.
// fixed holds what is known already: its fields that are set are kept.
func Detect(ctx context.Context, open Opener, fixed Reading) (*Detection, error) {
	found, err := look(open, fixed)
	if err != nil {
		return nil, err
	}
	d := &Detection{fixed: fixed, Reading: fixed, Format: found.format, Packing: found.packing}
	d.formatEvidence(found)
	var records []sampled
	switch found.format {
	case Delimited:
		if records, err = d.delimited(found); err != nil {
			return nil, err
		}
	case Workbook:
		if records, err = d.workbook(ctx, open); err != nil {
			return nil, err
		}
	default:
		d.Reading.HeaderLine = NoHeader
	}
	if len(records) > 0 {
		d.header(records)
		d.closing(found, records)
	}
	d.Reading = d.Reading.WithDefaults()
	if d.Sample, err = Sample(ctx, open, d.Reading); err != nil {
		return nil, err
	}
	f, err := Open(open, d.Reading)
	if err != nil {
		return nil, err
	}
	if d.Sample != nil {
		d.values(f.Columns())
	}
	return d, nil
}

func (d *Detection) formatEvidence(c content) {
	names := map[Format]string{Delimited: "delimited text", JSONLines: "JSON Lines", JSONArray: "a JSON array of objects", Workbook: "a workbook (xlsx)", Parquet: "Parquet"}
	because := map[Format]string{Delimited: "it starts as none of the other formats does", JSONLines: "it starts with an object", JSONArray: "it starts with a bracket and an object",
		Workbook: "it is an archive with a workbook in it", Parquet: "it starts with the four bytes of the format"}[c.format]
	found := names[c.format]
	switch c.packing {
	case Gzip, Zstandard:
		found += ", packed with " + string(c.packing)
	case Zip:
		found += fmt.Sprintf(", the file %q of a zip", c.entry)
	}
	d.add("format", Certain, found, because)
}

// sampled is a record of the start of a file, with the line it stands on.
type sampled struct {
	line  int64
	cells []string
}

func (s sampled) filled() int {
	n := 0
	for _, c := range s.cells {
		if table.Trim(c) != "" {
			n++
		}
	}
	return n
}

// delimited finds out how text is encoded and divided.
func (d *Detection) delimited(c content) ([]sampled, error) {
	head, err := headOf(c.open, headSize)
	if err != nil {
		return nil, err
	}
	whole := len(head) < headSize
	if d.Reading.Encoding == "" {
		d.encoding(head, !whole)
	}
	text := inASCIITerms(head, d.Reading.Encoding)
	d.lineEnds(text)
	s := scanner{quote: '"', quoting: true, lineEnd: '\n'}
	if bytes.IndexByte(text, '\n') < 0 && bytes.IndexByte(text, '\r') >= 0 {
		s.lineEnd = '\r'
	}
	if !whole { // the last line may be cut
		if at := bytes.LastIndexByte(text, s.lineEnd); at >= 0 {
			text = text[:at+1]
		}
	}
	if d.Reading.Quote == "" {
		d.quote(text)
	}
	if s.quoting = d.Reading.Quote != "none"; s.quoting {
		s.quote = d.Reading.Quote[0]
	}
	if d.Reading.Delimiter == "" {
		d.delimiter(s, text)
	}
	s.delimiter = d.Reading.Delimiter[0]
	return recordsOf(s, text, sampledRecords), nil
}

const sampledRecords = 1000

// recordsOf takes the first records of a text apart; blank lines are left out.
func recordsOf(s scanner, text []byte, most int) []sampled {
	var out []sampled
	text = bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))
	for line := int64(1); len(text) > 0 && len(out) < most; {
		r := s.record(text, true, true)
		if r.form != blankRecord {
			one := sampled{line: line}
			for _, c := range s.appendCells(nil, text[:r.end], r.form) {
				one.cells = append(one.cells, string(c.content(text[:r.end])))
			}
			out = append(out, one)
		}
		line += r.lines
		text = text[r.end:]
	}
	return out
}

func (d *Detection) encoding(head []byte, cut bool) {
	set := func(encoding string, c Confidence, because string) {
		d.Reading.Encoding = encoding
		d.add("encoding", c, encoding, because)
	}
	beyond, first, control := 0, 0, 0
	line := 1
	for _, b := range head {
		if b == '\n' {
			line++
		}
		if b >= utf8.RuneSelf {
			if beyond++; beyond == 1 {
				first = line
			}
			if b < 0xA0 {
				control++
			}
		}
	}
	switch {
	case bytes.HasPrefix(head, []byte{0xFF, 0xFE}):
		set("utf-16le", Certain, "it starts with the byte order mark of UTF-16, least byte first")
	case bytes.HasPrefix(head, []byte{0xFE, 0xFF}):
		set("utf-16be", Certain, "it starts with the byte order mark of UTF-16, greatest byte first")
	case nulShare(head, 1) > 0.3 && nulShare(head, 0) < 0.05:
		set("utf-16le", Likely, "nearly every second byte is NUL, the odd ones")
	case nulShare(head, 0) > 0.3 && nulShare(head, 1) < 0.05:
		set("utf-16be", Likely, "nearly every second byte is NUL, the even ones")
	case bytes.HasPrefix(head, []byte("\xef\xbb\xbf")):
		set("utf-8", Certain, "it starts with the byte order mark of UTF-8")
	case beyond == 0:
		set("utf-8", Certain, "nothing but ASCII, in which all encodings agree, "+d.extent(cut))
	case validStart(head, cut):
		set("utf-8", Certain, fmt.Sprintf("%d bytes beyond ASCII, from line %d on, and all of them are sound UTF-8", beyond, first))
	case float64(undecodable(head))/float64(beyond) < 0.02:
		set("utf-8", Likely, fmt.Sprintf("%d bytes beyond ASCII, and all but %d of them are sound UTF-8", beyond, undecodable(head)))
	case control > 0:
		set("windows-1252", Likely, fmt.Sprintf("%d bytes beyond ASCII, from line %d on, that are no UTF-8; %d of them are only characters in windows-1252", beyond, first, control))
	case bytes.IndexByte(head, 0xA4) >= 0:
		set("windows-1252", Ambiguous, fmt.Sprintf("bytes beyond ASCII, from line %d on, that are no UTF-8; byte A4 is ¤ here, and € in iso-8859-15", first))
	default:
		set("windows-1252", Likely, fmt.Sprintf("%d bytes beyond ASCII, from line %d on, that are no UTF-8; iso-8859-1 would read them alike", beyond, first))
	}
}

func (d *Detection) extent(cut bool) string {
	if cut {
		return "in the first million bytes"
	}
	return "in the whole file"
}

// nulShare is the share of NUL among the bytes at even or odd places.
func nulShare(head []byte, odd int) float64 {
	n, all := 0, 0
	for i := odd; i < len(head); i += 2 {
		all++
		if head[i] == 0 {
			n++
		}
	}
	return float64(n) / float64(max(all, 1))
}

func undecodable(head []byte) (n int) {
	for i := 0; i < len(head); {
		r, size := utf8.DecodeRune(head[i:])
		if r == utf8.RuneError && size == 1 {
			n++
		}
		i += size
	}
	return n
}

func validStart(head []byte, cut bool) bool {
	if cut { // the last character may have been cut in two
		for i := 0; i < utf8.UTFMax && len(head) > 0 && !utf8.Valid(head); i++ {
			head = head[:len(head)-1]
		}
	}
	return utf8.Valid(head)
}

// inASCIITerms turns the text into an encoding in which ASCII stands as it is.
func inASCIITerms(head []byte, encoding string) []byte {
	if !strings.HasPrefix(encoding, "utf-16") {
		return head
	}
	f := File{content: content{open: func(int64) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(head[:len(head)&^1])), nil }}, reading: Reading{Encoding: encoding}}
	in, err := f.decoded(0)
	if err != nil {
		return head
	}
	text, err := io.ReadAll(in)
	if err != nil && len(text) == 0 {
		return head
	}
	return text
}

func (d *Detection) lineEnds(text []byte) {
	both := bytes.Count(text, []byte("\r\n"))
	feeds, returns := bytes.Count(text, []byte("\n"))-both, bytes.Count(text, []byte("\r"))-both
	kinds := 0
	var counts []string
	for _, k := range []struct {
		n    int
		name string
	}{{both, "CR LF"}, {feeds, "LF"}, {returns, "CR"}} {
		if k.n > 0 {
			kinds++
			counts = append(counts, fmt.Sprintf("%d %s", k.n, k.name))
		}
	}
	switch {
	case kinds == 0:
		d.add("line ends", Certain, "none", "the text is a single line")
	case kinds == 1:
		d.add("line ends", Certain, strings.SplitN(counts[0], " ", 2)[1], "all of them are")
	default:
		d.add("line ends", Likely, "mixed: "+strings.Join(counts, ", "), "a line ends with LF, or CR LF; a lone CR stays in its cell")
	}
}

func (d *Detection) quote(text []byte) {
	double, single := quotedCells(text, '"'), quotedCells(text, '\'')
	switch {
	case single > 2 && single > 4*double:
		d.Reading.Quote = "'"
		d.add("quote", Likely, "'", fmt.Sprintf("%d cells start and end with it", single))
	case double > 0:
		d.Reading.Quote = `"`
		d.add("quote", Likely, `"`, fmt.Sprintf("%d cells start and end with it", double))
	default:
		d.Reading.Quote = `"`
		d.add("quote", Ambiguous, `"`, "no cell is quoted, so that it does not matter yet")
	}
}

// quotedCells counts what looks like a cell in quotes: a quote after a delimiter or line
// start, and the next one before a delimiter or line end.
func quotedCells(text []byte, quote byte) (n int) {
	const around = ",;\t|\r\n"
	for i := 0; i < len(text) && n < 100_000; i++ {
		if text[i] != quote || i > 0 && strings.IndexByte(around, text[i-1]) < 0 {
			continue
		}
		end := bytes.IndexByte(text[i+1:], quote)
		if end < 0 {
			break
		}
		if i += end + 1; i+1 == len(text) || strings.IndexByte(around, text[i+1]) >= 0 {
			n++
		}
	}
	return n
}

var delimiterNames = map[string]string{",": "comma", ";": "semicolon", "\t": "tab", "|": "bar", " ": "space", ":": "colon", "~": "tilde", "^": "caret"}

// DelimiterName returns what a delimiter is called.
func DelimiterName(delimiter string) string {
	if name, ok := delimiterNames[delimiter]; ok {
		return name
	}
	return delimiter
}

// delimiter picks the one that divides most of the first lines into the same number of
// cells, more than one.
func (d *Detection) delimiter(s scanner, text []byte) {
	type candidate struct {
		delimiter    string
		width, lines int
		all, score   int
	}
	var best, second candidate
	for _, delimiter := range []string{",", ";", "\t", "|", ":", "~", "^", " "} {
		s.delimiter = delimiter[0]
		widths, all := map[int]int{}, 0
		for _, r := range recordsOf(s, text, 200) {
			widths[len(r.cells)]++
			all++
		}
		for width, lines := range widths {
			c := candidate{delimiter, width, lines, all, (width - 1) * lines * lines}
			if strings.Contains(":~^ ", delimiter) && (lines < all || lines < 3) {
				continue // these stand in ordinary text too
			}
			if width < 2 || c.score < best.score || c.score == best.score && c.delimiter != best.delimiter && best.score > 0 {
				if width > 1 && c.delimiter != best.delimiter && c.score > second.score {
					second = c
				}
				continue
			}
			if c.delimiter != best.delimiter {
				second = best
			}
			best = c
		}
	}
	if best.score == 0 {
		d.Reading.Delimiter = ","
		d.add("delimiter", Ambiguous, "comma", "no character divides the lines, which are taken as one column")
		return
	}
	d.Reading.Delimiter = best.delimiter
	confidence := Likely
	because := fmt.Sprintf("it divides %d of the first %d records into %d cells each", best.lines, best.all, best.width)
	if best.lines == best.all && second.score == 0 {
		confidence = Certain
		because += ", and no other character does"
	} else if second.score*10 > best.score*9 {
		confidence = Ambiguous
	}
	if second.score > 0 {
		because += fmt.Sprintf("; %s would divide %d into %d", DelimiterName(second.delimiter), second.lines, second.width)
	}
	d.add("delimiter", confidence, DelimiterName(best.delimiter), because)
}

// workbook lists the sheets and samples the one that is read.
func (d *Detection) workbook(ctx context.Context, open Opener) ([]sampled, error) {
	z, done, err := openZip(open)
	if err != nil {
		return nil, err
	}
	b := &bookParts{zip: z}
	err = b.load()
	done()
	if err != nil {
		return nil, err
	}
	names := make([]string, len(b.sheets))
	for i, s := range b.sheets {
		names[i] = s.Name
		if d.Reading.Sheet == "" && s.State != "hidden" && s.State != "veryHidden" {
			d.Reading.Sheet = s.Name
		}
	}
	confidence := Certain
	if len(names) > 1 {
		confidence = Ambiguous
	}
	d.add("sheet", confidence, d.Reading.Sheet, fmt.Sprintf("the workbook has %s: %s", plural(len(names), "sheet"), strings.Join(names, ", ")))
	w := &workbook{open: open, sheet: d.Reading.Sheet}
	var records []sampled
	enough := errors.New("enough")
	err = w.each(ctx, func(row int, cells []sheetCell) error {
		if one := (sampled{int64(row), texts(nil, cells)}); one.filled() > 0 {
			records = append(records, one)
		}
		if len(records) == sampledRecords {
			return enough
		}
		return nil
	}, func(int, int, int) {})
	if errors.Is(err, enough) {
		err = nil
	}
	return records, err
}

func plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// header finds the line with the names: the first record as wide as most, and unlike
// those below it.
func (d *Detection) header(records []sampled) {
	typical := typicalWidth(records)
	first := 0
	for first < len(records)-1 && width(records[first]) < typical && (len(records[first].cells) < typical || records[first].filled()*2 < typical) {
		first++
	}
	if d.Reading.HeaderLine != 0 {
		return
	}
	candidate := records[first]
	if candidate.line > 10_000 {
		first, candidate = 0, records[0]
	}
	below := records[first+1:]
	above := ""
	if first > 0 || candidate.line > 1 {
		above = fmt.Sprintf("; the %s above it %s fewer cells than the %d of most records", plural(int(candidate.line)-1, "line"), map[bool]string{true: "has", false: "have"}[candidate.line == 2], typical)
	}
	named, data := 0, 0
	for c, name := range candidate.cells {
		typed, filled, same := 0, 0, 0
		for _, r := range below[:min(len(below), 200)] {
			if c >= len(r.cells) || table.Trim(r.cells[c]) == "" {
				continue
			}
			filled++
			if looksTyped(r.cells[c]) {
				typed++
			}
			if r.cells[c] == name {
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
		d.Reading.HeaderLine = NoHeader
		d.add("header", Likely, "none", fmt.Sprintf("the first record looks like those below it in %s", plural(data, "column"))+above)
		if first > 0 {
			d.add("lines before", Likely, plural(first, "line"), "they have fewer cells than most records; without a header they cannot be told apart and are read as rows")
		}
	case named > 0:
		d.Reading.HeaderLine = int(candidate.line)
		d.add("header", Likely, fmt.Sprintf("line %d", candidate.line), fmt.Sprintf("its cells are texts above numbers or dates in %s", plural(named, "column"))+above)
	default:
		d.Reading.HeaderLine = int(candidate.line)
		d.add("header", Ambiguous, fmt.Sprintf("line %d", candidate.line), "its cells are texts like those below it, and none of them occurs there again"+above)
	}
}

// typicalWidth is the width that most records have; of equals the one met first.
func typicalWidth(records []sampled) (typical int) {
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
func width(r sampled) int {
	n := len(r.cells)
	for n > 1 && table.Trim(r.cells[n-1]) == "" {
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

var totalWords = []string{"total", "totals", "grand total", "sum", "summe", "gesamt", "gesamtsumme", "somme", "subtotal", "overall"}

// closing finds lines at the end that are no records: totals and notes.
func (d *Detection) closing(c content, records []sampled) {
	if d.Reading.ClosingLines != 0 || len(records) < 3 {
		return
	}
	last := records
	if len(records) >= sampledRecords || d.Format == Workbook && len(records) == sampledRecords {
		if last = d.lastRecords(c); last == nil {
			return
		}
	}
	typical := typicalWidth(records)
	lines, notes, totals := 0, 0, 0
	var what []string
	for i := len(last) - 1; i >= max(1, len(last)-20); i-- {
		first := ""
		for _, cell := range last[i].cells {
			if first = table.Level(cell); first != "" {
				break
			}
		}
		isTotal := slices.Contains(totalWords, strings.TrimRight(first, ": "))
		isNote := typical >= 3 && width(last[i]) == 1 && last[i].filled() == 1
		if !isTotal && !isNote {
			break
		}
		if isTotal {
			totals++
		} else {
			notes++
		}
		lines++
		what = append(what, fmt.Sprintf("%q", clip(strings.Join(last[i].cells, " "))))
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
	d.add("closing lines", Likely, strings.Join(kinds, " and "), "set aside, since they are no records: "+strings.Join(what[:min(len(what), 3)], ", "))
}

// lastRecords reads the end of a long file; nil where that would mean to read all of it.
func (d *Detection) lastRecords(c content) []sampled {
	if d.Format != Delimited || !c.seeks || strings.HasPrefix(d.Reading.Encoding, "utf-16") {
		return nil
	}
	at, size, done, err := randomAccess(c.open)
	if err != nil {
		return nil
	}
	defer done()
	tail := make([]byte, min(size, sniffLength))
	if n, err := at.ReadAt(tail, size-int64(len(tail))); err != nil && !errors.Is(err, io.EOF) || n < len(tail) {
		return nil
	}
	start := bytes.IndexByte(tail, '\n') + 1
	if start == 0 {
		return nil
	}
	s := scanner{delimiter: d.Reading.Delimiter[0], lineEnd: '\n'}
	if s.quoting = d.Reading.Quote != "none"; s.quoting {
		s.quote = d.Reading.Quote[0]
	}
	return recordsOf(s, tail[start:], sniffLength)
}

// Sample returns the first rows of a file as one batch; nil where it has none.
func Sample(ctx context.Context, open Opener, r Reading) (*table.Batch, error) {
	f, err := Open(open, r)
	if err != nil {
		return nil, err
	}
	p, err := f.Open(ctx)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	for {
		part, err := p.Next()
		if errors.Is(err, io.EOF) {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		if _, rows := part.Span(); rows > 0 {
			return part.Batch(nil)
		}
	}
}
