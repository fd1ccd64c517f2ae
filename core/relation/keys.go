package relation

import (
	"context"
	"slices"

	"proudsieve/core/audit"
	"proudsieve/core/table"
)

// Key is a set of columns that names every row, or nearly every one.
type Key struct {
	Columns []string `json:"columns"`
	Surplus int64    `json:"surplus"` // rows beyond the first of each value; 0 for a key without fault
	Lacking int64    `json:"lacking"` // rows in which a part is missing
}

const (
	keysTested = 24
	// keysAtOnce is how many are tested in one reading, each with a hash for every row at hand.
	keysAtOnce = 6
	// nearlyKey is the share of rows, one in so many, that may be surplus or lack a part in a key worth naming.
	nearlyKey = 100
)

// Keys finds the columns, or pairs or triples of them, that name the rows: each is tested
// on all rows. Those are candidates whose numbers of distinct values suffice; larger sets
// are not tried where a part of them is a key already, or nearly one.
func Keys(ctx context.Context, t *Table, result *audit.Result) ([]Key, error) {
	out := []Key{}
	for size := 1; size <= 3; size++ {
		sets := candidates(result, size, out)
		if len(sets) == 0 {
			continue
		}
		var tested []Key
		for some := range slices.Chunk(sets, keysAtOnce) {
			keys, err := test(ctx, t, some)
			if err != nil {
				return nil, err
			}
			tested = append(tested, keys...)
		}
		for _, k := range tested {
			if (k.Surplus+k.Lacking)*nearlyKey <= result.Rows {
				out = append(out, k)
			}
		}
	}
	return out, nil
}

// candidates lists sets of columns that could be keys, the most promising first.
func candidates(result *audit.Result, size int, known []Key) [][]string {
	type column struct {
		name     string
		distinct float64
	}
	var usable []column
	for _, c := range result.Columns {
		if c.Missing*nearlyKey <= result.Rows && c.Distinct > 1 && c.Numbers == nil || c.Numbers != nil &&
			c.Type == table.TypeInteger && c.Missing*nearlyKey <= result.Rows {
			usable = append(usable, column{c.Name, float64(c.Distinct) * (1 + 3*c.DistinctError)})
		}
	}
	slices.SortStableFunc(usable, func(a, b column) int {
		switch {
		case a.distinct > b.distinct:
			return -1
		case a.distinct < b.distinct:
			return 1
		}
		return 0
	})
	usable = usable[:min(len(usable), 10)]
	var out [][]string
	var choose func(from int, names []string, product float64)
	choose = func(from int, names []string, product float64) {
		if len(names) == size {
			contains := func(k Key) bool {
				return !slices.ContainsFunc(k.Columns, func(c string) bool { return !slices.Contains(names, c) })
			}
			if product >= float64(result.Rows)*(1-1.0/nearlyKey) && !slices.ContainsFunc(known, contains) {
				out = append(out, slices.Clone(names))
			}
			return
		}
		for i := from; i < len(usable); i++ {
			choose(i+1, append(names, usable[i].name), product*usable[i].distinct)
		}
	}
	choose(0, nil, 1)
	return out[:min(len(out), keysTested)]
}

// test counts what keeps each set from being a key.
func test(ctx context.Context, t *Table, sets [][]string) ([]Key, error) {
	at := make([][]int, len(sets))
	groups, room := make([]*table.Groups, len(sets)), table.NewRoom(3)
	keys := make([]Key, len(sets))
	var all []int
	for s, names := range sets {
		positions, err := t.positions(names)
		if err != nil {
			return nil, err
		}
		at[s], keys[s].Columns, groups[s] = positions, names, table.NewGroups(room)
		defer groups[s].Close()
		for _, c := range positions {
			if !slices.Contains(all, c) {
				all = append(all, c)
			}
		}
	}
	type hashed struct {
		rows    []table.HashedRows
		lacking []int64
	}
	begin := func() *hashed { return &hashed{make([]table.HashedRows, len(sets)), make([]int64, len(sets))} }
	work := func(h *hashed, r *readers, b *table.Batch) {
		for s := range sets {
			for k, row := range b.Rows {
				var hash table.Hash
				whole := true
				for _, c := range at[s] {
					cell := r.cell(b, slices.Index(all, c), k)
					whole = whole && !cell.Missing
					hash = table.With(hash, table.TokenOf(cell.Identity(b.Columns[c].At(k))))
				}
				if !whole {
					h.lacking[s]++
					continue
				}
				h.rows[s].Add(hash, row)
			}
		}
	}
	var failed error
	if err := scan(ctx, t, all, begin, work, func(h *hashed) {
		for s := range sets {
			keys[s].Lacking += h.lacking[s]
			if err := groups[s].Take(&h.rows[s]); err != nil {
				failed = err
			}
		}
	}); err != nil {
		return nil, err
	}
	if failed != nil {
		return nil, failed
	}
	for s := range sets {
		if err := groups[s].Repeated(t.Workers, func(_ table.Hash, rows []uint32) error {
			keys[s].Surplus += int64(len(rows)) - 1
			return nil
		}); err != nil {
			return nil, err
		}
	}
	return keys, nil
}
