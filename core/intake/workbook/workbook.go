// Package workbook reads spreadsheets (ISO/IEC 29500, "xlsx"), one sheet of each. Dates are
// written as ISO 8601 has them, booleans as true and false, numbers as they are stored. A
// number that is stored as text stays what it is and is noted.
package workbook

import (
	"proudsieve/core/intake/content"
	"proudsieve/core/intake/delimited"

	"archive/zip"
	"bufio"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"proudsieve/core/table"
)

const (
	sheetRows     = 1 << 20 // of a worksheet (ISO/IEC 29500)
	sheetColumns  = 1 << 14
	sharedLimit   = 256 << 20 // bytes of the texts that cells share, with what each costs beside its text
	sharedCost    = 40        // bytes of one of them beside its text, while the list of them grows
	xmlEntryLimit = 16 << 30
)

// reader reads one sheet. All of its rows are records, those above the header line too.
type reader struct {
	open  content.Opening
	sheet string // its name; empty for the first one that is not hidden
	parts *bookParts
	done  func()
	width int
	// merged has, of the first rows, the cells whose text stands in an earlier column.
	merged map[int][][2]int
}

// mergedRows is of how many rows merged cells are kept: a header stands among them.
const mergedRows = 10_000

func init() {
	content.Register(content.Format{
		Name: "xlsx", Title: "a workbook (xlsx)", Because: "it is an archive with a workbook in it", Place: 30,
		Sure: true,
		InArchive: func(z *zip.Reader) bool {
			return slices.ContainsFunc(z.File, func(f *zip.File) bool { return f.Name == "xl/workbook.xml" })
		},
		Converter: func(c *content.Content, part string) content.Converter {
			return &reader{open: c.Places, sheet: part, merged: map[int][][2]int{}}
		},
	})
}

// SheetError says which sheets a workbook has.
type SheetError struct {
	Wanted string
	Sheets []string
}

// Error implements error.
func (e *SheetError) Error() string {
	return fmt.Sprintf("the workbook has no sheet %q; it has %s", e.Wanted, strings.Join(e.Sheets, ", "))
}

// ErrWorkbook says that a workbook is damaged.
var ErrWorkbook = errors.New(
	"the workbook is damaged or not as its format says; open it in a spreadsheet program and save it again")

// load opens the workbook, unless it is open.
func (w *reader) load(ctx context.Context) error {
	if w.parts != nil {
		w.parts.ctx = ctx
		return nil
	}
	z, done, err := content.OpenZip(ctx, w.open)
	if err != nil {
		return err
	}
	b := &bookParts{zip: z, ctx: ctx}
	if err := b.load(); err != nil {
		done()
		return err
	}
	w.parts, w.done = b, done
	return nil
}

// Parts implements content.Parted: the sheets.
func (w *reader) Parts(ctx context.Context) (names []string, first string, err error) {
	if err := w.load(ctx); err != nil {
		return nil, "", err
	}
	for _, s := range w.parts.sheets {
		names = append(names, s.Name)
		if first == "" && !s.hidden() {
			first = s.Name
		}
	}
	return names, first, nil
}

// Named implements content.Named: as many as the widest row has. A cell that is merged over
// several names all of them.
func (w *reader) Named(line int, names []string) []string {
	out := make([]string, w.width)
	copy(out, names)
	for _, m := range w.merged[line] {
		for c := m[0] + 1; c <= m[1] && c < len(out); c++ {
			out[c] = out[m[0]]
		}
	}
	return out
}

// Convert implements content.Converter.
func (w *reader) Convert(ctx context.Context, to *content.Records) error {
	if err := w.load(ctx); err != nil {
		return err
	}
	defer func() {
		w.done()
		w.parts = nil
	}()
	file, err := w.parts.sheetFile(w.sheet)
	if err != nil {
		return err
	}
	in, err := w.parts.part(file)
	if err != nil {
		return err
	}
	defer in.Close()
	last := 0
	var cells []string
	return w.parts.rows(in, func(row int, found []sheetCell) error {
		for last++; last < row; last++ { // rows that the sheet leaves out
			if err := to.Blank(); err != nil {
				return err
			}
		}
		cells = texts(cells[:0], found)
		for len(cells) > 0 && cells[len(cells)-1] == "" {
			cells = cells[:len(cells)-1]
		}
		if len(cells) == 0 {
			return to.Blank()
		}
		if w.width = max(w.width, len(cells)); w.width > content.ColumnLimit {
			return delimited.ErrTooMany
		}
		var flaws []content.Flaw
		for _, c := range found {
			if c.numberAsText {
				flaws = append(flaws, content.Flaw{Kind: table.NumberAsText, Column: c.column, Detail: c.text})
			}
		}
		return to.Write(cells, flaws...)
	}, func(first, last, row int) {
		if row <= mergedRows && last > first {
			w.merged[row] = append(w.merged[row], [2]int{first, last})
		}
	})
}

type sheetCell struct {
	column       int // from 0
	text         string
	numberAsText bool
}

func texts(to []string, cells []sheetCell) []string {
	for _, c := range cells {
		for len(to) <= c.column {
			to = append(to, "")
		}
		to[c.column] = c.text
	}
	return to
}

// bookParts is what cells refer to.
type bookParts struct {
	ctx    context.Context // of the reading
	zip    *zip.Reader
	shared []string
	dates  []bool // per cell style: whether its numbers are dates
	from   time.Time
	sheets []bookSheet
	files  map[string]string // relation to file
}

type bookSheet struct {
	Name     string `xml:"name,attr"`
	State    string `xml:"state,attr"`
	Relation string `xml:"http://schemas.openxmlformats.org/officeDocument/2006/relationships id,attr"`
}

func (s bookSheet) hidden() bool { return s.State == "hidden" || s.State == "veryHidden" }

// part opens a file of the archive, which may not unpack to more than it should.
func (b *bookParts) part(name string) (io.ReadCloser, error) {
	for _, f := range b.zip.File {
		if strings.TrimPrefix(f.Name, "/") != name {
			continue
		}
		in, err := f.Open()
		if err != nil {
			return nil, fmt.Errorf("%w (%s: %w)", ErrWorkbook, name, err)
		}
		packed := int64(f.CompressedSize64)
		return content.Ending(b.ctx, content.Bounded(io.LimitReader(in, xmlEntryLimit), packed,
			func() { _ = in.Close() })), nil
	}
	return nil, fmt.Errorf("%w (it has no %s)", ErrWorkbook, name)
}

func (b *bookParts) decode(name string, into any) error {
	in, err := b.part(name)
	if err != nil {
		return err
	}
	defer in.Close()
	if err := xml.NewDecoder(bufio.NewReader(io.LimitReader(in, 64<<20))).Decode(into); err != nil {
		return fmt.Errorf("%w (%s: %w)", ErrWorkbook, name, err)
	}
	return nil
}

func (b *bookParts) load() error {
	var book struct {
		Properties struct {
			Date1904 string `xml:"date1904,attr"`
		} `xml:"workbookPr"`
		Sheets []bookSheet `xml:"sheets>sheet"`
	}
	if err := b.decode("xl/workbook.xml", &book); err != nil {
		return err
	}
	b.sheets = book.Sheets
	b.from = time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
	if book.Properties.Date1904 == "1" || book.Properties.Date1904 == "true" {
		b.from = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	var relations struct {
		All []struct {
			ID     string `xml:"Id,attr"`
			Target string `xml:"Target,attr"`
		} `xml:"Relationship"`
	}
	if err := b.decode("xl/_rels/workbook.xml.rels", &relations); err != nil {
		return err
	}
	b.files = map[string]string{}
	for _, r := range relations.All {
		target := r.Target
		if !strings.HasPrefix(target, "/") {
			target = path.Join("xl", target)
		}
		b.files[r.ID] = strings.TrimPrefix(target, "/")
	}
	for _, f := range b.zip.File {
		var err error
		switch strings.TrimPrefix(f.Name, "/") {
		case "xl/sharedStrings.xml":
			err = b.loadShared()
		case "xl/styles.xml":
			err = b.loadStyles()
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (b *bookParts) sheetFile(wanted string) (string, error) {
	var names []string
	for _, s := range b.sheets {
		if s.Name == wanted || wanted == "" && !s.hidden() {
			if file, ok := b.files[s.Relation]; ok {
				return file, nil
			}
			return "", fmt.Errorf("%w (the sheet %q is not in it)", ErrWorkbook, s.Name)
		}
		names = append(names, s.Name)
	}
	return "", &SheetError{wanted, names}
}

func (b *bookParts) loadShared() error {
	in, err := b.part("xl/sharedStrings.xml")
	if err != nil {
		return err
	}
	defer in.Close()
	d := xml.NewDecoder(bufio.NewReaderSize(in, 256<<10))
	held := 0
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("%w (its texts: %w)", ErrWorkbook, err)
		}
		if start, ok := token.(xml.StartElement); ok && start.Name.Local == "si" {
			text, err := richText(d, "si")
			if err != nil {
				return fmt.Errorf("%w (its texts: %w)", ErrWorkbook, err)
			}
			if held += len(text) + sharedCost; held > sharedLimit {
				return fmt.Errorf("%w: the texts that its cells share take more than %d MiB; save it as CSV",
					content.ErrTooLarge, sharedLimit>>20)
			}
			b.shared = append(b.shared, text)
		}
	}
}

// richText joins the runs of a text up to the end of an element; how it is read aloud is left out.
func richText(d *xml.Decoder, end string) (string, error) {
	var b strings.Builder
	inText, aloud := false, 0
	for {
		token, err := d.Token()
		if err != nil {
			return "", err
		}
		switch t := token.(type) {
		case xml.StartElement:
			inText = t.Name.Local == "t"
			if t.Name.Local == "rPh" {
				aloud++
			}
		case xml.CharData:
			if inText && aloud == 0 {
				b.Write(t)
			}
			if b.Len() > delimited.RecordLimit {
				return "", delimited.ErrTooLong
			}
		case xml.EndElement:
			inText = false
			if t.Name.Local == "rPh" {
				aloud--
			}
			if t.Name.Local == end {
				return b.String(), nil
			}
		}
	}
}

func (b *bookParts) loadStyles() error {
	var styles struct {
		Formats []struct {
			ID   int    `xml:"numFmtId,attr"`
			Code string `xml:"formatCode,attr"`
		} `xml:"numFmts>numFmt"`
		Cells []struct {
			Format int `xml:"numFmtId,attr"`
		} `xml:"cellXfs>xf"`
	}
	if err := b.decode("xl/styles.xml", &styles); err != nil {
		return err
	}
	dates := map[int]bool{}
	for _, builtIn := range [][2]int{{14, 22}, {27, 36}, {45, 47}, {50, 58}} {
		for id := builtIn[0]; id <= builtIn[1]; id++ {
			dates[id] = true
		}
	}
	for _, f := range styles.Formats {
		dates[f.ID] = isDateFormat(f.Code)
	}
	for _, c := range styles.Cells {
		b.dates = append(b.dates, dates[c.Format])
	}
	return nil
}

// isDateFormat reports whether a number format shows days, months, years or times.
func isDateFormat(code string) bool {
	quoted, bracket := false, false
	for i := 0; i < len(code); i++ {
		switch c := code[i]; {
		case c == '\\' && !quoted:
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '[':
			bracket = true
		case c == ']':
			bracket = false
		case bracket:
			if strings.IndexByte("hms", c|0x20) >= 0 && (code[i-1] == '[' || code[i-1]|0x20 == c|0x20) &&
				strings.IndexByte("]hHmMsS", code[min(i+1, len(code)-1)]) >= 0 {
				return true // a duration
			}
		case c == ';':
			return false // only the first section counts
		case strings.IndexByte("dmyhs", c|0x20) >= 0:
			return true
		}
	}
	return false
}

// rows walks the rows of a sheet.
func (b *bookParts) rows(in io.Reader, f func(row int, cells []sheetCell) error,
	merged func(first, last, row int)) error {
	d := xml.NewDecoder(bufio.NewReaderSize(in, 256<<10))
	row, column := 0, 0
	var cells []sheetCell
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("row %d: %w (%w)", row+1, ErrWorkbook, err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			switch t.Name.Local {
			case "row":
				next := row + 1
				if r := attribute(t, "r"); r != "" {
					if next, err = strconv.Atoi(r); err != nil || next <= row || next > sheetRows {
						return fmt.Errorf("%w (row %q follows row %d)", ErrWorkbook, r, row)
					}
				}
				row, column, cells = next, 0, cells[:0]
			case "c":
				cell, err := b.cell(d, t, column)
				if err != nil {
					return fmt.Errorf("row %d: %w", row, err)
				}
				column = cell.column + 1
				cells = append(cells, cell)
			case "mergeCell":
				first, last, top := mergedColumns(attribute(t, "ref"))
				merged(first, last, top)
			}
		case xml.EndElement:
			if t.Name.Local == "row" {
				if err := f(row, cells); err != nil {
					return err
				}
			}
		}
	}
}

func attribute(e xml.StartElement, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name && a.Name.Space == "" {
			return a.Value
		}
	}
	return ""
}

// cell reads one cell, whose start was read.
func (b *bookParts) cell(d *xml.Decoder, start xml.StartElement, column int) (sheetCell, error) {
	if ref := attribute(start, "r"); ref != "" {
		at, _, ok := cellPlace(ref)
		if !ok || at < column || at >= sheetColumns {
			return sheetCell{}, fmt.Errorf("%w (a cell %q)", ErrWorkbook, ref)
		}
		column = at
	}
	out := sheetCell{column: column}
	kind, raw := attribute(start, "t"), ""
	for {
		token, err := d.Token()
		if err != nil {
			return out, fmt.Errorf("%w (%w)", ErrWorkbook, err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			switch t.Name.Local {
			case "v":
				var text struct {
					Text string `xml:",chardata"`
				}
				if err := d.DecodeElement(&text, &t); err != nil {
					return out, fmt.Errorf("%w (%w)", ErrWorkbook, err)
				}
				raw = text.Text
			case "is":
				if raw, err = richText(d, "is"); err != nil {
					return out, fmt.Errorf("%w (%w)", ErrWorkbook, err)
				}
			case "f":
				if err := d.Skip(); err != nil {
					return out, fmt.Errorf("%w (%w)", ErrWorkbook, err)
				}
			}
		case xml.EndElement:
			if t.Name.Local == "c" {
				return b.value(out, kind, raw, attribute(start, "s"))
			}
		}
	}
}

func (b *bookParts) value(out sheetCell, kind, raw, style string) (sheetCell, error) {
	switch kind {
	case "s":
		at, err := strconv.Atoi(raw)
		if err != nil || at < 0 || at >= len(b.shared) {
			return out, fmt.Errorf("%w (it has no shared text %q)", ErrWorkbook, raw)
		}
		out.text = b.shared[at]
	case "b":
		out.text = map[string]string{"1": "true", "0": "false"}[raw]
		return out, nil
	case "str", "inlineStr":
		out.text = raw
	case "e":
		out.text = raw
		return out, nil
	case "d":
		out.text = strings.TrimSuffix(raw, "T00:00:00")
		return out, nil
	default:
		if at, err := strconv.Atoi(style); err == nil && at >= 0 && at < len(b.dates) && b.dates[at] && raw != "" {
			out.text = b.date(raw)
			return out, nil
		}
		out.text = plainNumber(raw)
		return out, nil
	}
	_, out.numberAsText = table.ParseDecimal(strings.TrimSpace(out.text))
	return out, nil
}

// date writes days since the start of the book's calendar; a number that is no date stays as it is.
func (b *bookParts) date(raw string) string {
	days, err := strconv.ParseFloat(raw, 64)
	if err != nil || days < 0 || days > 2958466 { // 9999-12-31
		return raw
	}
	seconds := math.Round(days * 86400)
	when := b.from.Add(time.Duration(seconds) * time.Second)
	if days < 1 && b.from.Year() == 1899 {
		return when.Format("15:04:05")
	}
	if b.from.Year() == 1899 && days < 60 {
		when = when.AddDate(0, 0, 1) // the calendar has a 29 February 1900, which was none
	}
	if when.Hour() == 0 && when.Minute() == 0 && when.Second() == 0 {
		return when.Format("2006-01-02")
	}
	return when.Format("2006-01-02 15:04:05")
}

// plainNumber writes a stored number without an exponent and without the noise of binary
// fractions: 0.1+0.2 is stored as 0.30000000000000004 and was never meant as that.
func plainNumber(raw string) string {
	if len(raw) < 16 && !strings.ContainsAny(raw, "eE") {
		return raw
	}
	x, err := strconv.ParseFloat(raw, 64)
	if err != nil {
		return raw
	}
	short, err := strconv.ParseFloat(strconv.FormatFloat(x, 'g', 15, 64), 64)
	if err != nil {
		return raw
	}
	return strconv.FormatFloat(short, 'f', -1, 64)
}

// cellPlace reads a cell's name, as "AB12": its column from 0 and its row from 1.
func cellPlace(ref string) (column, row int, ok bool) {
	i := 0
	for ; i < len(ref) && ref[i] >= 'A' && ref[i] <= 'Z' && i < 4; i++ {
		column = column*26 + int(ref[i]-'A') + 1
	}
	row, err := strconv.Atoi(ref[i:])
	return column - 1, row, i > 0 && err == nil
}

func mergedColumns(ref string) (first, last, row int) {
	from, to, _ := strings.Cut(ref, ":")
	first, row, ok := cellPlace(from)
	last, _, also := cellPlace(to)
	if !ok || !also || last-first > sheetColumns {
		return 0, 0, 0
	}
	return first, last, row
}
