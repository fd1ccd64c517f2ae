//go:build !amd64

package intake

// mark writes the marks of blocks of 64 bytes each, one or more.
func mark(into []uint64, data []byte, delimiter byte) { markWords(into, data, delimiter) }
