package audit

import (
	"context"
	"math/bits"
	"slices"

	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// Many tables are sorted by their key. Where a key of one column ascends in a stretch, no two
// rows of the stretch share it, and none shares it with another stretch whose keys lie apart:
// the first and the last one say all there is to know, and no row has to be hashed. Rows of
// stretches that do not lie apart are read once more, and hashed then.

// rank is the place of a short text in an order: by its length, then by its bytes.
type rank struct{ hi, lo uint64 }

func rankOf(t table.Token) rank {
	first, rest := bits.ReverseBytes64(t.Lo), bits.ReverseBytes64(t.Hi)
	return rank{uint64(t.Len())<<56 | first>>8, first<<56 | rest>>8}
}

func (r rank) below(o rank) bool { return r.hi < o.hi || r.hi == o.hi && r.lo < o.lo }

// span is a run of consecutive rows.
type span struct{ first, last uint32 }

// climb is a run of rows whose key ascends.
type climb struct {
	lowest, highest rank
	rows            span // none has been met where first is 0
	over            bool // it ended, or was not tried
}

// take goes on with the rows of a batch; tokens[codes[i]] is the key of row i. It reports
// false, and takes none of them, where the key does not ascend in all of them.
func (c *climb) take(tokens []table.Token, codes, rows []uint32, lacking []bool) bool {
	on := *c
	for i, code := range codes {
		if lacking[i] {
			continue
		}
		t := tokens[code]
		next := rankOf(t)
		if !t.Plain() || on.rows.first > 0 && !on.highest.below(next) {
			return false
		}
		if on.rows.first == 0 {
			on.lowest, on.rows.first = next, rows[i]
		}
		on.highest, on.rows.last = next, rows[i]
	}
	*c = on
	return true
}

// keyed is what is known of the rows of a key that were not hashed.
type keyed struct {
	climbs []climb
	left   []span // rows of climbs that ended
}

// add takes in the climb of a stretch.
func (k *keyed) add(c *climb) {
	switch {
	case c.rows.first == 0:
	case c.over:
		k.left = append(k.left, c.rows)
	default:
		k.climbs = append(k.climbs, *c)
	}
}

// unsettled returns the rows that may share their key with others: all of them where some are
// hashed or left, else those of climbs that do not lie apart.
func (k *keyed) unsettled(hashed bool) *table.RowSet {
	rows := table.NewRowSet()
	add := func(s span) { rows.AddRange(uint64(s.first), uint64(s.last)+1) }
	for _, s := range k.left {
		add(s)
	}
	slices.SortFunc(k.climbs, func(a, b climb) int {
		if a.lowest.below(b.lowest) {
			return -1
		}
		return 1
	})
	var highest *climb // of those before
	for i := range k.climbs {
		c := &k.climbs[i]
		if together := highest != nil && !highest.highest.below(c.lowest); together || hashed || len(k.left) > 0 {
			add(c.rows)
			if together {
				add(highest.rows)
			}
		}
		if highest == nil || highest.highest.below(c.highest) {
			highest = c
		}
	}
	return rows
}

// hashUnsettled hashes the rows of a key that have to be compared after all.
func (r *run) hashUnsettled(ctx context.Context, source table.Source, k int) error {
	rows := r.keyed[k].unsettled(r.groups[k].Len() > 0)
	if rows.IsEmpty() {
		return nil
	}
	at := r.plan.checks[r.plan.keys[k]].at[0]
	work := func(b *table.Batch) ([]table.HashedRow, error) {
		var hashed []table.HashedRow
		known := make([]*rulebook.Cell, len(b.Columns[at].Texts))
		for i, row := range b.Rows {
			if !rows.Contains(row) {
				continue
			}
			code := b.Columns[at].Codes[i]
			text := b.Columns[at].Texts[code]
			if known[code] == nil {
				cell := r.plan.judges[at].cells.Read(text)
				known[code] = &cell
			}
			if cell := known[code]; !cell.Missing {
				hashed = append(hashed, table.HashedRow{Hash: table.With(table.Hash{},
					table.TokenOf(cell.Identity(text))), Row: row})
			}
		}
		return hashed, nil
	}
	return table.ScanBatches(ctx, table.Where(source, rows), r.workers, work, r.groups[k].AddAll)
}
