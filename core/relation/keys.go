package relation

import (
	"cmp"
	"context"
	"slices"
)

// Key is a set of columns that names every row, or nearly every one.
type Key struct {
	Columns []string `json:"columns"`
	Surplus int64    `json:"surplus"` // rows beyond the first of each value; 0 for a key without fault
	Lacking int64    `json:"lacking"` // rows in which a part is missing
	// FirstRows are some of the surplus rows.
	FirstRows []uint32 `json:"first_rows"`
}

// Candidate is a column that may be a part of a key, as its profile has it.
type Candidate struct {
	Name              string
	Distinct, Missing int64
	DistinctError     float64
	// Fractional says that it holds numbers that are not whole, which seldom name anything.
	Fractional bool
	// Date says that it holds dates, which name things with others at most.
	Date bool
}

const (
	keysTested = 24
	// keysAtOnce is how many are tested in one reading, each with a hash for every row at hand.
	keysAtOnce = 6
	// nearlyKey is the share of rows, one in so many, that may be surplus or lack a part in a key whose larger sets are
	// not tried any more.
	nearlyKey = 100
	// brokenKey is the share of those in a key that is broken, and still worth naming.
	brokenKey = 10
)

// Keys finds the columns, or pairs or triples of them, that name the rows of a table of so many, or name nearly all of
// them: each is tested on all rows. Those are candidates whose numbers of distinct values suffice; larger sets are not
// tried where a part of them is a key already, or nearly one. Keys without fault come first, then those that name
// most rows; of equals those of fewer columns, and those that look more like keys.
func Keys(ctx context.Context, t *Table, rows int64, columns []Candidate) ([]Key, error) {
	out, good := []Key{}, []Key{}
	for size := 1; size <= 3; size++ {
		sets := candidates(rows, columns, size, good)
		if len(sets) > keysAtOnce/2 {
			var err error
			if sets, err = hopeful(ctx, t, sets, rows); err != nil {
				return nil, err
			}
		}
		for some := range slices.Chunk(sets, keysAtOnce) {
			keys, err := test(ctx, t, some)
			if err != nil {
				return nil, err
			}
			for _, k := range keys {
				faults := k.Surplus + k.Lacking
				if faults*nearlyKey <= rows {
					good = append(good, k)
				}
				if faults == 0 || faults*brokenKey <= rows && size == 1 && looksLikeKey(columns, k.Columns[0]) ||
					faults*nearlyKey <= rows && !hasFraction(columns, k.Columns) {
					out = append(out, k)
				}
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Key) int {
		return cmp.Or(cmp.Compare(a.Surplus+a.Lacking, b.Surplus+b.Lacking), cmp.Compare(len(a.Columns), len(b.Columns)),
			cmp.Compare(fractions(columns, a.Columns), fractions(columns, b.Columns)))
	})
	return out, nil
}

func find(columns []Candidate, name string) *Candidate {
	return &columns[slices.IndexFunc(columns, func(c Candidate) bool { return c.Name == name })]
}

func looksLikeKey(columns []Candidate, name string) bool {
	c := find(columns, name)
	return !c.Fractional && !c.Date
}

func hasFraction(columns []Candidate, names []string) bool { return fractions(columns, names) > 0 }

func fractions(columns []Candidate, names []string) (n int) {
	for _, name := range names {
		if find(columns, name).Fractional {
			n++
		}
	}
	return n
}

// candidates lists sets of columns that could be keys, the most promising first.
func candidates(rows int64, columns []Candidate, size int, known []Key) [][]string {
	type column struct {
		name     string
		distinct float64
		fraction bool
	}
	var usable []column
	for _, c := range columns {
		if c.Missing*brokenKey <= rows && c.Distinct > 1 {
			usable = append(usable, column{c.Name, float64(c.Distinct) * (1 + 3*c.DistinctError), c.Fractional})
		}
	}
	slices.SortStableFunc(usable, func(a, b column) int {
		if a.fraction != b.fraction && size > 1 {
			if a.fraction {
				return 1
			}
			return -1
		}
		return cmp.Compare(b.distinct, a.distinct)
	})
	usable = usable[:min(len(usable), 10)]
	var out [][]string
	var choose func(from int, names []string, product float64)
	choose = func(from int, names []string, product float64) {
		if len(names) == size {
			contains := func(k Key) bool {
				return !slices.ContainsFunc(k.Columns, func(c string) bool { return !slices.Contains(names, c) })
			}
			if product >= float64(rows)*(1-1.0/brokenKey) && !slices.ContainsFunc(known, contains) {
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

// hopeful leaves out sets that cannot be keys, not even nearly or broken ones: a part of the rows, those whose hash is one in so many,
// tells that of most, by one reading for all of them.
func hopeful(ctx context.Context, t *Table, sets [][]string, rows int64) ([][]string, error) {
	asked := make([]Repeats, len(sets))
	for i, names := range sets {
		asked[i].Columns = names
	}
	counted, err := countRepeats(ctx, t, asked, keysTested/keysAtOnce)
	if err != nil {
		return nil, err
	}
	var out [][]string
	for i, names := range sets {
		worst := rows / nearlyKey
		if len(names) == 1 {
			worst = rows / brokenKey
		}
		if counted[i].Surplus+counted[i].Lacking <= worst {
			out = append(out, names)
		}
	}
	return out, nil
}

// test counts what keeps each set from being a key.
func test(ctx context.Context, t *Table, sets [][]string) ([]Key, error) {
	asked := make([]Repeats, len(sets))
	for i, names := range sets {
		asked[i].Columns = names
	}
	counted, err := CountRepeats(ctx, t, asked)
	if err != nil {
		return nil, err
	}
	keys := make([]Key, len(sets))
	for i, c := range counted {
		keys[i] = Key{Columns: sets[i], Surplus: c.Surplus, Lacking: c.Lacking, FirstRows: c.FirstRows}
	}
	return keys, nil
}
