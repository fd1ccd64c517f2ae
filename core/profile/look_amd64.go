package profile

import (
	"unsafe"

	"golang.org/x/sys/cpu"
)

var vectors = cpu.X86.HasAVX2 && cpu.X86.HasBMI1 && cpu.X86.HasBMI2 && cpu.X86.HasPOPCNT

// vectorBytes is how many bytes lookVectors looks at together, and reads, whatever stands after the text.
const vectorBytes = 32

// lookVectors is lookWords with AVX2 instructions, for a text that is not empty.
//
//go:noescape
func lookVectors(text *byte, length int, into *looked, constants *[8]byte, places *[256][8]byte)

// lookConstants are broadcast by lookVectors.
var lookConstants = [8]byte{' ', '0' - 1, '9', '9' + 1, 'a' - 1, 'z' + 1, 'A', 0x7F}

// packingPlaces are, for each choice of eight bytes, where they stand, as VPSHUFB has it.
var packingPlaces = func() (all [256][8]byte) {
	for which := range all {
		n := 0
		for i := range 8 {
			if which>>i&1 != 0 {
				all[which][n] = byte(i)
				n++
			}
		}
		for ; n < 8; n++ {
			all[which][n] = 0x80
		}
	}
	return all
}()

// lookASCII looks at a text, and says that it is wide where it has a byte beyond ASCII.
func lookASCII(text string, into *looked) {
	// The last bytes are read with those after them, which must not lie on another page.
	start := uintptr(unsafe.Pointer(unsafe.StringData(text)))
	last := start + uintptr(len(text)-1)/vectorBytes*vectorBytes
	const page = 4096
	if !vectors || len(text) == 0 || (last+vectorBytes-1)/page != (start+uintptr(len(text)-1))/page {
		lookWords(text, into)
		return
	}
	lookVectors(unsafe.StringData(text), len(text), into, &lookConstants, &packingPlaces)
}
