package audit

import (
	"archive/zip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"

	"proudsieve/core/intake/delimited"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// The rows behind an audit are kept in a zip archive: rows.json says which rule
// has which member, marks.json where the parts of the file start, and each member
// is a row set in the portable Roaring format.

type rowsEntry struct {
	Rule      string             `json:"rule"`
	Dimension rulebook.Dimension `json:"dimension"`
	Columns   []string           `json:"columns"`
	Member    string             `json:"member"`
}

// WriteRows writes the row set of every finding, and the places for resuming.
func (r *Result) WriteRows(w io.Writer) error {
	archive := zip.NewWriter(w)
	put := func(name string, write func(io.Writer) error) error {
		member, err := archive.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store})
		if err != nil {
			return err
		}
		return write(member)
	}
	index := []rowsEntry{}
	for i := range r.Findings {
		f := &r.Findings[i]
		e := rowsEntry{f.Rule, f.Dimension, f.Columns, fmt.Sprintf("%d.roaring", i)}
		index = append(index, e)
		if err := put(e.Member, func(w io.Writer) error { _, err := f.RowSet.WriteTo(w); return err }); err != nil {
			return err
		}
	}
	if err := put("rows.json", func(w io.Writer) error { return json.NewEncoder(w).Encode(index) }); err != nil {
		return err
	}
	if err := put("marks.json", func(w io.Writer) error { return json.NewEncoder(w).Encode(r.Checkpoints) }); err != nil {
		return err
	}
	return archive.Close()
}

// Rows gives the rows behind a finished audit. Its methods may be called by several goroutines.
type Rows struct {
	Checkpoints []delimited.Checkpoint
	index       []rowsEntry
	archive     *zip.Reader
	mutex       sync.Mutex
	loaded      map[string]*table.RowSet // by member; nobody changes them
}

// OpenRows reads what WriteRows wrote.
func OpenRows(in io.ReaderAt, size int64) (*Rows, error) {
	archive, err := zip.NewReader(in, size)
	if err != nil {
		return nil, err
	}
	r := &Rows{archive: archive}
	for name, into := range map[string]any{"rows.json": &r.index, "marks.json": &r.Checkpoints} {
		member, err := archive.Open(name)
		if err != nil {
			return nil, err
		}
		err = json.NewDecoder(member).Decode(into)
		if err := errors.Join(err, member.Close()); err != nil {
			return nil, err
		}
	}
	return r, nil
}

// Where returns the rows that are caught by a rule, in a column, in a dimension;
// what is left empty does not restrict. nil means that nothing was asked for.
func (r *Rows) Where(rule, column string, dimension rulebook.Dimension) (*table.RowSet, error) {
	if rule == "" && column == "" && dimension == "" {
		return nil, nil
	}
	all := table.NewRowSet()
	for _, e := range r.index {
		if (rule != "" && e.Rule != rule) || (dimension != "" && e.Dimension != dimension) ||
			(column != "" && !slices.Contains(e.Columns, column)) {
			continue
		}
		set, err := r.load(e.Member)
		if err != nil {
			return nil, err
		}
		all.Or(set)
	}
	return all, nil
}

// Any returns the rows that are caught at all.
func (r *Rows) Any() (*table.RowSet, error) {
	all := table.NewRowSet()
	for _, e := range r.index {
		set, err := r.load(e.Member)
		if err != nil {
			return nil, err
		}
		all.Or(set)
	}
	return all, nil
}

// Caught is a fault of one cell, or of a whole row where Columns is empty.
type Caught struct {
	Rule      string             `json:"rule"`
	Dimension rulebook.Dimension `json:"dimension"`
	Columns   []string           `json:"columns"`
}

// Of returns what each of the given rows was caught for.
func (r *Rows) Of(rows []uint32) (map[uint32][]Caught, error) {
	out := map[uint32][]Caught{}
	for _, e := range r.index {
		set, err := r.load(e.Member)
		if err != nil {
			return nil, err
		}
		for _, row := range rows {
			if set.Contains(row) {
				out[row] = append(out[row], Caught{e.Rule, e.Dimension, e.Columns})
			}
		}
	}
	return out, nil
}

func (r *Rows) load(member string) (*table.RowSet, error) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if set, ok := r.loaded[member]; ok {
		return set, nil
	}
	in, err := r.archive.Open(member)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	set := table.NewRowSet()
	if _, err = set.ReadFrom(in); err != nil {
		return nil, err
	}
	if r.loaded == nil {
		r.loaded = map[string]*table.RowSet{}
	}
	r.loaded[member] = set
	return set, nil
}
