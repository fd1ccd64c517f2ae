//go:build !amd64

package delimited

import "proudsieve/core/table"

func mark(into []uint64, data []byte, delimiter byte) (clean bool) {
	return markWords(into, data, delimiter)
}

func (m delimiters) splitAll(data padded, records []span, lineEnd byte, tokens []table.Token, first, rows int) int {
	return m.splitEach(data, records, lineEnd, tokens, first, rows)
}
