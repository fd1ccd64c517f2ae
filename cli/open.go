package cli

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"

	"proudsieve/core/intake"
	"proudsieve/core/intake/content"
	"proudsieve/core/intake/detect"
	"proudsieve/core/rulebook"
	"proudsieve/core/rulebook/csvw"
)

// openedFile is an open file, with the rulebook by which it is read.
type openedFile struct {
	file      *intake.File
	book      *rulebook.Rulebook
	detection *detect.Detection // nil where a rulebook was given
	own       bool              // the metadata beside it say that it is a table of ours
}

// openFile opens a file by its rulebook or, without one, by a draft of what is seen of it, as far as its reading is not fixed.
func openFile(ctx context.Context, path string, book *rulebook.Rulebook, fixed intake.Reading) (*openedFile, error) {
	reading, own, err := readingBeside(path)
	if err != nil {
		return nil, err
	}
	out := &openedFile{book: book, own: own}
	switch {
	case own && book != nil:
		out.book = book.ForTable(reading)
	case own && fixed.Delimiter == "":
		fixed = intake.Standard()
		fixed.Missing = reading.Missing
	}
	if book != nil {
		out.file, err = intake.Open(ctx, content.AtPath(path), out.book.Reading)
	} else if out.book, out.detection, err = draft(ctx, path, content.AtPath(path), fixed); err == nil {
		out.file = out.detection.File
	}
	return out, err
}

// readingBeside returns how a file is read of which metadata beside it say that it is a table of ours. Its rulebook's
// reading is that of deliveries then, and not its own.
func readingBeside(path string) (reading rulebook.TableReading, own bool, err error) {
	f, err := os.Open(path + csvw.Suffix)
	if errors.Is(err, os.ErrNotExist) {
		return reading, false, nil
	}
	if err != nil {
		return reading, false, err
	}
	defer f.Close()
	metadata, err := io.ReadAll(io.LimitReader(f, metadataMost))
	reading, own = csvw.ReadingOf(metadata)
	return reading, own, err
}

// metadataMost is how many bytes of metadata are looked at.
const metadataMost = 8 << 20

// draft works out how a file is read, and what its columns are.
func draft(ctx context.Context, path string, open content.Opener,
	fixed intake.Reading) (*rulebook.Rulebook, *detect.Detection, error) {
	d, err := detect.Detect(ctx, open, fixed)
	if err != nil {
		return nil, nil, err
	}
	return rulebook.Draft(filepath.Base(path), d, d.File.Columns()), d, nil
}
