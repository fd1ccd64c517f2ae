package export

import (
	"errors"
	"io"
	"strings"
	"time"
	"unicode/utf16"

	"github.com/xuri/excelize/v2"

	"proudsieve/core/document"
	"proudsieve/core/table"
)

// workbook is an Office Open XML workbook (ISO/IEC 29500): the rows, and a sheet that says what each column is. A number of more than
// 15 digits, which its cells cannot hold, and a day before March 1900, which it counts wrongly, become text.
var workbook = Format{Name: "xlsx", Says: "a workbook", MediaType: "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", Typed: true, Packs: true,
	MostRows: excelize.TotalRows - 1, Unheld: unheld, begin: beginWorkbook}

const (
	rowsSheet, columnsSheet = "rows", "columns"
	// numberDigits is how many digits a number of a workbook keeps.
	numberDigits = 15
	// dayNumbers is the number of 1970-01-01, and firstDay that of 1900-03-01, from which days are counted rightly.
	dayNumbers, firstDay = 25569, 61
	microsOfDay          = 86_400_000_000
)

type bookWriter struct {
	out       io.Writer
	file      *excelize.File
	sheet     *excelize.StreamWriter
	columns   []Column
	day, time int // styles
	next      int // row
	line      []any
}

func beginWorkbook(out io.Writer, f *File) (writer, error) {
	for i := range f.Columns {
		if i >= excelize.MaxColumns {
			return nil, ErrUnheld
		}
	}
	w := &bookWriter{out: out, file: excelize.NewFile(), columns: f.Columns, next: 1, line: make([]any, len(f.Columns))}
	if err := w.begin(f); err != nil {
		return nil, errors.Join(err, w.file.Close())
	}
	return w, nil
}

func (w *bookWriter) begin(f *File) (err error) {
	// The same table gives the same bytes.
	when := time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC).Format(time.RFC3339)
	if err := w.file.SetDocProps(&excelize.DocProperties{Created: when, Modified: when, Creator: "Proud Sieve", Title: f.asked.Title}); err != nil {
		return err
	}
	if err := w.file.SetSheetName("Sheet1", rowsSheet); err != nil {
		return err
	}
	bold, err := w.file.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	if err != nil {
		return err
	}
	iso, isoTime := "yyyy-mm-dd", "yyyy-mm-dd hh:mm:ss"
	if w.day, err = w.file.NewStyle(&excelize.Style{CustomNumFmt: &iso}); err != nil {
		return err
	}
	if w.time, err = w.file.NewStyle(&excelize.Style{CustomNumFmt: &isoTime}); err != nil {
		return err
	}
	if err := w.describe(bold); err != nil {
		return err
	}
	if w.sheet, err = w.file.NewStreamWriter(rowsSheet); err != nil {
		return err
	}
	if err := w.sheet.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}); err != nil {
		return err
	}
	for i, c := range w.columns {
		if err := w.sheet.SetColWidth(i+1, i+1, float64(min(max(len(c.Name)+2, 12), 40))); err != nil {
			return err
		}
	}
	for i, c := range w.columns {
		w.line[i] = excelize.Cell{StyleID: bold, Value: c.Name}
	}
	return w.put()
}

// describe writes the sheet that says what each column is.
func (w *bookWriter) describe(bold int) error {
	if _, err := w.file.NewSheet(columnsSheet); err != nil {
		return err
	}
	// Not as a stream: the package writes streams in no order, and the same table gives the same bytes.
	if err := w.file.SetColWidth(columnsSheet, "A", "B", 28); err != nil {
		return err
	}
	if err := w.file.SetSheetRow(columnsSheet, "A1", &[]any{"column", "title", "type", "unit", "remark"}); err != nil {
		return err
	}
	if err := w.file.SetRowStyle(columnsSheet, 1, 1, bold); err != nil {
		return err
	}
	for i, c := range w.columns {
		cell, err := excelize.CoordinatesToCellName(1, i+2)
		if err != nil {
			return err
		}
		if err := w.file.SetSheetRow(columnsSheet, cell, &[]any{c.Name, c.Title, string(c.Type), c.Unit, c.remark()}); err != nil {
			return err
		}
	}
	return nil
}

// remark says what a workbook cannot hold of a column.
func (c *Column) remark() string {
	switch {
	case c.Mixed > 0:
		return "As text: some of its cells are no values of its type."
	case c.Type.IsNumber() && c.digits() > numberDigits:
		return "Numbers of more than 15 digits are texts here, so that no digit is lost."
	}
	return ""
}

func (w *bookWriter) put() error {
	cell, err := excelize.CoordinatesToCellName(1, w.next)
	if err != nil {
		return err
	}
	w.next++
	return w.sheet.SetRow(cell, w.line)
}

func (w *bookWriter) write(lines Lines) error {
	for _, line := range lines {
		for i, v := range line {
			w.line[i] = w.cell(v)
		}
		if err := w.put(); err != nil {
			return err
		}
	}
	return nil
}

func (w *bookWriter) cell(v table.Value) any {
	switch v.Kind {
	case table.Missing:
		return nil
	case table.Boolean:
		return v.True
	case table.Number:
		text := v.Number.String()
		if len(strings.Trim(strings.NewReplacer(".", "", "-", "").Replace(text), "0")) > numberDigits {
			return text
		}
		return v.Number.Float()
	case table.Date:
		if day := v.When + dayNumbers; day >= firstDay {
			return excelize.Cell{StyleID: w.day, Value: day}
		}
	case table.Instant:
		if at := float64(v.When)/microsOfDay + dayNumbers; at >= firstDay {
			return excelize.Cell{StyleID: w.time, Value: at}
		}
	}
	return v.Standard()
}

// unheld says why a cell of a workbook cannot have a text.
func unheld(text string) string {
	if len(text) > excelize.TotalCellChars && len(utf16.Encode([]rune(text))) > excelize.TotalCellChars {
		return "has more than " + document.Grouped(excelize.TotalCellChars) + " characters, which is the most that a cell of a workbook takes"
	}
	if strings.ContainsFunc(text, func(r rune) bool { return r < ' ' && r != '\t' && r != '\n' && r != '\r' || r == 0xfffe || r == 0xffff }) {
		return "has a control character, which a workbook has no place for"
	}
	return ""
}

func (w *bookWriter) end(whole bool) error {
	if !whole {
		return w.file.Close()
	}
	err := w.sheet.Flush()
	if err == nil {
		_, err = w.file.WriteTo(w.out)
	}
	return errors.Join(err, w.file.Close())
}
