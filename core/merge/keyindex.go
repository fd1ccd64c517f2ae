package merge

import (
	"cmp"
	"math/bits"
	"slices"

	"proudsieve/core/table"
)

// keyIndex finds the rows with a key by its hash: they lie in buckets of a few, by the first bits of the hash, which are as
// good as drawn.
type keyIndex struct {
	rows   []table.HashedRow
	shift  int      // of the bits that name a bucket
	starts []uint32 // of each bucket, and the end of the last
}

const (
	// inBucket is how many rows a bucket holds on the average.
	inBucket = 4
	// mostBuckets bounds what the index takes beside the rows.
	mostBuckets = 22 // bits
)

func (x *keyIndex) bucket(h table.Hash) uint32 {
	if x.shift == 64 {
		return 0
	}
	return uint32(h.Hi >> x.shift)
}

func compareKeys(a, b table.HashedRow) int {
	return cmp.Or(cmp.Compare(a.Hash.Hi, b.Hash.Hi), cmp.Compare(a.Hash.Lo, b.Hash.Lo), cmp.Compare(a.Row, b.Row))
}

// sort puts the rows into their buckets, in place, and in order there: those with one key by their numbers (McIlroy, Bostic
// and McIlroy, "Engineering radix sort", 1993, the American flag sort).
func (x *keyIndex) sort() {
	named := min(max(bits.Len(uint(len(x.rows)/inBucket)), 0), mostBuckets)
	x.shift = 64 - named
	x.starts = make([]uint32, 1<<named+1)
	for _, row := range x.rows {
		x.starts[x.bucket(row.Hash)+1]++
	}
	for i := 1; i < len(x.starts); i++ {
		x.starts[i] += x.starts[i-1]
	}
	next := slices.Clone(x.starts[:len(x.starts)-1])
	for b := range next {
		for next[b] < x.starts[b+1] {
			row := x.rows[next[b]]
			of := x.bucket(row.Hash)
			if int(of) == b {
				next[b]++
				continue
			}
			x.rows[next[b]], x.rows[next[of]] = x.rows[next[of]], row
			next[of]++
		}
	}
	for b := range next {
		slices.SortFunc(x.rows[x.starts[b]:x.starts[b+1]], compareKeys)
	}
}

// find returns the rows with a hash, ascending.
func (x *keyIndex) find(h table.Hash) []table.HashedRow {
	if len(x.rows) == 0 {
		return nil
	}
	b := x.bucket(h)
	all := x.rows[x.starts[b]:x.starts[b+1]]
	from := 0
	if len(all) > 4*inBucket { // one of the keys is there very often
		from, _ = slices.BinarySearchFunc(all, h, func(row table.HashedRow, h table.Hash) int {
			return cmp.Or(cmp.Compare(row.Hash.Hi, h.Hi), cmp.Compare(row.Hash.Lo, h.Lo))
		})
	}
	for from < len(all) && all[from].Hash != h {
		if from++; len(all) > 4*inBucket {
			return nil
		}
	}
	to := from
	for to < len(all) && all[to].Hash == h {
		to++
	}
	return all[from:to]
}

// groups visits the rows of each key.
func (x *keyIndex) groups(visit func([]table.HashedRow) bool) {
	for from := 0; from < len(x.rows); {
		to := from + 1
		for to < len(x.rows) && x.rows[to].Hash == x.rows[from].Hash {
			to++
		}
		if !visit(x.rows[from:to]) {
			return
		}
		from = to
	}
}

// reduce leaves one row of each key.
func (x *keyIndex) reduce(choose func([]table.HashedRow) table.HashedRow) {
	kept := x.rows[:0]
	for group := range x.groups {
		kept = append(kept, choose(group))
	}
	x.rows = kept
	x.sort()
}
