//go:build !amd64

package profile

// lookASCII looks at a text, and says that it is wide where it has a byte beyond ASCII.
func lookASCII(text string, into *looked) { lookWords(text, into) }
