package intake

import "golang.org/x/sys/cpu"

// markBlocks is markWords with AVX2 instructions, which look at 32 bytes at once; it returns
// 0 where the bytes are clean. There must be one block or more.
//
//go:noescape
func markBlocks(into *uint64, data *byte, blocks int, delimiter byte) (odd uint32)

func mark(into []uint64, data []byte, delimiter byte) (clean bool) {
	if len(into) == 0 || !cpu.X86.HasAVX2 {
		return markWords(into, data, delimiter)
	}
	_ = data[len(into)*64-1]
	return markBlocks(&into[0], &data[0], len(into), delimiter) == 0
}
