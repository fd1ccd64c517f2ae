package table

import (
	"encoding/binary"
	"strings"
)

// The first byte of an ordered key: values before texts that are none of their type, and what is missing last.
const (
	orderedValue = iota + 1
	orderedMistyped
	orderedMissing
)

// AppendOrdered appends bytes to a key that are ordered as the values of one type are: numbers by their value however many
// digits they have, dates beside datetimes by their instant, texts by their bytes. What is missing comes last, whether
// descending or not, and before it the texts that are no value of the type, by their bytes; text is that of the cell.
func AppendOrdered(key []byte, v Value, text string, descending bool) []byte {
	from := len(key) + 1
	switch {
	case v.Mistyped():
		key = appendText(append(key, orderedMistyped), text)
	case v.Kind == Missing:
		return append(key, orderedMissing)
	case v.Kind == Number:
		key = appendNumber(append(key, orderedValue), v.Number)
	case v.Kind == Boolean:
		key = append(key, orderedValue, byte(truth(v.True)))
	case v.Kind == Date:
		key = appendWhole(append(key, orderedValue), v.When*microsPerDay)
	case v.Kind == Instant:
		key = appendWhole(append(key, orderedValue), v.When)
	default:
		key = appendText(append(key, orderedValue), v.Text)
	}
	if descending {
		invert(key[from:])
	}
	return key
}

func invert(key []byte) {
	for i := range key {
		key[i] = ^key[i]
	}
}

func appendWhole(key []byte, n int64) []byte {
	return binary.BigEndian.AppendUint64(key, uint64(n)^1<<63)
}

// appendText ends a text in two zeros, and marks those inside it, so that a text comes before all that begin with it.
func appendText(key []byte, text string) []byte {
	for i := range len(text) {
		key = append(key, text[i])
		if text[i] == 0 {
			key = append(key, 0xFF)
		}
	}
	return append(key, 0, 0)
}

// appendNumber writes the sign, how many digits stand before the point (less than none for 0.001), and the digits.
func appendNumber(key []byte, d Decimal) []byte {
	sign := d.Sign()
	if sign == 0 {
		return append(key, 1)
	}
	digits := strings.TrimLeft(d.Abs().Shortest(), "0")
	whole, fraction, _ := strings.Cut(digits, ".")
	exponent := int64(len(whole))
	if whole == "" {
		bare := strings.TrimLeft(fraction, "0")
		exponent, fraction = int64(len(bare)-len(fraction)), bare
	}
	key = append(key, byte(1+sign))
	from := len(key)
	key = appendWhole(key, exponent)
	key = append(append(key, strings.TrimRight(whole+fraction, "0")...), 0)
	if sign < 0 {
		invert(key[from:])
	}
	return key
}
