package delimited

import "sync"

// readAhead is how many bytes after a part are read with it: it is looked at in blocks of 64,
// and cells are taken 16 bytes at a time, in assembly as in Go.
const readAhead = 64

// padded are bytes that have readAhead more in their memory, whatever stands there.
type padded struct{ memory []byte } // readAhead longer than the bytes

var buffers sync.Pool

// paddedOf returns room for so many bytes.
func paddedOf(size int) padded {
	if b, ok := buffers.Get().(*[]byte); ok && cap(*b) >= size+readAhead {
		return padded{(*b)[:size+readAhead]}
	}
	return padded{make([]byte, size+readAhead)}
}

func (p padded) len() int { return max(len(p.memory)-readAhead, 0) }

// bytes returns the bytes alone.
func (p padded) bytes() []byte { return p.memory[:p.len()] }

// ahead returns the bytes with those after them.
func (p padded) ahead() []byte { return p.memory }

// first returns so many bytes from the start; those after them stay where they are.
func (p padded) first(size int) padded { return padded{p.memory[:size+readAhead]} }

// release gives the memory back; the bytes are of no use any more.
func (p *padded) release() {
	if memory := p.memory; memory != nil {
		p.memory = nil
		buffers.Put(&memory)
	}
}
