package content

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"io"
	"os"

	"proudsieve/core/guard"
	"proudsieve/core/intake/delimited"
	"proudsieve/core/scratch"
	"proudsieve/core/table"
)

// Formats other than delimited text are turned, as they are read, into delimited text
// in the standard layout, so that there is one way from text to rows. Each record, and each
// blank line, stands for one line of the file, or one of its numbered records. What is wrong
// with a record goes beside it. What is read by columns hands its cells over beside that
// (blocks.go).

// Records takes what a converter writes.
type Records struct {
	out   io.Writer // nil for a block
	lines []byte    // those that were not written out yet
	line  int64
	// note takes what is wrong with a line.
	note func(Flaw) error
}

// writeOut is from how many bytes on lines are written out.
const writeOut = 256 << 10

// Block is records that were made for themselves, beside others, until they are put after those that come before them.
type Block struct {
	Records
	flaws []Flaw
}

// NewBlock returns an empty block.
func NewBlock() *Block {
	b := &Block{}
	b.note = func(f Flaw) error {
		b.flaws = append(b.flaws, f)
		return nil
	}
	return b
}

// Line is how many lines were written.
func (r *Records) Line() int64 { return r.line }

// Append writes the lines of a block.
func (r *Records) Append(b *Block) error {
	for _, f := range b.flaws {
		f.Line += r.line
		if err := r.note(f); err != nil {
			return err
		}
	}
	r.line += b.line
	r.lines = append(r.lines, b.lines...)
	return r.full()
}

// full writes lines out where there are many of them.
func (r *Records) full() error {
	if r.out == nil || len(r.lines) < writeOut {
		return nil
	}
	return r.flush()
}

// flush writes out what there is.
func (r *Records) flush() error {
	_, err := r.out.Write(r.lines)
	r.lines = r.lines[:0]
	return err
}

// Flaw is something wrong with a line.
type Flaw struct {
	Kind   table.DefectKind `json:"kind"`
	Line   int64            `json:"line"`
	Column int              `json:"column"` // -1 for none
	Detail string           `json:"detail"`
}

// ErrAgain says that a converter has learned something that the records written so far lack.
var ErrAgain = errors.New("content: convert again")

// Write writes the record of the next line. One that is shorter than others lacks its last cells.
func (r *Records) Write(cells []string, flaws ...Flaw) error {
	r.line++
	for _, f := range flaws {
		f.Line, f.Detail = r.line, delimited.Clip(f.Detail)
		if err := r.note(f); err != nil {
			return err
		}
	}
	if len(cells) == 0 {
		cells = []string{""}
	}
	for i, text := range cells {
		if i > 0 {
			r.lines = append(r.lines, ',')
		}
		r.lines = AppendCell(r.lines, text, len(cells) == 1)
	}
	r.lines = append(r.lines, '\n')
	return r.full()
}

// Blank writes a line that is no record.
func (r *Records) Blank() error {
	r.line++
	r.lines = append(r.lines, '\n')
	return r.full()
}

// WriteLines writes the records of so many lines, whose cells AppendCell made, each with its line end. Nothing is wrong with them.
func (r *Records) WriteLines(lines []byte, records int) error {
	r.line += int64(records)
	r.lines = append(r.lines, lines...)
	return r.full()
}

// AppendCell writes a text as a cell of the standard layout; alone says that it is the only one of its record.
func AppendCell[Text string | []byte](to []byte, text Text, alone bool) []byte {
	if len(text) == 0 {
		if alone {
			return append(to, `""`...)
		}
		return to
	}
	at := len(to)
	to = append(to, text...)
	for _, c := range to[at:] {
		if special[c] && (c == ',' || c == '"' || c == '\n' || c == '\r' || alone) {
			return appendQuoted(to[:at], text)
		}
	}
	return to
}

// special are the bytes for which a cell may need quotes.
var special = [256]bool{',': true, '"': true, '\n': true, '\r': true, ' ': true, '\t': true}

func appendQuoted[Text string | []byte](to []byte, text Text) []byte {
	to = append(to, '"')
	for i := range len(text) {
		if text[i] == '"' {
			to = append(to, '"')
		}
		to = append(to, text[i])
	}
	return append(to, '"')
}

// Stream converts on a goroutine of its own, as the text is read; closing it ends that. What
// is wrong with its lines cannot be told.
func Stream(ctx context.Context, c Streaming) io.ReadCloser {
	ctx, cancel := context.WithCancel(ctx)
	in, out := io.Pipe()
	to := &Records{out: out, note: func(Flaw) error {
		return errors.New("content: a flaw in a stream")
	}}
	guard.Go(func() error {
		if err := c.Convert(ctx, to); err != nil {
			return err
		}
		return to.flush()
	}, func(err error) { _ = out.CloseWithError(err) })
	return &streamReader{in, cancel}
}

type streamReader struct {
	*io.PipeReader
	cancel context.CancelFunc
}

// Close implements io.Closer.
func (s *streamReader) Close() error {
	s.cancel()
	return s.CloseWithError(errors.New("intake: reading was ended"))
}

// Spool is the text that a file was turned into, in temporary files that are gone with the
// last who has them open.
type Spool struct {
	text  *os.File
	size  int64
	flaws *os.File
}

// Convert turns all of a file into text.
func Convert(ctx context.Context, c Converter) (*Spool, error) {
	s := &Spool{}
	err := s.fill(ctx, c)
	for errors.Is(err, ErrAgain) {
		err = errors.Join(s.Close(), s.fill(ctx, c))
	}
	if err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

func (s *Spool) fill(ctx context.Context, c Converter) (err error) {
	if s.text, err = scratch.File("converted"); err != nil {
		return err
	}
	if s.flaws, err = scratch.File("converted"); err != nil {
		return err
	}
	flaws := bufio.NewWriter(s.flaws)
	lines := json.NewEncoder(flaws)
	to := &Records{out: s.text, note: func(f Flaw) error { return lines.Encode(f) }}
	if err := c.Convert(ctx, to); err != nil {
		return err
	}
	if err := errors.Join(to.flush(), flaws.Flush()); err != nil {
		return err
	}
	s.size, err = s.text.Seek(0, io.SeekCurrent)
	return err
}

// Close gives the room back.
func (s *Spool) Close() error {
	var err error
	for _, f := range []*os.File{s.text, s.flaws} {
		if f != nil {
			err = errors.Join(err, f.Close())
		}
	}
	s.text, s.flaws = nil, nil
	return err
}

// Open opens the text from an offset on.
func (s *Spool) Open(ctx context.Context, offset int64) (io.ReadCloser, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	return Ending(ctx, io.NopCloser(io.NewSectionReader(s.text, offset, s.size-offset))), nil
}

// Head reads the beginning of the text; whole says that nothing follows it.
func (s *Spool) Head() (head []byte, whole bool, err error) {
	return headOf(io.NewSectionReader(s.text, 0, s.size))
}

// Tail reads the end of the text.
func (s *Spool) Tail() []byte {
	tail := make([]byte, min(s.size, TailSize))
	if n, err := s.text.ReadAt(tail, s.size-int64(len(tail))); err != nil && !errors.Is(err, io.EOF) || n < len(tail) {
		return nil
	}
	return tail
}

// Noted hands out the flaws, as defects of a table with these columns.
func (s *Spool) Noted(columns []string) delimited.Noted {
	return &flawReader{lines: json.NewDecoder(bufio.NewReader(io.NewSectionReader(s.flaws, 0, 1<<62))),
		columns: columns}
}

type flawReader struct {
	lines   *json.Decoder
	columns []string
	next    *Flaw // that was read and not handed out
}

// UpTo implements delimited.Noted.
func (n *flawReader) UpTo(line int64) ([]table.Defect, error) {
	var out []table.Defect
	for {
		if n.next == nil {
			n.next = &Flaw{}
			if err := n.lines.Decode(n.next); errors.Is(err, io.EOF) {
				n.next = nil
				return out, nil
			} else if err != nil {
				return out, err
			}
		}
		if n.next.Line > line {
			return out, nil
		}
		d := table.Defect{Kind: n.next.Kind, Line: n.next.Line, Detail: n.next.Detail}
		if c := n.next.Column; c >= 0 && c < len(n.columns) {
			d.Column = n.columns[c]
		}
		out, n.next = append(out, d), nil
	}
}

// Close implements delimited.Noted.
func (n *flawReader) Close() error { return nil }
