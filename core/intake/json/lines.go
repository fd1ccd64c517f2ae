package json

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync/atomic"

	"proudsieve/core/guard"
	"proudsieve/core/intake/content"
	"proudsieve/core/intake/delimited"
)

// Lines are parsed in blocks, side by side, each by the columns that were known when its turn to be parsed came. One in which
// another column turns up is parsed once more when its turn to be written comes, so that columns come in the order in
// which they are first met, whatever was parsed when.

// blockSize is of how many bytes of lines a block is, at least.
const blockSize = 256 << 10

// errUnknown says that a column turned up that is not among the fixed ones.
var errUnknown = errors.New("json: a column that was not known")

// block is some lines of the file.
type block struct {
	text  string
	first int64 // the number of its first line
}

// parsed is what came of a block; nothing where a column turned up in it that was not known.
type parsed struct {
	of     block
	lines  *content.Block
	narrow bool
}

// columnsKnown is the columns of a reader at some time.
type columnsKnown struct {
	names []string
	index map[string]int
}

// lines writes the records of lines.
func (j *reader) lines(ctx context.Context, to *content.Records) error {
	in, err := j.open(ctx, 0)
	if err != nil {
		return err
	}
	defer in.Close()
	known := j.begin()
	var columns atomic.Pointer[columnsKnown]
	columns.Store(j.known())
	cutter := &blocks{in: withoutMark(in), line: 1}
	err = guard.InOrder(ctx, cutter.next, func(b block) (parsed, error) {
		now := columns.Load()
		own := &reader{names: now.names, index: now.index, fixed: true}
		own.begin()
		out := parsed{of: b, lines: content.NewBlock()}
		err := own.block(ctx, b, &out.lines.Records, known)
		if errors.Is(err, errUnknown) {
			out.lines, err = nil, nil
		}
		out.narrow = own.narrow
		return out, err
	}, func(p parsed) error {
		if p.lines != nil {
			j.narrow = j.narrow || p.narrow
			return to.Append(p.lines)
		}
		if err := j.block(ctx, p.of, to, known); err != nil {
			return err
		}
		columns.Store(j.known())
		return nil
	})
	if err == nil {
		err = j.again(known)
	}
	return err
}

// known is the columns as they are now.
func (j *reader) known() *columnsKnown {
	k := &columnsKnown{names: j.names[:len(j.names):len(j.names)], index: make(map[string]int, len(j.names))}
	for at, name := range k.names {
		k.index[name] = at
	}
	return k
}

// block writes the records of a block.
func (j *reader) block(ctx context.Context, b block, to *content.Records, known int) error {
	for rest, number := b.text, b.first; rest != ""; number++ {
		if err := ctx.Err(); err != nil {
			return err
		}
		line := rest
		if end := strings.IndexByte(rest, '\n'); end >= 0 {
			line = rest[:end+1]
		}
		if len(line) > delimited.RecordLimit {
			return fmt.Errorf("line %d: %w", number, delimited.ErrTooLong)
		}
		if err := j.record(line, to, known); err != nil {
			return err
		}
		rest = rest[len(line):]
	}
	return nil
}

// blocks cuts a text into blocks that end with a line.
type blocks struct {
	in    *bufio.Reader
	rest  []byte // the beginning of a line
	line  int64  // the number of that line
	ended bool
}

// next returns the next block; io.EOF after the last one.
func (b *blocks) next() (block, error) {
	held := b.rest
	for !b.ended {
		held = append(make([]byte, 0, len(held)+max(blockSize, len(held))), held...)
		n, err := io.ReadFull(b.in, held[len(held):cap(held)])
		from := len(held)
		held = held[:from+n]
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			b.ended = true
		} else if err != nil {
			return block{}, fmt.Errorf("line %d: %w", b.line+int64(bytes.Count(held, []byte("\n"))), err)
		}
		if end := bytes.LastIndexByte(held[from:], '\n'); end >= 0 && !b.ended {
			out := block{string(held[:from+end+1]), b.line}
			b.rest = held[from+end+1:]
			b.line += int64(strings.Count(out.text, "\n"))
			return out, nil
		}
		if len(held) > delimited.RecordLimit && !b.ended {
			return block{}, fmt.Errorf("line %d: %w", b.line, delimited.ErrTooLong)
		}
	}
	b.rest = nil
	if len(held) == 0 {
		return block{}, io.EOF
	}
	return block{string(held), b.line}, nil
}
