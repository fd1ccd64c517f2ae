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
// with a record goes beside it.

// Records takes what a converter writes.
type Records struct {
	out  *bufio.Writer
	line int64
	// note takes what is wrong with a line.
	note func(Flaw) error
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
			if err := r.out.WriteByte(','); err != nil {
				return err
			}
		}
		if err := r.cell(text, len(cells) == 1); err != nil {
			return err
		}
	}
	return r.out.WriteByte('\n')
}

// Blank writes a line that is no record.
func (r *Records) Blank() error {
	r.line++
	return r.out.WriteByte('\n')
}

func (r *Records) cell(text string, alone bool) error {
	quoted := text == "" && alone
	for i := 0; i < len(text) && !quoted; i++ {
		switch text[i] {
		case ',', '"', '\n', '\r':
			quoted = true
		case ' ', '\t':
			quoted = alone
		}
	}
	if !quoted {
		_, err := r.out.WriteString(text)
		return err
	}
	_ = r.out.WriteByte('"')
	for i := 0; i < len(text); i++ {
		if text[i] == '"' {
			_ = r.out.WriteByte('"')
		}
		_ = r.out.WriteByte(text[i])
	}
	return r.out.WriteByte('"')
}

// Stream converts on a goroutine of its own, as the text is read; closing it ends that. What
// is wrong with its lines cannot be told.
func Stream(ctx context.Context, c Streaming) io.ReadCloser {
	ctx, cancel := context.WithCancel(ctx)
	in, out := io.Pipe()
	to := &Records{out: bufio.NewWriterSize(out, 256<<10), note: func(Flaw) error {
		return errors.New("content: a flaw in a stream")
	}}
	guard.Go(func() error {
		if err := c.Convert(ctx, to); err != nil {
			return err
		}
		return to.out.Flush()
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
	to := &Records{out: bufio.NewWriterSize(s.text, 256<<10), note: func(f Flaw) error { return lines.Encode(f) }}
	if err := c.Convert(ctx, to); err != nil {
		return err
	}
	if err := errors.Join(to.out.Flush(), flaws.Flush()); err != nil {
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
