// Package workbook reads spreadsheets (ISO/IEC 29500, "xlsx"), one sheet of each. Dates are
// written as ISO 8601 has them, booleans as true and false, numbers as they are stored. A
// number that is stored as text stays what it is and is noted.
package workbook

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"proudsieve/core/intake/content"
	"proudsieve/core/intake/delimited"
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
	// inOne says that the sheet has to be read in one piece.
	inOne     bool
	pieceSize int
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
			return &reader{open: c.Places, sheet: part, merged: map[int][][2]int{}, pieceSize: pieceSize}
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
	return w.pieces(ctx, in, to)
}

// rows writes rows as records, from the one after row first on.
type rows struct {
	to    *content.Records
	first int
	cells []string
	width int
}

// write writes a row, and the lines of those that the sheet leaves out before it.
func (r *rows) write(row int, found []sheetCell) error {
	for int64(row) > int64(r.first)+r.to.Line()+1 {
		if err := r.to.Blank(); err != nil {
			return err
		}
	}
	cells := texts(r.cells[:0], found)
	r.cells = cells
	for len(cells) > 0 && cells[len(cells)-1] == "" && !found[len(found)-1].unvalued {
		cells = cells[:len(cells)-1]
	}
	if len(cells) == 0 {
		return r.to.Blank()
	}
	if r.width = max(r.width, len(cells)); r.width > content.ColumnLimit {
		return delimited.ErrTooMany
	}
	var flaws []content.Flaw
	for _, c := range found {
		if c.unvalued {
			flaws = append(flaws, content.Flaw{Kind: table.FormulaUnvalued, Column: c.column,
				Detail: "open the workbook in a spreadsheet program and save it again, so that its values are stored"})
		}
		if c.numberAsText {
			flaws = append(flaws, content.Flaw{Kind: table.NumberAsText, Column: c.column, Detail: c.text})
		}
	}
	return r.to.Write(cells, flaws...)
}

// merge notes cells that are merged in a row.
func (w *reader) merge(first, last, row int) {
	if row <= mergedRows && last > first {
		w.merged[row] = append(w.merged[row], [2]int{first, last})
	}
}
