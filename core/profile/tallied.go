package profile

import (
	"encoding/binary"
	"math/bits"
	"unsafe"

	"proudsieve/core/table"
)

// tallied is a hash table of texts with the rows they stand in. It has no pointers but to the memory of texts that their
// tokens do not hold, since a table of hundreds of columns has millions of them.
type tallied struct {
	// known are the texts in the order in which they came, in chunks that have chunkSize of them but for the last, so that
	// no text is copied when there are more of them.
	known [][]counted
	count int
	slots []slot // a power of two, at most half of them taken
	shift uint8  // that leaves as many bits of a hash as there are slots
	texts arena
	// fetched is written so that the loads for it are not thought needless.
	fetched uint32
}

type counted struct {
	token table.Token
	rows  uint32 // a table has fewer rows than that holds
	at    uint32 // in the arena, of a text that its token does not hold
}

// slot is the index of a text + 1, and above it some bits of its hash, so that other texts are mostly told without a look at
// the text; 0 where it is free.
type slot uint32

const (
	indexBits = 17 // enough for distinctCap
	indexMask = 1<<indexBits - 1
)

// marked returns the bits of a hash that stand above the index; those that say where to look first are others.
func marked(h uint64) slot { return slot(h << indexBits) }

const (
	firstTallied = 64
	chunkBits    = 10
	chunkSize    = 1 << chunkBits
)

// at returns a tally by its index.
func (t *tallied) at(i uint32) *counted { return &t.known[i>>chunkBits][i%chunkSize] }

// each hands out the tallies in the order in which the texts came.
func (t *tallied) each(f func(one *counted)) {
	for _, chunk := range t.known {
		for i := range chunk {
			f(&chunk[i])
		}
	}
}

// expect fetches from memory what finding texts with these hashes will look at first.
func (t *tallied) expect(hashes []uint64) {
	if len(t.slots) == 0 {
		return
	}
	fetched := slot(0)
	for _, h := range hashes {
		fetched |= t.slots[t.slot(h)]
	}
	rows := uint32(fetched)
	for _, h := range hashes {
		if at := t.slots[t.slot(h)]; at != 0 && at&^indexMask == marked(h) {
			rows |= t.at(uint32(at&indexMask - 1)).rows
		}
	}
	t.fetched |= rows
}

// slot returns where a text is looked for first.
func (t *tallied) slot(h uint64) uint64 { return h >> (t.shift & 63) }

// placedText is where a text stands that its token does not hold.
type placedText struct {
	texts *arena
	at    uint32
	own   bool // texts is that of the table itself
}

func (p placedText) text() string { return p.texts.text(p.at) }

// find returns the tally of a text, or nil.
func (t *tallied) find(token table.Token, h uint64, long placedText) *counted {
	if len(t.slots) == 0 {
		return nil
	}
	mask, mark := uint64(len(t.slots)-1), marked(h)
	for at := t.slot(h); t.slots[at] != 0; at = (at + 1) & mask {
		if t.slots[at]&^indexMask != mark {
			continue
		}
		if one := t.at(uint32(t.slots[at]&indexMask - 1)); one.token == token && (token.Inline() || t.text(one) == long.text()) {
			return one
		}
	}
	return nil
}

// put adds a text that find does not find.
func (t *tallied) put(token table.Token, h uint64, long placedText, rows uint32) {
	if 2*(t.count+1) > len(t.slots) {
		t.grow()
	}
	one := counted{token: token, rows: rows}
	switch {
	case token.Inline():
	case long.own:
		one.at = long.at
	default:
		one.at = t.texts.keep(long.text())
	}
	last := t.count >> chunkBits
	if last == len(t.known) {
		size := chunkSize
		if last == 0 {
			size = firstTallied / 2 // a table may have thousands of columns
		}
		t.known = append(t.known, make([]counted, 0, size))
	}
	t.known[last] = append(t.known[last], one)
	t.count++
	t.place(h, uint32(t.count))
}

func (t *tallied) place(h uint64, index uint32) {
	mask := uint64(len(t.slots) - 1)
	at := t.slot(h)
	for t.slots[at] != 0 {
		at = (at + 1) & mask
	}
	t.slots[at] = marked(h) | slot(index)
}

func (t *tallied) grow() {
	t.slots = make([]slot, max(4*len(t.slots), firstTallied))
	t.shift = uint8(bits.LeadingZeros64(uint64(len(t.slots) - 1)))
	index := uint32(0)
	t.each(func(one *counted) {
		index++
		t.place(hashOf(one.token), index)
	})
}

// text returns the text of a tally.
func (t *tallied) text(one *counted) string {
	if one.token.Inline() {
		return one.token.Text("")
	}
	return t.texts.text(one.at)
}

// arena keeps texts in blocks, each after its length.
type arena struct{ blocks [][]byte }

// arenaBlock is how many bytes a block has, but that of a longer text; a place in the arena is that of its block in the
// upper half, and where in it in the lower one.
const arenaBlock = 1 << 16

func (a *arena) keep(text string) (at uint32) {
	need := 4 + len(text)
	last := len(a.blocks) - 1
	if last < 0 || need > cap(a.blocks[last])-len(a.blocks[last]) {
		size := arenaBlock
		if last < 0 {
			size = arenaBlock / 64 // a table may have thousands of columns
		} else if last < 6 {
			size = cap(a.blocks[last]) * 2
		}
		a.blocks = append(a.blocks, make([]byte, 0, max(min(size, arenaBlock), need)))
		last++
	}
	block := a.blocks[last]
	at = uint32(last)<<16 | uint32(len(block))
	block = binary.LittleEndian.AppendUint32(block, uint32(len(text)))
	a.blocks[last] = append(block, text...)
	return at
}

// adopt takes over the texts of another arena, which is empty then, and returns what is to be added to their places.
func (a *arena) adopt(o *arena) (base uint32) {
	base = uint32(len(a.blocks)) << 16
	a.blocks = append(a.blocks, o.blocks...)
	o.blocks = nil
	return base
}

// reset forgets the texts and keeps the memory of one block.
func (a *arena) reset() {
	for i := range a.blocks {
		if i > 0 || cap(a.blocks[i]) > arenaBlock {
			a.blocks[i] = nil
		}
	}
	if len(a.blocks) > 0 && a.blocks[0] != nil {
		a.blocks = a.blocks[:1]
		a.blocks[0] = a.blocks[0][:0]
		return
	}
	a.blocks = a.blocks[:0]
}

func (a *arena) text(at uint32) string {
	block := a.blocks[at>>16]
	start := at & (arenaBlock - 1)
	length := binary.LittleEndian.Uint32(block[start:])
	if length == 0 {
		return ""
	}
	return unsafe.String(&block[start+4], length) // blocks are only ever appended to within their capacity
}
