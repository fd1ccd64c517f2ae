// Package delimited reads delimited text: records end at LF, CR LF or (in text without any
// LF) CR; cells are parted by a one-byte delimiter; a cell that starts with the quote
// character runs to the next single quote, a doubled quote standing for one, and may hold
// delimiters and line ends.
//
// No record is dropped for being broken. A cell whose quoting is broken keeps its raw text, a
// short record is filled up with missing cells, the cells too many of a long one stay with the
// row, and each such thing is a table.Defect with its line. Blank lines are set aside, and
// counted.
//
// A Text hands its bytes out in parts of whole records (parts.go), which are found by a
// scanner (scanner.go); a part is taken apart into columns by any worker (taking.go), with the
// delimiters of 64 bytes at once where the processor can (delimiters.go). What a format that is read by columns hands out has its
// cells already (blocks.go).
package delimited

import (
	"context"
	"io"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"

	"proudsieve/core/table"
)

const (
	partSize     = 64 << 10  // bytes of a part of a table that is not wide; parts depend on the bytes alone, never on the workers
	quotedLimit  = 256 << 10 // a quote not closed within so many bytes is taken as never closed
	cellLimit    = 1 << 20
	detailLength = 200 // bytes of a defect's detail

	// RecordLimit is how many bytes a record may have.
	RecordLimit = 64 << 20
)

// Layout says which bytes divide a text.
type Layout struct {
	Delimiter byte
	Quote     byte // 0 for none
	LineEnd   byte // LF or CR
}

// Standard is the layout of the text that other formats are turned into.
var Standard = Layout{Delimiter: ',', Quote: '"', LineEnd: '\n'}

// Checkpoint is a place where a part of the file starts, from which reading can resume.
type Checkpoint struct {
	Offset int64  `json:"offset"` // in bytes; -1 where the encoding does not allow resuming
	Row    uint32 `json:"row"`    // the number of the first row there
	Line   int64  `json:"line"`
}

// Text is a table in delimited text; it is a table.Source.
type Text struct {
	Layout
	// Names are those of the columns.
	Names []string
	// Bytes opens the text from an offset on.
	Bytes func(ctx context.Context, offset int64) (io.ReadCloser, error)
	// Seeks says that an offset is cheap, and means the same in every reading.
	Seeks bool
	// Characters is the encoding where it is one of single bytes; nil for UTF-8.
	Characters *charmap.Charmap
	// Body is where the data starts; Skipped lines and Defects stand before it.
	Body    Checkpoint
	Skipped int64
	Defects []table.Defect
	// Closing are texts with which records at the end begin that are no rows, as totals and notes; ClosingRecords is
	// how many there are, where that is declared by their number.
	Closing        []string
	ClosingRecords int
	// Converted says that each record stands for one line of another format: whatever line ends
	// are within, it counts as one; where it is short, its last cells are missing; and what is
	// wrong with it is told by Beside, from the body on.
	Converted bool
	Beside    func() Noted
	// Blocks opens the rows of a format that is read by columns; nil of others. Reading from the start goes by them, and everything
	// else by Bytes.
	Blocks func(ctx context.Context) (Blocks, error)
	// OnProgress, if set, is told the bytes handed out so far and the rows in them. Of text that
	// does not seek, the bytes are only told when all are read.
	OnProgress func(bytes, rows int64)
}

// Noted hands out what is wrong with the lines of another format, in their order.
type Noted interface {
	// UpTo returns the defects of lines up to one, and forgets them. Their rows are not known.
	UpTo(line int64) ([]table.Defect, error)
	Close() error
}

// Columns implements table.Source.
func (t *Text) Columns() []string { return t.Names }

// Open implements table.Source.
func (t *Text) Open(ctx context.Context) (table.Parts, error) {
	if t.Blocks != nil && t.ClosingRecords == 0 && len(t.Closing) == 0 {
		return t.openBlocks(ctx)
	}
	return t.OpenAt(ctx, t.Body)
}

// OpenAt starts reading at a checkpoint taken from an earlier reading of the same bytes.
func (t *Text) OpenAt(ctx context.Context, from Checkpoint) (table.Parts, error) {
	if !t.Seeks {
		from = t.Body
	}
	p := &parts{ctx: ctx, text: t, at: from, scan: t.scanner()}
	if from == t.Body {
		p.header, p.setAside = t.Defects, t.Skipped
		if t.Beside != nil {
			p.beside = t.Beside()
		}
	}
	var err error
	if t.Seeks || from.Offset == 0 {
		p.in, err = t.Bytes(ctx, from.Offset)
	} else if p.in, err = t.Bytes(ctx, 0); err == nil {
		_, err = io.CopyN(io.Discard, p.in, from.Offset)
	}
	return p, err
}

func (t *Text) scanner() scanner { return scanner{t.Layout, t.Converted} }

// encode turns the raw bytes of a cell into its text, and says what is wrong with them.
func (t *Text) encode(raw string) (text string, kind table.DefectKind) {
	if t.Characters == nil && utf8.ValidString(raw) && strings.IndexByte(raw, 0) < 0 {
		return raw, ""
	}
	text, clean := Decode(nil, raw)
	switch {
	case !clean || t.Characters != nil && strings.ContainsRune(text, '\uFFFD'):
		return text, table.BadBytes
	case strings.IndexByte(raw, 0) >= 0:
		return text, table.NulByte
	}
	return text, ""
}
