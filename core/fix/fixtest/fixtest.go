// Package fixtest plays fix plans for tests, and holds what every plan must keep to: the ledger adds up, the written table
// is what the ledger says, and the change log played on the table that arrived gives the cleaned one, and backwards.
package fixtest

import (
	"bytes"
	"context"
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"github.com/parquet-go/parquet-go"

	"proudsieve/core/fix"
	_ "proudsieve/core/fix/steps" // the kinds of steps
	"proudsieve/core/intake"
	"proudsieve/core/rulebook"
	"proudsieve/core/table"
	"proudsieve/core/testkit"
)

// Played is what became of a plan.
type Played struct {
	Table   string
	Ledger  *fix.Ledger
	Changes []fix.LogEntry // an entry for each cell and row
	Made    []fix.RowMade
	Marks   *table.Marks // of the cleaned table
	Draws   []fix.Draw
	Refused error // steps that must not be done as they are declared
}

// Plan reads the steps of a plan, each a line of YAML, for the dataset of a rulebook.
func Plan(t testing.TB, book *rulebook.Rulebook, steps string) *fix.Plan {
	t.Helper()
	p, err := fix.Parse([]byte("fix_plan: p\ndataset: "+book.Dataset+"\nsteps:\n"+steps), book)
	if err != nil {
		t.Fatalf("the plan of the test is wrong:\n%v", err)
	}
	return p
}

// Play makes the cleaned table of a text.
func Play(t testing.TB, content string, book *rulebook.Rulebook, plan *fix.Plan, workers int) (*Played, error) {
	t.Helper()
	return PlayInput(t, fix.Input{Source: testkit.File(t, content, book.Reading), Book: book}, plan, workers)
}

// PlayInput makes the cleaned table of a table.
func PlayInput(t testing.TB, in fix.Input, plan *fix.Plan, workers int) (*Played, error) {
	t.Helper()
	var out, log, made, marks, draws bytes.Buffer
	ledger, err := fix.Run(context.Background(), in, plan, workers, fix.Outputs{Table: &out, Log: &log, Map: &made, Marks: &marks, Draws: &draws})
	if err != nil {
		return nil, err
	}
	p := &Played{Table: out.String(), Ledger: ledger, Refused: ledger.Refused()}
	book := in.Book
	if in.Result != nil {
		book = in.Result
	}
	if err := fix.Verify(context.Background(), testkit.File(t, p.Table, intake.Standard()), book, ledger, workers); err != nil {
		t.Error(err)
	}
	if last := ledger.LogAt[len(ledger.LogAt)-1]; last != int64(log.Len()) {
		t.Errorf("the log has %d bytes, and the ledger says %d", log.Len(), last)
	}
	lines := json.NewDecoder(&log)
	for lines.More() {
		var c fix.LogEntry
		if err := lines.Decode(&c); err != nil {
			t.Fatal(err)
		}
		p.Changes = append(p.Changes, each(c)...)
	}
	for lines := json.NewDecoder(&made); lines.More(); {
		var m fix.RowMade
		if err := lines.Decode(&m); err != nil {
			t.Fatal(err)
		}
		p.Made = append(p.Made, m)
	}
	if p.Marks, err = table.ReadMarks(&marks); err != nil {
		t.Fatal(err)
	}
	if draws.Len() > 0 {
		if p.Draws, err = parquet.Read[fix.Draw](bytes.NewReader(draws.Bytes()), int64(draws.Len())); err != nil {
			t.Fatal(err)
		}
	}
	p.replay(t, testkit.All(t, in.Source, 1), in.Source.Columns())
	return p, nil
}

// each is an entry for every cell of one.
func each(c fix.LogEntry) []fix.LogEntry {
	if len(c.Rows) == 0 {
		return []fix.LogEntry{c}
	}
	out := make([]fix.LogEntry, len(c.Rows))
	for i, row := range c.Rows {
		out[i] = c
		if out[i].Row, out[i].Rows, out[i].Lines = row, nil, nil; len(c.Lines) > 0 {
			out[i].Line = c.Lines[i]
		}
	}
	return out
}

// image is a table as the log speaks of it.
type image struct {
	names []string
	rows  map[uint32][]string
	order []uint32
	// estimated are the cells that are estimates, by row, then column.
	estimated map[uint32]map[string]bool
}

func (m *image) clone() *image {
	out := &image{names: slices.Clone(m.names), rows: map[uint32][]string{}, order: slices.Clone(m.order)}
	for row, cells := range m.rows {
		out.rows[row] = slices.Clone(cells)
	}
	return out
}

func (m *image) columns(columns []fix.ColumnFrom) {
	if columns == nil {
		return
	}
	for row, cells := range m.rows {
		now, estimated := make([]string, len(columns)), map[string]bool{}
		for c, column := range columns {
			if column.From != "" {
				now[c] = cells[slices.Index(m.names, column.From)]
				estimated[column.Name] = m.estimated[row][column.From]
			}
		}
		m.rows[row] = now
		if m.estimated[row] != nil {
			m.estimated[row] = estimated
		}
	}
	m.names = nil
	for _, column := range columns {
		m.names = append(m.names, column.Name)
	}
}

// play does what the log says of a step. It is false where the log does not fit.
func (m *image) play(t testing.TB, changes []fix.LogEntry, estimates bool) {
	for _, c := range changes {
		cells, there := m.rows[c.Row]
		if !there {
			t.Fatalf("the log changes row %d, which is not there: %+v", c.Row, c)
		}
		if c.Gone != nil {
			for at, name := range m.names {
				if c.Gone[name] != cells[at] {
					t.Errorf("row %d leaves with %q in %s, and has %q", c.Row, c.Gone[name], name, cells[at])
				}
			}
			if c.KeptBy > 0 && m.rows[c.KeptBy] == nil {
				t.Errorf("row %d is kept by row %d, which is not there", c.Row, c.KeptBy)
			}
			delete(m.rows, c.Row)
			at, _ := slices.BinarySearch(m.order, c.Row)
			m.order = slices.Delete(m.order, at, at+1)
			continue
		}
		at := slices.Index(m.names, c.Column)
		if cells[at] != c.Old {
			t.Errorf("row %d, %s: the log says that %q was there, and %q is", c.Row, c.Column, c.Old, cells[at])
		}
		cells[at] = c.New
		if estimates {
			if m.estimated[c.Row] == nil {
				m.estimated[c.Row] = map[string]bool{}
			}
			m.estimated[c.Row][c.Column] = true
		}
	}
}

// marked holds the marks of the cleaned table against what the steps estimated.
func (m *image) marked(t testing.TB, marks *table.Marks) {
	t.Helper()
	for _, name := range m.names {
		set := marks.In(name)
		for at, row := range m.order {
			if want, got := m.estimated[row][name], set != nil && set.Contains(uint32(at)+1); want != got {
				t.Fatalf("row %d of the cleaned table, %s: marked %v, and estimated %v", at+1, name, got, want)
			}
		}
	}
}

// back undoes what the log says of a step.
func (m *image) back(changes []fix.LogEntry) {
	for _, c := range slices.Backward(changes) {
		if c.Gone != nil {
			cells := make([]string, len(m.names))
			for at, name := range m.names {
				cells[at] = c.Gone[name]
			}
			m.rows[c.Row] = cells
			at, _ := slices.BinarySearch(m.order, c.Row)
			m.order = slices.Insert(m.order, at, c.Row)
			continue
		}
		m.rows[c.Row][slices.Index(m.names, c.Column)] = c.Old
	}
}

func (m *image) csv() string {
	b := &table.Batch{Columns: make([]table.Column, len(m.names)), Rows: m.order}
	for c := range m.names {
		for at, row := range m.order {
			b.Columns[c].Texts = append(b.Columns[c].Texts, m.rows[row][c])
			b.Columns[c].Codes = append(b.Columns[c].Codes, uint32(at))
		}
	}
	var out bytes.Buffer
	_ = table.NewWriter(&out, m.names).Write(b)
	return out.String()
}

// replay plays the log, and backwards, as far as no step makes other rows; after the last that does, only rows are counted.
func (p *Played) replay(t testing.TB, arrived *testkit.Read, names []string) {
	t.Helper()
	m := &image{names: names, rows: map[uint32][]string{}, order: slices.Clone(arrived.Rows), estimated: map[uint32]map[string]bool{}}
	for at, row := range arrived.Rows {
		m.rows[row] = slices.Clone(arrived.Cells[at])
	}
	var states []*image // before each step
	byStep := map[int][]fix.LogEntry{}
	for _, c := range p.Changes {
		byStep[c.Step] = append(byStep[c.Step], c)
	}
	dropped := false
	for _, s := range p.Ledger.Steps {
		if s.RowsMade != nil {
			p.made(t, s, m)
			return
		}
		states = append(states, m.clone())
		before := len(m.names)
		m.columns(s.Columns)
		dropped = dropped || len(m.names) < before
		m.play(t, byStep[s.Step], s.Kind == "estimate")
	}
	m.marked(t, p.Marks)
	if got := m.csv(); got != p.Table {
		t.Errorf("the log played on the table that arrived gives\n%s\nand the cleaned table is\n%s", first(got), first(p.Table))
	}
	for i := len(states) - 1; i >= 0 && !dropped; i-- {
		m.back(byStep[i+1])
		if s := p.Ledger.Steps[i]; s.Columns != nil {
			var back []fix.ColumnFrom
			for _, name := range states[i].names {
				at := slices.IndexFunc(s.Columns, func(c fix.ColumnFrom) bool { return c.From == name })
				back = append(back, fix.ColumnFrom{Name: name, From: s.Columns[at].Name})
			}
			m.columns(back)
		}
		if got, want := m.csv(), states[i].csv(); got != want {
			t.Fatalf("step %d undone gives\n%s\nand before it there was\n%s", i+1, first(got), first(want))
		}
	}
}

// made holds the map of the first step that makes other rows against the rows before it.
func (p *Played) made(t testing.TB, s fix.LedgerStep, m *image) {
	t.Helper()
	used, rows := map[uint32]bool{}, int64(0)
	for _, made := range p.Made {
		if made.Step != s.Step {
			continue
		}
		if rows++; int64(made.Row) != rows {
			t.Fatalf("the map speaks of row %d where %d is due", made.Row, rows)
		}
		for _, row := range made.Rows() {
			if used[row] = true; m.rows[row] == nil {
				t.Errorf("row %d was made of row %d, which was not there", made.Row, row)
			}
		}
	}
	if rows != *s.RowsMade {
		t.Errorf("the map has %d rows, and the step made %d", rows, *s.RowsMade)
	}
	if len(used) != len(m.rows) && s.Kind != "columns_to_rows" {
		t.Errorf("the map has %d of the %d rows before the step", len(used), len(m.rows))
	}
}

func first(text string) string {
	lines := strings.SplitAfter(text, "\n")
	return strings.Join(lines[:min(len(lines), 12)], "")
}
