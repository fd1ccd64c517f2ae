package intake

import "golang.org/x/sys/cpu"

// markBlocks writes the marks of one block or more, which start at data, with AVX2
// instructions: 32 bytes are compared at once.
//
//go:noescape
func markBlocks(into *uint64, data *byte, blocks int, delimiter byte)

// mark writes the marks of blocks of 64 bytes each, one or more.
func mark(into []uint64, data []byte, delimiter byte) {
	if cpu.X86.HasAVX2 {
		_ = data[len(into)*64-1]
		markBlocks(&into[0], &data[0], len(into), delimiter)
		return
	}
	markWords(into, data, delimiter)
}
