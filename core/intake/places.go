package intake

import (
	"context"
	"errors"
	"io"
	"os"
	"sync"

	"proudsieve/core/intake/content"
	"proudsieve/core/intake/delimited"
	"proudsieve/core/scratch"
)

// places is the text of a file that cannot be read from any place on, as a packed one, kept where that is possible, with where its
// parts begin. It is made once, when rows are asked for that lie far from the start, and is gone with the file.
type places struct {
	making      chan struct{} // holds one while it is made, or looked at
	text        *delimited.Text
	kept        *os.File
	checkpoints []delimited.Checkpoint
}

// nearRows is how many rows at the start are read from there, without the text being kept.
const nearRows = 5_000

// Pick is delimited.Text.Pick, which rows of packed files, workbooks and the like do not make read all that stands before them,
// but for the first time.
func (f *File) Pick(ctx context.Context, checkpoints []delimited.Checkpoint, rows []uint32) ([]delimited.Picked, error) {
	if f.Seeks || len(rows) == 0 || rows[len(rows)-1] <= nearRows {
		return f.Text.Pick(ctx, checkpoints, rows)
	}
	text, own, err := f.placed(ctx)
	if err != nil {
		return nil, err
	}
	return text.Pick(ctx, own, rows)
}

// placed returns the text as it is kept, and where its parts begin.
func (f *File) placed(ctx context.Context) (*delimited.Text, []delimited.Checkpoint, error) {
	f.placesOnce.Do(func() { f.places.making = make(chan struct{}, 1) })
	p := &f.places
	select {
	case p.making <- struct{}{}:
	case <-ctx.Done():
		return nil, nil, ctx.Err()
	}
	defer func() { <-p.making }()
	if p.text != nil {
		return p.text, p.checkpoints, nil
	}
	text := f.Text
	text.Seeks, text.OnProgress, text.Beside = true, nil, nil
	var kept *os.File
	if f.opened.spool == nil {
		var err error
		if kept, err = f.keep(ctx, &text); err != nil {
			return nil, nil, err
		}
	}
	checkpoints, err := text.Places(ctx)
	if err != nil {
		if kept != nil {
			err = errors.Join(err, kept.Close())
		}
		return nil, nil, err
	}
	p.text, p.kept, p.checkpoints = &text, kept, checkpoints
	return p.text, p.checkpoints, nil
}

// keep writes a text that comes as it is unpacked into a file, and has it read from there.
func (f *File) keep(ctx context.Context, text *delimited.Text) (*os.File, error) {
	in, err := f.Bytes(ctx, 0)
	if err != nil {
		return nil, err
	}
	kept, err := scratch.File("unpacked")
	if err != nil {
		return nil, errors.Join(err, in.Close())
	}
	size, err := io.Copy(kept, in)
	if err := errors.Join(err, in.Close()); err != nil {
		return nil, errors.Join(err, kept.Close())
	}
	text.Bytes = func(ctx context.Context, offset int64) (io.ReadCloser, error) {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		return content.Ending(ctx, io.NopCloser(io.NewSectionReader(kept, offset, size-offset))), nil
	}
	return kept, nil
}

// close gives back what holds the text.
func (p *places) close() error {
	if p.kept == nil {
		return nil
	}
	return p.kept.Close()
}

// placesOf is what a File has of its places.
type placesOf struct {
	places     places
	placesOnce sync.Once
}
