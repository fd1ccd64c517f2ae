// Package scratch makes files for what is too much for memory.
package scratch

import "os"

// File makes a file of the temporary directory that has no name any more: it is gone when it is closed, or the process ends.
// what says what it holds, in a word.
func File(what string) (*os.File, error) {
	f, err := os.CreateTemp("", "proudsieve-"+what+"-*")
	if err != nil {
		return nil, err
	}
	_ = os.Remove(f.Name())
	return f, nil
}
