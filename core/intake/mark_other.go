//go:build !amd64

package intake

func mark(into []uint64, data []byte, delimiter byte) (clean bool) {
	return markWords(into, data, delimiter)
}
