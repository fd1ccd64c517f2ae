package audit

import (
	"cmp"
	"encoding/binary"
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

// together counts the sets of columns that miss together, up to a cap: in a table of up to 64 columns by a bit for each, in others by
// those bits as text.
type together struct {
	few    map[uint64]int64
	counts map[string]int64
	more   bool
	key    []byte
}

const (
	setsKept  = 4096
	setsShown = 40
)

func (p *together) add(mask []uint64, rows int64) {
	if len(mask) == 1 {
		p.addFew(mask[0], rows)
		return
	}
	p.key = p.key[:0]
	for _, w := range mask {
		p.key = binary.LittleEndian.AppendUint64(p.key, w)
	}
	p.count(string(p.key), rows)
}

// addFew is add for a mask of a single word.
func (p *together) addFew(mask uint64, rows int64) {
	if p.few == nil {
		p.few = map[uint64]int64{}
	}
	if _, known := p.few[mask]; !known && len(p.few) >= setsKept {
		p.more = true
		return
	}
	p.few[mask] += rows
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
			p.addFew(m.mask, m.rows)
			m.rows = 0
		}
		m.mask = mask
		m.rows++
	}
	for _, m := range met {
		if m.rows > 0 {
			p.addFew(m.mask, m.rows)
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
	// in the order of their bits from the first column on
	inOrder := func(a, b uint64) int { return cmp.Compare(bits.ReverseBytes64(a), bits.ReverseBytes64(b)) }
	for _, mask := range slices.SortedFunc(maps.Keys(o.few), inOrder) {
		p.addFew(mask, o.few[mask])
	}
	for _, key := range slices.Sorted(maps.Keys(o.counts)) {
		p.count(key, o.counts[key])
	}
}

func (p *together) result(names []string) (out []MissingSet, more bool) {
	out = []MissingSet{}
	tell := func(key []byte, rows int64) {
		one := MissingSet{Missing: []string{}, Rows: rows}
		for at := range len(key) {
			for w := key[at]; w != 0; w &= w - 1 {
				one.Missing = append(one.Missing, names[at*8+bits.TrailingZeros8(w)])
			}
		}
		out = append(out, one)
	}
	for mask, rows := range p.few {
		tell(binary.LittleEndian.AppendUint64(nil, mask), rows)
	}
	for key, rows := range p.counts {
		tell([]byte(key), rows)
	}
	slices.SortFunc(out, func(a, b MissingSet) int {
		return cmp.Or(cmp.Compare(b.Rows, a.Rows), slices.Compare(a.Missing, b.Missing))
	})
	return out[:min(len(out), setsShown)], p.more || len(out) > setsShown
}
