// Package layout holds the tests of the tree itself: which package may know which, in Go and in
// the console's source.
package layout
