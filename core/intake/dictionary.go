package intake

import (
	"bytes"
	"unicode/utf8"

	"github.com/zeebo/xxh3"
	"golang.org/x/text/encoding/charmap"

	"proudsieve/core/table"
)

// dictionary gives each distinct raw text of a column within one part its code, in
// the order in which they are met. It is a hash table with open addressing over one
// buffer of bytes, since looking texts up is most of the work of reading.
type dictionary struct {
	marks  *charmap.Charmap // nil for UTF-8
	slots  []uint32         // code + 1, or 0; a power of two, at most half full
	hashes []uint64         // per code
	raw    []byte           // the raw texts, one after the other
	ends   []int            // where each ends in raw
	wrong  []table.DefectKind
}

const firstSlots = 256

func newDictionary(marks *charmap.Charmap) *dictionary {
	return &dictionary{marks: marks, slots: make([]uint32, firstSlots)}
}

// code returns the code of a raw text, and what is wrong with its bytes, if anything.
func (d *dictionary) code(raw []byte) (uint32, table.DefectKind) {
	hash := xxh3.Hash(raw)
	mask := uint64(len(d.slots) - 1)
	at := hash & mask
	for ; d.slots[at] != 0; at = (at + 1) & mask {
		code := d.slots[at] - 1
		if d.hashes[code] == hash && bytes.Equal(d.text(code), raw) {
			return code, d.wrong[code]
		}
	}
	code := uint32(len(d.ends))
	d.slots[at] = code + 1
	d.hashes = append(d.hashes, hash)
	d.raw = append(d.raw, raw...)
	d.ends = append(d.ends, len(d.raw))
	d.wrong = append(d.wrong, d.judge(raw))
	if len(d.ends)*2 > len(d.slots) {
		d.grow()
	}
	return code, d.wrong[code]
}

func (d *dictionary) text(code uint32) []byte {
	start := 0
	if code > 0 {
		start = d.ends[code-1]
	}
	return d.raw[start:d.ends[code]]
}

func (d *dictionary) grow() {
	d.slots = make([]uint32, 2*len(d.slots))
	mask := uint64(len(d.slots) - 1)
	for code, hash := range d.hashes {
		at := hash & mask
		for d.slots[at] != 0 {
			at = (at + 1) & mask
		}
		d.slots[at] = uint32(code) + 1
	}
}

func (d *dictionary) judge(raw []byte) table.DefectKind {
	if d.marks == nil && !utf8.Valid(raw) {
		return table.BadBytes
	}
	if d.marks != nil {
		if _, clean := decode(d.marks, raw); !clean {
			return table.BadBytes
		}
	}
	if bytes.IndexByte(raw, 0) >= 0 {
		return table.NulByte
	}
	return ""
}

// texts decodes the texts, in the order of their codes.
func (d *dictionary) texts() []string {
	out := make([]string, len(d.ends))
	all := string(d.raw) // one allocation for all the texts that need no decoding
	for code, end := range d.ends {
		start := 0
		if code > 0 {
			start = d.ends[code-1]
		}
		if out[code] = all[start:end]; d.marks != nil || d.wrong[code] == table.BadBytes {
			out[code], _ = decode(d.marks, d.raw[start:end])
		}
	}
	return out
}
