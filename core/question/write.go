package question

import (
	"encoding/csv"
	"io"

	"github.com/xuri/excelize/v2"

	"proudsieve/core/table"
)

// The columns of a sheet as a file. Answers are read back from the first and the last four of them.
const (
	codeColumn   = "code"
	answerColumn = "answer"
	columnColumn = "column"
	rightColumn  = "right value"
	remarkColumn = "remark"
)

var header = []string{codeColumn, "dataset", "what was found", "about", "we suppose", answerColumn, columnColumn, rightColumn, remarkColumn}

// howTo tells whoever answers in a file how that is done.
var howTo = [][]string{
	{"answer", "what it means"},
	{string(Wrong), "it is wrong; write what is right into the column “right value”, and which column is meant where there are several"},
	{string(MeantSo), "it is as it should be; it is accepted, and not asked again"},
	{string(Unknown), "you cannot tell; we decide, and say so"},
	{string(ComesAgain), "you will deliver it again; we wait for that"},
	{"", ""},
	{"code", "leave it as it is: by it the answer is known. A line may be left out, or repeated where several columns of one row are wrong."},
}

// line is a question as a line of a file.
func (q *Question) line() []string {
	shown := q.Item.Shown()
	column := ""
	if can := q.Item.Correctable(); len(can) == 1 {
		column = can[0]
	}
	out := []string{q.Code, q.Dataset, q.Found, shown.Says(), q.Supposes, "", column, "", ""}
	for i := range out {
		out[i] = table.Harmless(out[i])
	}
	return out
}

// WriteCSV writes questions as CSV, a line each, with room for the answers. A text that a spreadsheet would run as a formula
// gets an apostrophe before it.
func WriteCSV(out io.Writer, questions []Question) error {
	w := csv.NewWriter(out)
	if err := w.Write(header); err != nil {
		return err
	}
	for i := range questions {
		if err := w.Write(questions[i].line()); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

// Widths of the columns in a workbook, in characters.
var widths = []float64{12, 18, 44, 50, 30, 14, 18, 22, 36}

// WriteWorkbook writes questions as an XLSX workbook: a sheet of lines with room for the answers, which offers those that
// there are, and a sheet that tells how to answer. All cells are texts.
func WriteWorkbook(out io.Writer, questions []Question) error {
	f := excelize.NewFile()
	defer f.Close()
	const sheet = "questions"
	if err := f.SetSheetName("Sheet1", sheet); err != nil {
		return err
	}
	styles, err := newStyles(f)
	if err != nil {
		return err
	}
	if err := writeLine(f, sheet, 1, header, styles.head, styles.head); err != nil {
		return err
	}
	for i := range questions {
		if err := writeLine(f, sheet, i+2, questions[i].line(), styles.said, styles.open); err != nil {
			return err
		}
	}
	for i, width := range widths {
		name, err := excelize.ColumnNumberToName(i + 1)
		if err != nil {
			return err
		}
		if err := f.SetColWidth(sheet, name, name, width); err != nil {
			return err
		}
	}
	offer := excelize.NewDataValidation(true)
	if offer.Sqref, err = excelize.CoordinatesToCellName(answerAt, 2); err != nil {
		return err
	}
	last, err := excelize.CoordinatesToCellName(answerAt, max(len(questions)+1, 2))
	if err != nil {
		return err
	}
	offer.Sqref += ":" + last
	words := make([]string, len(Answers))
	for i, a := range Answers {
		words[i] = string(a)
	}
	if err := offer.SetDropList(words); err != nil {
		return err
	}
	if err := f.AddDataValidation(sheet, offer); err != nil {
		return err
	}
	if err := f.SetPanes(sheet, &excelize.Panes{Freeze: true, YSplit: 1, XSplit: 1, TopLeftCell: "B2", ActivePane: "bottomRight"}); err != nil {
		return err
	}
	if _, err := f.NewSheet("how to answer"); err != nil {
		return err
	}
	for i, line := range howTo {
		if err := writeLine(f, "how to answer", i+1, line, styles.said, styles.said); err != nil {
			return err
		}
	}
	if err := f.SetColWidth("how to answer", "B", "B", 110); err != nil {
		return err
	}
	return f.Write(out)
}

// answerAt is the place of the column for answers, from 1.
const answerAt = 6

type sheetStyles struct{ head, said, open int }

func newStyles(f *excelize.File) (s sheetStyles, err error) {
	line := []excelize.Border{{Type: "bottom", Color: "D8D0C0", Style: 1}}
	wrapped := &excelize.Alignment{WrapText: true, Vertical: "top"}
	if s.head, err = f.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}, Border: line, Alignment: wrapped}); err != nil {
		return s, err
	}
	if s.said, err = f.NewStyle(&excelize.Style{Border: line, Alignment: wrapped, NumFmt: 49}); err != nil {
		return s, err
	}
	s.open, err = f.NewStyle(&excelize.Style{Border: line, Alignment: wrapped, NumFmt: 49,
		Fill: excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"FCFAF5"}}})
	return s, err
}

// writeLine writes a line of texts; those from the column for answers on are styled as open.
func writeLine(f *excelize.File, sheet string, row int, texts []string, said, open int) error {
	for i, text := range texts {
		cell, err := excelize.CoordinatesToCellName(i+1, row)
		if err != nil {
			return err
		}
		if err := f.SetCellStr(sheet, cell, text); err != nil {
			return err
		}
		style := said
		if i+1 >= answerAt {
			style = open
		}
		if err := f.SetCellStyle(sheet, cell, cell, style); err != nil {
			return err
		}
	}
	return nil
}
