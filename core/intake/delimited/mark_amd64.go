package delimited

import (
	"math"
	"unsafe"

	"golang.org/x/sys/cpu"

	"proudsieve/core/table"
)

var vectors = cpu.X86.HasAVX2 && cpu.X86.HasBMI1 && cpu.X86.HasBMI2

// markBlocks is markWords with AVX2 instructions, which look at 32 bytes at once; it returns
// 0 where the bytes are clean. There must be one block or more.
//
//go:noescape
func markBlocks(into *uint64, data *byte, blocks int, delimiter byte) (odd uint32)

func mark(into []uint64, data []byte, delimiter byte) (clean bool) {
	if len(into) == 0 || !vectors {
		return markWords(into, data, delimiter)
	}
	_ = data[len(into)*64-1]
	return markBlocks(&into[0], &data[0], len(into), delimiter) == 0
}

// splitting is what splitPlain works on.
type splitting struct {
	marks   *uint64
	data    *byte
	first   *span
	end     uintptr      // where the records end, which is no place in them
	tokens  *table.Token // of the first cell of the first record
	stride  uintptr      // bytes from the token of one cell to that of the next
	width   uint64       // cells that a record must have
	lineEnd byte
	parts   *[2*(longestInline+1) + 1]table.Token // inlineParts
}

// splitPlain is split for one record after the other, up to the first one that is none of
// so many cells. It returns how many bytes of spans it has worked through.
//
//go:noescape
func splitPlain(s *splitting) (bytes uintptr)

// longestInline is table.InlineLength, for splitPlain.
const longestInline = table.InlineLength

// inlineParts are, for texts of each length, the bytes that they have, then the lengths as
// tokens hold them, and last what tells a place in a token.
var inlineParts = func() (parts [2*(longestInline+1) + 1]table.Token) {
	const lengths = longestInline + 1
	var all [16]byte
	for i := range all {
		all[i] = math.MaxUint8
	}
	for n := range lengths {
		length := table.InlineToken(new([16]byte), uint32(n))
		parts[n] = table.InlineToken(&all, uint32(n))
		parts[n].Hi ^= length.Hi
		parts[lengths+n] = length
	}
	parts[2*lengths].Lo = table.Placed(0, 0).Hi
	return parts
}()

// splitAll is split for the records from the first one on; it returns how many were plain
// and had the right number of cells.
func (m delimiters) splitAll(data padded, records []span, lineEnd byte, tokens []table.Token, first, rows int) int {
	if !vectors {
		return m.splitEach(data, records, lineEnd, tokens, first, rows)
	}
	records = records[first:]
	if len(records) == 0 {
		return 0
	}
	const size = unsafe.Sizeof(span{})
	s := splitting{marks: &m[0], data: &data.ahead()[0], first: &records[0], end: uintptr(unsafe.Pointer(&records[0])) +
		uintptr(len(records))*size,
		tokens: &tokens[first], stride: uintptr(rows) * unsafe.Sizeof(table.Token{}), width: uint64(len(tokens) / rows),
		parts: &inlineParts, lineEnd: lineEnd}
	return int(splitPlain(&s) / size)
}
