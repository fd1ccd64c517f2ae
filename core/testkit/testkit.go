// Package testkit holds what the tests of core/ share: tables out of texts.
package testkit

import (
	"bytes"
	"context"
	"io"
	"testing"

	"proudsieve/core/intake"
	"proudsieve/core/intake/content"
	"proudsieve/core/intake/delimited"
	"proudsieve/core/rulebook"
	_ "proudsieve/core/rules" // the kinds of rules
	"proudsieve/core/table"
)

// Opener opens bytes in memory.
func Opener(content []byte) content.Opener {
	return func(offset int64) (io.ReadCloser, error) {
		return io.NopCloser(bytes.NewReader(content[offset:])), nil
	}
}

// File opens a text with a reading, whose defaults are filled in.
func File(t testing.TB, content string, reading intake.Reading) *intake.File {
	t.Helper()
	f, err := intake.Open(context.Background(), Opener([]byte(content)), reading.WithDefaults())
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// Book parses a rulebook.
func Book(t testing.TB, source string) *rulebook.Rulebook {
	t.Helper()
	b, err := rulebook.Parse([]byte(source))
	if err != nil {
		t.Fatalf("the rulebook of the test is wrong:\n%v", err)
	}
	return b
}

// Read is everything in a table.
type Read struct {
	Cells       [][]string
	Lines       []int64
	Rows        []uint32
	Defects     []table.Defect
	Surplus     map[uint32][]string
	SetAside    int64
	Checkpoints []delimited.Checkpoint
}

// All reads a table to its end.
func All(t testing.TB, source table.Source, workers int) *Read {
	t.Helper()
	out := &Read{Cells: [][]string{}, Surplus: map[uint32][]string{}}
	err := table.Scan(context.Background(), source, workers,
		func(b *table.Batch) (*table.Batch, error) { return b, nil }, func(b *table.Batch) error {
			for i := range b.Rows {
				cells := make([]string, len(b.Columns))
				for c := range b.Columns {
					cells[c] = b.Columns[c].At(i)
				}
				out.Cells = append(out.Cells, cells)
				if s := b.Surplus[i]; s != nil {
					out.Surplus[b.Rows[i]] = s
				}
			}
			if b.Len() > 0 {
				out.Checkpoints = append(out.Checkpoints, delimited.Checkpoint{Offset: b.Offset, Row: b.Rows[0], Line: b.Lines[0]})
			}
			out.Rows = append(out.Rows, b.Rows...)
			out.Lines = append(out.Lines, b.Lines...)
			out.Defects = append(out.Defects, b.Defects...)
			out.SetAside += b.SetAside
			return nil
		})
	if err != nil {
		t.Fatal(err)
	}
	return out
}
