package merge

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/parquet-go/parquet-go"

	"proudsieve/core/guard"
	"proudsieve/core/table"
)

// Sourced says which rows a row of a merged table was made of.
type Sourced struct {
	// Table is the place of the stacked table that it is from, among the inputs of the accounting, from 0; of a row of a joined
	// table that no row asked for it is -1 for the first join, -2 for the second, and so on.
	Table int32 `parquet:"table,dict"`
	Row   int64 `parquet:"row,delta"` // there, from 1; of a table whose grain was changed for the merge, of what it was changed to
	// Joined are the rows of the joined tables that it has columns of, in the order of the joins; 0 where it found no partner.
	Joined []int64 `parquet:"joined"`
	// Filled are rows for which this one stands, and of which it may have cells, the newest first.
	Filled []FilledFrom `parquet:"filled"`
}

// FilledFrom is a row for which another one of the stack stands.
type FilledFrom struct {
	Table int32 `parquet:"table,dict"`
	Row   int64 `parquet:"row"`
}

// sourcesInGroup is how many rows a row group of the Parquet file has.
const sourcesInGroup = 1 << 18

// sources writes which rows each row of the merged table was made of, beside what is merged.
type sources struct {
	batches chan []Sourced
	group   guard.Group
	ended   chan struct{} // closed once nothing is written any more
}

func newSources(out io.Writer) *sources {
	s := &sources{batches: make(chan []Sourced, 4), ended: make(chan struct{})}
	w := parquet.NewGenericWriter[Sourced](out, parquet.Compression(&parquet.Zstd), parquet.MaxRowsPerRowGroup(sourcesInGroup))
	s.group.Go(func() error {
		defer close(s.ended)
		for rows := range s.batches {
			if _, err := w.Write(rows); err != nil {
				return fmt.Errorf("writing where rows are from: %w", err)
			}
		}
		return w.Close()
	})
	return s
}

func (s *sources) put(rows []Sourced) error {
	select {
	case s.batches <- rows:
		return nil
	case <-s.ended: // it failed; end says why
		return errors.New("where rows are from could not be written")
	}
}

// end waits until all is written. It must be called once.
func (s *sources) end() error {
	close(s.batches)
	return s.group.Wait()
}

// sourcedOf says which rows the rows of a batch were made of, at the end of all joins.
func (m *merger) sourcedOf(b *joinedBatch, from int32, t *stackedTable) []Sourced {
	out := make([]Sourced, len(b.out.Rows))
	joined := make([]int64, len(out)*len(m.joins))
	for i, row := range b.out.Rows {
		out[i] = Sourced{Table: from, Row: int64(row), Joined: joined[i*len(m.joins) : (i+1)*len(m.joins) : (i+1)*len(m.joins)]}
		for k, partners := range b.partners {
			if partners != nil {
				out[i].Joined[k] = partners[i] + 1
			}
		}
		if t == nil || m.shared == nil {
			continue
		}
		for _, other := range m.shared.stands[uint32(t.first)+row] {
			at := m.tableAt(uint32(other))
			out[i].Filled = append(out[i].Filled, FilledFrom{int32(at), int64(other) - m.tables[at].first})
		}
	}
	return out
}

// gathered are the partners of some rows, which may repeat.
func gathered(partners [][]int64, rows []int) [][]int64 {
	out := make([][]int64, len(partners))
	for k, all := range partners {
		if all == nil {
			continue
		}
		out[k] = make([]int64, len(rows))
		for i, row := range rows {
			out[k][i] = all[row]
		}
	}
	return out
}

// ReadSourced returns which rows a row of a merged table, from 1, was made of, from what Outputs.Sources wrote.
func ReadSourced(in io.ReaderAt, size int64, row int64) (*Sourced, error) {
	file, err := parquet.OpenFile(in, size)
	if err != nil {
		return nil, fmt.Errorf("reading where rows are from: %w", err)
	}
	if row < 1 || row > file.NumRows() {
		return nil, fmt.Errorf("the table has rows 1 to %d, and no row %d", file.NumRows(), row)
	}
	r := parquet.NewGenericReader[Sourced](file)
	defer r.Close()
	if err := r.SeekToRow(row - 1); err != nil {
		return nil, fmt.Errorf("reading where rows are from: %w", err)
	}
	one := make([]Sourced, 1)
	if n, err := r.Read(one); n != 1 {
		return nil, errors.Join(errors.New("reading where rows are from: a row is not there"), err)
	}
	return &one[0], nil
}

// Origin is a row that a row of a merged table was made of, with the column that a cell of it is from.
type Origin struct {
	Dataset string `json:"dataset"`
	Table   int64  `json:"table,omitempty"`  // its number; 0 where it has none
	Row     int64  `json:"row"`              // there, or among what its rows became before the merge
	Column  string `json:"column,omitempty"` // empty where a whole row was asked for
	How     string `json:"how"`              // one of the ways below
	Grain   string `json:"grain,omitempty"`  // how its rows became others before the merge; empty where they did not
}

// How a row has to do with one of the merged table.
const (
	HowStacked = "stacked"
	HowJoined  = "joined"
	HowUnasked = "unasked" // a row of a joined table that no row asked for
	HowFilled  = "filled"  // another one stands for it, whose empty cells are filled from it
)

// Origins says which rows a row of the merged table was made of, or one of its cells; none for a cell that says where the row is
// from, or one of a join in which the row found no partner.
func (a *Accounting) Origins(from *Sourced, column string) []Origin {
	out := []Origin{}
	add := func(dataset string, table, row int64, grain *GrainResult, column, how string) {
		o := Origin{dataset, table, row, column, how, ""}
		if grain != nil {
			o.Grain = grain.Says
		}
		out = append(out, o)
	}
	for k := range a.Joins {
		j := &a.Joins[k]
		for _, t := range j.Taken {
			if t.Column == column && column != "" { // a cell of the joined table
				if row := from.Joined[k]; row > 0 {
					add(j.With, j.Table, row, j.Grain, t.From, HowJoined)
				}
				return out
			}
		}
	}
	stacked := func(table int32, row int64, how string) {
		if int(table) < len(a.Inputs) {
			in := &a.Inputs[table]
			if own, ok := in.own(a.Stack.Renamed[in.Dataset], column); ok {
				add(in.Dataset, in.Table, row, in.Grain, own, how)
			}
		}
	}
	if from.Table >= 0 {
		stacked(from.Table, from.Row, HowStacked)
		for _, one := range from.Filled {
			stacked(one.Table, one.Row, HowFilled)
		}
	} else if k := int(-1 - from.Table); k < len(a.Joins) {
		if column == "" {
			add(a.Joins[k].With, a.Joins[k].Table, from.Row, a.Joins[k].Grain, "", HowUnasked)
		}
	}
	if column != "" {
		return out
	}
	for k, row := range from.Joined {
		if row > 0 && k < len(a.Joins) && k != int(-1-from.Table) {
			add(a.Joins[k].With, a.Joins[k].Table, row, a.Joins[k].Grain, "", HowJoined)
		}
	}
	return out
}

// own is what a table calls a column of the stack; false where it has none.
func (in *InputRows) own(renamed map[string]string, column string) (string, bool) {
	if column == "" {
		return "", true
	}
	for was, now := range renamed {
		if now == column {
			return was, true
		}
	}
	if len(in.Columns) == 0 {
		return column, true
	}
	for _, name := range in.Columns {
		if name == column && renamed[name] == "" {
			return column, true
		}
	}
	return "", false
}

// The ways in which rows of a merged table can be chosen by where they are from: with a colon and the number of a table, or the
// name of a joined dataset.
const (
	FromTable = "from"    // rows of a stacked table
	Met       = "met"     // rows that found a partner in a join
	Unmet     = "unmet"   // rows that found none
	Several   = "several" // rows that a join made several of
	Unasked   = "unasked" // rows of a joined table that no row asked for
	Filled    = "filled"  // rows that stand for others of the stack; without a colon
)

// rowsAtOnce is how many rows are read at once of where rows are from.
const rowsAtOnce = 4096

// RowsThat returns the rows of a merged table that are chosen by where they are from, as met:stations, from what Outputs.Sources
// wrote.
func (a *Accounting) RowsThat(in io.ReaderAt, size int64, chosen string) (*table.RowSet, error) {
	way, of, _ := strings.Cut(chosen, ":")
	at := slices.IndexFunc(a.Joins, func(j JoinResult) bool { return j.With == of })
	number, err := strconv.ParseInt(of, 10, 64)
	switch way {
	case Met, Unmet, Several, Unasked:
		if at < 0 {
			return nil, fmt.Errorf("the merge does not join with %q", of)
		}
	case FromTable:
		if at = slices.IndexFunc(a.Inputs, func(in InputRows) bool { return in.Table == number }); at < 0 || err != nil {
			return nil, fmt.Errorf("the merge does not stack a table %q", of)
		}
	case Filled:
	default:
		return nil, fmt.Errorf("rows of a merged table are chosen as %s:TABLE, %s:, %s:, %s: or %s:DATASET, or %s, not %q", FromTable, Met, Unmet, Several, Unasked, Filled, chosen)
	}
	file, err := parquet.OpenFile(in, size)
	if err != nil {
		return nil, fmt.Errorf("reading where rows are from: %w", err)
	}
	r := parquet.NewGenericReader[Sourced](file)
	defer r.Close()
	out := table.NewRowSet()
	rows := make([]Sourced, rowsAtOnce)
	var before Sourced
	for row := uint32(1); ; {
		n, err := r.Read(rows)
		for _, one := range rows[:n] {
			holds := false
			switch way {
			case FromTable:
				holds = int(one.Table) == at
			case Met:
				holds = one.Joined[at] > 0 && int(-1-one.Table) != at
			case Unmet:
				holds = one.Joined[at] == 0 && one.Table > int32(-1-at) // rows of later joined tables did not come through this one
			case Unasked:
				holds = int(-1-one.Table) == at
			case Filled:
				holds = len(one.Filled) > 0
			case Several:
				if holds = row > 1 && one.Table == before.Table && one.Row == before.Row && slices.Equal(one.Joined[:at], before.Joined[:at]) && one.Joined[at] != before.Joined[at]; holds {
					out.Add(row - 1)
				}
			}
			if holds {
				out.Add(row)
			}
			before = Sourced{Table: one.Table, Row: one.Row, Joined: append(before.Joined[:0], one.Joined...)}
			row++
		}
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, fmt.Errorf("reading where rows are from: %w", err)
		}
	}
}
