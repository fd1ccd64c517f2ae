package workbook

import (
	"bytes"
	"context"
	"errors"
	"io"
	"slices"
	"sync"

	"proudsieve/core/guard"
	"proudsieve/core/intake/content"
)

// The rows of a sheet are scanned in pieces, side by side: the first piece, up to the end of a row, says within which elements the
// rows stand, and so each of the others begins and must end. What could make this go wrong (a comment or a text as it stands, in
// which the end of a row may be written; rows that do not say which they are; any error) has the sheet read once more,
// in one piece.

// pieceSize is of how many bytes of a sheet a piece is, about. One of pieceLimit times as many has no rows.
const (
	pieceSize  = 1 << 20
	pieceLimit = 16
)

var rowEnd = []byte("</row>")

// errInOne says that a sheet has to be read in one piece.
var errInOne = errors.New("workbook: to be read in one piece")

// piece is some bytes of a sheet up to the end of a row, or to its end.
type piece struct {
	text        []byte
	first, last bool
}

// scanned is what came of a piece.
type scanned struct {
	piece
	lines *content.Block // nil of the first and the last one
	row   int            // the first one
	width int
}

// pieces writes the rows of a sheet.
func (w *reader) pieces(ctx context.Context, in io.Reader, to *content.Records) error {
	w.width = 0
	clear(w.merged)
	if w.inOne {
		r := &rows{to: to}
		err := w.parts.rows(newScanner(in), 0, r.write, w.merge)
		w.width = r.width
		return err
	}
	cutter := &cutter{in: in, size: w.pieceSize, first: true}
	open, known := scanner{}, make(chan struct{}) // the elements around the rows, once they are known
	tell := sync.OnceFunc(func() { close(known) })
	r := &rows{to: to}
	err := guard.InOrder(ctx, cutter.next, func(p piece) (scanned, error) {
		if p.first || p.last {
			return scanned{piece: p}, nil
		}
		select {
		case <-known:
		case <-ctx.Done():
			return scanned{}, ctx.Err()
		}
		return w.parts.scan(p, &open)
	}, func(s scanned) error {
		if s.first || s.last {
			defer tell()
			scan := newScanner(bytes.NewReader(s.text))
			if scan.part = !s.last; !s.first {
				scan.open, scan.ends = slices.Clone(open.open), slices.Clone(open.ends)
			}
			err := w.parts.rows(scan, int(to.Line()), r.write, w.merge)
			open.open, open.ends = scan.open, scan.ends
			if scan.part && bytes.Contains(s.text, []byte("<!")) {
				return errInOne
			}
			return err
		}
		if int64(s.row) <= to.Line() {
			return errInOne // which says what is wrong with the rows
		}
		for int64(s.row) > to.Line()+1 {
			if err := to.Blank(); err != nil {
				return err
			}
		}
		r.width = max(r.width, s.width)
		return to.Append(s.lines)
	})
	w.width = r.width
	if err != nil && ctx.Err() == nil && !(cutter.whole && !errors.Is(err, errInOne)) {
		w.inOne = true
		return content.ErrAgain
	}
	return err
}

// scan scans a piece in the midst of a sheet.
func (b *bookParts) scan(p piece, around *scanner) (scanned, error) {
	if bytes.Contains(p.text, []byte("<!")) || bytes.Contains(p.text, []byte("<?")) {
		return scanned{}, errInOne
	}
	s := newScanner(bytes.NewReader(p.text))
	s.part = true
	s.open, s.ends = slices.Clone(around.open), slices.Clone(around.ends)
	out, r := scanned{piece: p, lines: content.NewBlock()}, rows{}
	r.to = &out.lines.Records
	err := b.rows(s, notPlaced, func(row int, cells []sheetCell) error {
		if out.row == 0 {
			out.row, r.first = row, row-1
		}
		return r.write(row, cells)
	}, func(int, int, int) { out.row = 0 })
	if err == nil && (out.row == 0 || !bytes.Equal(s.open, around.open) || len(s.ends) != len(around.ends)) {
		err = errInOne
	}
	out.width = r.width
	return out, err
}

// cutter cuts a sheet into pieces.
type cutter struct {
	in    io.Reader
	size  int
	rest  []byte
	first bool
	whole bool // the sheet is one piece
	ended bool
}

// next returns the next piece; io.EOF after the last one.
func (c *cutter) next() (piece, error) {
	if c.ended {
		return piece{}, io.EOF
	}
	held := c.rest
	for {
		held = append(make([]byte, 0, len(held)+max(c.size, len(held))), held...)
		n, err := io.ReadFull(c.in, held[len(held):cap(held)])
		held = held[:len(held)+n]
		first := c.first
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			c.ended, c.whole = true, first
			return piece{held, first, true}, nil
		}
		if err != nil {
			return piece{}, err
		}
		if at := bytes.LastIndex(held, rowEnd); at >= 0 {
			at += len(rowEnd)
			c.rest, c.first = held[at:], false
			return piece{held[:at], first, false}, nil
		}
		if len(held) > pieceLimit*c.size {
			return piece{}, errInOne
		}
	}
}
