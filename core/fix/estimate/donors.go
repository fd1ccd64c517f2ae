package estimate

import (
	"cmp"
	"slices"
	"sync/atomic"
)

// Gathering gathers donors, at most so many of them. Those of several workers can be put together: the donors that are kept
// are those whose hash of seed and row is lowest, whoever has met them, so each row is as likely to be kept as any other.
type Gathering struct {
	seed uint64
	most int
	kept []Donor
	met  int64
	// beyond is a hash above which no donor can be kept any more; parts look at it while others are joined.
	beyond atomic.Uint64
}

// NewGathering returns a gathering of at most so many donors; most is at least 1.
func NewGathering(seed uint64, most int) *Gathering {
	g := &Gathering{seed: seed, most: most}
	g.beyond.Store(^uint64(0))
	return g
}

// Part returns an empty gathering that passes over the rows that cannot be among the donors of g any more, to be joined to
// it. It may be called by several goroutines, also while another part is joined.
func (g *Gathering) Part() *Gathering {
	part := NewGathering(g.seed, g.most)
	part.beyond.Store(g.beyond.Load())
	return part
}

// Wants says whether a row can still be among the donors, before its record is put together; it counts the row as met.
func (g *Gathering) Wants(row int64) bool {
	g.met++
	return mix(g.seed, uint64(row)) <= g.beyond.Load()
}

// Add keeps a donor whose row is wanted.
func (g *Gathering) Add(d Donor) {
	g.kept = append(g.kept, d)
	if len(g.kept) >= 2*g.most {
		g.cut()
	}
}

// Join adds what another has gathered with the same seed and the same cap.
func (g *Gathering) Join(other *Gathering) {
	g.met += other.met
	g.kept = append(g.kept, other.kept...)
	g.cut()
}

func (g *Gathering) cut() {
	if len(g.kept) <= g.most {
		return
	}
	slices.SortFunc(g.kept, func(a, b Donor) int {
		return cmp.Or(cmp.Compare(mix(g.seed, uint64(a.Row)), mix(g.seed, uint64(b.Row))), cmp.Compare(a.Row, b.Row))
	})
	clear(g.kept[g.most:])
	g.kept = g.kept[:g.most]
	g.beyond.Store(min(g.beyond.Load(), mix(g.seed, uint64(g.kept[g.most-1].Row))))
}

// Donors returns the donors in the order of their rows, and how many rows had a value.
func (g *Gathering) Donors() (donors []Donor, met int64) {
	g.cut()
	donors = slices.Clone(g.kept)
	slices.SortFunc(donors, func(a, b Donor) int { return cmp.Compare(a.Row, b.Row) })
	return donors, g.met
}
