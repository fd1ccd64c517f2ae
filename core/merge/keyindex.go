package merge

import (
	"cmp"
	"math/bits"
	"runtime"
	"slices"

	"proudsieve/core/budget"
	"proudsieve/core/guard"
	"proudsieve/core/table"
)

// keyIndex finds the rows with a key by its hash. They lie in parts by the first bits of the hash, and there in buckets of a few by
// the next ones, which are as good as drawn.
type keyIndex struct {
	gathered table.HashedRows // until they are sorted
	taken    int              // how many of them are in memory
	parts    []indexed
	rows     int
	// spilled are rows that there was no memory for, and disk the index then; nil where all are in memory.
	spilled *spilledKeys
	disk    *diskIndex
}

// indexed are the rows of one part of a keyIndex.
type indexed struct {
	rows   []table.HashedRow
	first  int      // rows of the parts before
	shift  int      // of the bits that name a bucket
	starts []uint32 // of each bucket, and the end of the last
}

const (
	// inBucket is how many rows a bucket holds on the average.
	inBucket = 4
	// mostBuckets bounds what a part takes beside its rows.
	mostBuckets = 16 // bits
)

func (x *indexed) bucket(h table.Hash) uint32 {
	return uint32(h.Hi << table.PartitionBits >> x.shift)
}

func compareKeys(a, b table.HashedRow) int {
	return cmp.Or(cmp.Compare(a.Hash.Hi, b.Hash.Hi), cmp.Compare(a.Hash.Lo, b.Hash.Lo), cmp.Compare(a.Row, b.Row))
}

// take adds rows that were hashed.
func (x *keyIndex) take(rows *table.HashedRows) {
	x.taken += rows.Len()
	x.gathered.Merge(rows)
}

// sort puts the rows that were taken into their buckets, and in order there: those with one key by their numbers.
func (x *keyIndex) sort(workers int, share *budget.Share) error {
	if x.spilled != nil {
		return x.sortSpilled(share)
	}
	x.parts = make([]indexed, 1<<table.PartitionBits)
	x.each(workers, func(p *indexed, at int) {
		p.rows = x.gathered.Release(at)
		p.sort()
	})
	x.count()
	return nil
}

// count numbers the parts' rows.
func (x *keyIndex) count() {
	x.rows = 0
	for i := range x.parts {
		x.parts[i].first = x.rows
		x.rows += len(x.parts[i].rows)
	}
}

// each has the parts worked on, several at once.
func (x *keyIndex) each(workers int, work func(p *indexed, at int)) {
	next := make(chan int, len(x.parts))
	for at := range x.parts {
		next <- at
	}
	close(next)
	var group guard.Group
	for range max(workers, 1) {
		group.Go(func() error {
			for at := range next {
				work(&x.parts[at], at)
			}
			return nil
		})
	}
	_ = group.Wait() // nothing in it fails
}

// sort puts the rows of a part into their buckets, in place, each row where it belongs in turn (McIlroy, Bostic and McIlroy,
// "Engineering radix sort", 1993, the American flag sort).
func (x *indexed) sort() {
	named := min(bits.Len(uint(len(x.rows)/inBucket)), mostBuckets)
	x.shift = 64 - named
	x.starts = part(x.rows, 1<<named, x.bucket)
	for b := range 1 << named {
		slices.SortFunc(x.rows[x.starts[b]:x.starts[b+1]], compareKeys)
	}
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

// partOf is the part that a hash is in.
func (x *keyIndex) partOf(h table.Hash) *indexed { return &x.parts[h.Hi>>(64-table.PartitionBits)] }

// find returns the rows with a hash, ascending.
func (x *keyIndex) find(h table.Hash) ([]table.HashedRow, error) {
	if x.disk != nil {
		return x.disk.find(h)
	}
	found, _ := x.place(h)
	return found, nil
}

// findAll finds the rows of some hashes. Buckets are found first, and their rows asked for, so that no hash waits for the one before.
func (x *keyIndex) findAll(hashes []table.Hash, found [][]table.HashedRow) (err error) {
	if x.disk != nil {
		for i, h := range hashes {
			if found[i], err = x.disk.find(h); err != nil {
				return err
			}
		}
		return nil
	}
	const atOnce = 64
	touched := uint64(0)
	for from := 0; from < len(hashes); from += atOnce {
		some := hashes[from:min(from+atOnce, len(hashes))]
		var starts [atOnce]uint32
		for i, h := range some {
			p := x.partOf(h)
			starts[i] = p.starts[p.bucket(h)]
		}
		for i, h := range some {
			if p := x.partOf(h); int(starts[i]) < len(p.rows) {
				touched ^= p.rows[starts[i]].Hash.Lo
			}
		}
		for i, h := range some {
			found[from+i], _ = x.place(h)
		}
	}
	runtime.KeepAlive(touched) // so that the loads for it are not thought needless
	return nil
}

// place returns the rows with a hash of those that are in memory, and where the first of them stands among all.
func (x *keyIndex) place(h table.Hash) ([]table.HashedRow, int) {
	p := x.partOf(h)
	if len(p.rows) == 0 {
		return nil, 0
	}
	b := p.bucket(h)
	all := p.rows[p.starts[b]:p.starts[b+1]]
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
	return all[from:to], p.first + int(p.starts[b]) + from
}

// groups visits the rows of each key, in the order of their hashes.
func (x *keyIndex) groups(visit func([]table.HashedRow) bool) error {
	if x.disk != nil {
		return x.disk.groups(func(_ int, rows []table.HashedRow) (bool, error) { return visit(rows), nil })
	}
	for i := range x.parts {
		rows := x.parts[i].rows
		for from := 0; from < len(rows); {
			to := from + 1
			for to < len(rows) && rows[to].Hash == rows[from].Hash {
				to++
			}
			if !visit(rows[from:to]) {
				return nil
			}
			from = to
		}
	}
	return nil
}

// reduce leaves one row of each key.
func (x *keyIndex) reduce(workers int, choose func([]table.HashedRow) table.HashedRow) (err error) {
	if x.disk != nil {
		x.disk, err = x.disk.reduce(choose)
		return err
	}
	kept := make([]int, len(x.parts))
	at := 0
	err = x.groups(func(group []table.HashedRow) bool {
		for at < len(x.parts) && int(group[0].Hash.Hi>>(64-table.PartitionBits)) != at {
			at++
		}
		x.parts[at].rows[kept[at]] = choose(group)
		kept[at]++
		return true
	})
	x.each(workers, func(p *indexed, at int) {
		p.rows = p.rows[:kept[at]]
		p.sort()
	})
	x.count()
	return err
}
