package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"proudsieve/core/intake"
	"proudsieve/core/intake/content"
	"proudsieve/core/intake/detect"
	"proudsieve/core/rulebook"
	"proudsieve/core/rulebook/csvw"
	"proudsieve/core/table"
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
	reading, marks, own, err := readBeside(path)
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
	if err == nil {
		out.file.Estimated = marks
	}
	return out, err
}

// readBeside returns how a file is read of which metadata beside it say that it is a table of ours, and which of its cells
// are estimates. Its rulebook's reading is that of deliveries then, and not its own.
func readBeside(path string) (reading rulebook.TableReading, marks *table.Marks, own bool, err error) {
	f, err := os.Open(path + csvw.Suffix)
	if errors.Is(err, os.ErrNotExist) {
		return reading, nil, false, nil
	}
	if err != nil {
		return reading, nil, false, err
	}
	defer f.Close()
	metadata, err := io.ReadAll(io.LimitReader(f, metadataMost))
	if err != nil {
		return reading, nil, false, err
	}
	if reading, own = csvw.ReadingOf(metadata); own {
		marks, err = marksBeside(path, csvw.MarksOf(metadata))
	}
	return reading, marks, own, err
}

// marksBeside reads the marks that the metadata beside a file name. A table is not read as if its estimates had been observed.
func marksBeside(path string, named *csvw.Marks) (*table.Marks, error) {
	if named == nil {
		return nil, nil
	}
	at := filepath.Join(filepath.Dir(path), filepath.Base(named.URL))
	f, err := os.Open(at)
	if err != nil {
		return nil, fmt.Errorf("%s has estimates, and the file that says which they are must stand beside it: %w", path, err)
	}
	defer f.Close()
	marks, err := table.ReadMarks(f)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", at, err)
	}
	if marks.Digest != named.SHA256 {
		return nil, fmt.Errorf("%s is not the file that says which cells of %s are estimates: its SHA-256 is %s, and that of the metadata is %s", at, path, marks.Digest, named.SHA256)
	}
	return marks, nil
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
