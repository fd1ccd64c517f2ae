package audit

import (
	"cmp"
	"maps"
	"math/bits"
	"slices"

	"proudsieve/core/table"
)

// findTogether counts which columns miss together.
func (s *stretch) findTogether(b *table.Batch) {
	words := (len(b.Columns) + 63) / 64
	if cap(s.masks) < b.Len()*words {
		s.masks = make([]uint64, b.Len()*words*5/4)
	}
	masks := s.masks[:b.Len()*words]
	clear(masks)
	any := false
	for c := range b.Columns {
		column := &s.columns[c]
		if !column.anyMissing {
			continue
		}
		any = true
		at, bit := c/64, uint64(1)<<(c%64)
		for i, code := range b.Columns[c].Codes {
			if column.missing[code] {
				masks[i*words+at] |= bit
			}
		}
	}
	if !any {
		s.together.add(make([]uint64, words), int64(b.Len()))
		return
	}
	if words == 1 {
		s.together.addAll(masks)
		return
	}
	for i := 0; i < len(masks); i += words {
		s.together.add(masks[i:i+words], 1)
	}
}

// together counts the sets of columns that miss together, up to a cap.
type together struct {
	counts map[string]int64
	more   bool
	key    []byte
}

const (
	setsKept  = 4096
	setsShown = 40
)

func (p *together) add(mask []uint64, rows int64) {
	p.key = p.key[:0]
	for _, w := range mask {
		for w := w; ; w >>= 8 {
			p.key = append(p.key, byte(w))
			if len(p.key)%8 == 0 {
				break
			}
		}
	}
	p.count(string(p.key), rows)
}

// addAll adds one row for each mask of a single word, those of one kind together.
func (p *together) addAll(masks []uint64) {
	var met [64]struct {
		mask uint64
		rows int64
	}
	for _, mask := range masks {
		m := &met[mask*0x9E3779B97F4A7C15>>58]
		if m.mask != mask && m.rows > 0 {
			p.add([]uint64{m.mask}, m.rows)
			m.rows = 0
		}
		m.mask = mask
		m.rows++
	}
	for _, m := range met {
		if m.rows > 0 {
			p.add([]uint64{m.mask}, m.rows)
		}
	}
}

func (p *together) count(key string, rows int64) {
	if p.counts == nil {
		p.counts = map[string]int64{}
	}
	if _, known := p.counts[key]; !known && len(p.counts) >= setsKept {
		p.more = true
		return
	}
	p.counts[key] += rows
}

func (p *together) merge(o *together) {
	p.more = p.more || o.more
	for _, key := range slices.Sorted(maps.Keys(o.counts)) {
		p.count(key, o.counts[key])
	}
}

func (p *together) result(names []string) (out []MissingSet, more bool) {
	out = []MissingSet{}
	for key, rows := range p.counts {
		one := MissingSet{Missing: []string{}, Rows: rows}
		for at := range len(key) {
			for w := key[at]; w != 0; w &= w - 1 {
				one.Missing = append(one.Missing, names[at*8+bits.TrailingZeros8(w)])
			}
		}
		out = append(out, one)
	}
	slices.SortFunc(out, func(a, b MissingSet) int {
		return cmp.Or(cmp.Compare(b.Rows, a.Rows), slices.Compare(a.Missing, b.Missing))
	})
	return out[:min(len(out), setsShown)], p.more || len(out) > setsShown
}
