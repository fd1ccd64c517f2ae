package merge

import (
	"cmp"
	"math/bits"
	"slices"

	"proudsieve/core/guard"
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

// sort puts the rows into their buckets, in place, and in order there: those with one key by their numbers. They are parted
// twice, so that the second time all of a part is near (McIlroy, Bostic and McIlroy, "Engineering radix sort", 1993, the
// American flag sort).
func (x *keyIndex) sort(workers int) {
	named := min(bits.Len(uint(len(x.rows)/inBucket)), mostBuckets)
	x.shift = 64 - named
	x.starts = make([]uint32, 1<<named+1)
	coarse := max(named-8, 0) // bits that are left for the second time
	parts := part(x.rows, 1<<(named-coarse), func(h table.Hash) uint32 { return x.bucket(h) >> coarse })
	var group guard.Group
	next := make(chan int, len(parts))
	for at := range len(parts) - 1 {
		next <- at
	}
	close(next)
	for range max(workers, 1) {
		group.Go(func() error {
			for at := range next {
				first := uint32(at) << coarse
				rows := x.rows[parts[at]:parts[at+1]]
				for i, start := range part(rows, 1<<coarse, func(h table.Hash) uint32 { return x.bucket(h) - first })[1:] {
					x.starts[int(first)+i+1] = parts[at] + start
				}
				for i := range 1 << coarse {
					b := int(first) + i
					from := parts[at]
					if i > 0 {
						from = x.starts[b]
					}
					slices.SortFunc(x.rows[from:x.starts[b+1]], compareKeys)
				}
			}
			return nil
		})
	}
	_ = group.Wait() // nothing in it fails
}

// part puts rows into so many parts by what names the part of a hash, and returns where each begins and the last one ends.
func part(rows []table.HashedRow, parts int, name func(table.Hash) uint32) []uint32 {
	starts := make([]uint32, parts+1)
	for _, row := range rows {
		starts[name(row.Hash)+1]++
	}
	for i := 1; i < len(starts); i++ {
		starts[i] += starts[i-1]
	}
	next := slices.Clone(starts[:parts])
	for p := range next {
		for next[p] < starts[p+1] {
			row := rows[next[p]]
			of := name(row.Hash)
			if int(of) == p {
				next[p]++
				continue
			}
			rows[next[p]], rows[next[of]] = rows[next[of]], row
			next[of]++
		}
	}
	return starts
}

// find returns the rows with a hash, ascending.
func (x *keyIndex) find(h table.Hash) []table.HashedRow {
	found, _ := x.place(h)
	return found
}

// place returns the rows with a hash, and where the first of them stands.
func (x *keyIndex) place(h table.Hash) ([]table.HashedRow, int) {
	if len(x.rows) == 0 {
		return nil, 0
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
			return nil, 0
		}
	}
	to := from
	for to < len(all) && all[to].Hash == h {
		to++
	}
	return all[from:to], int(x.starts[b]) + from
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
func (x *keyIndex) reduce(workers int, choose func([]table.HashedRow) table.HashedRow) {
	kept := x.rows[:0]
	for group := range x.groups {
		kept = append(kept, choose(group))
	}
	x.rows = kept
	x.sort(workers)
}
