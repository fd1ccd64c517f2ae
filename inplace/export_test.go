package inplace

// ListAtMost lowers how many different texts are listed, and returns what undoes it.
func ListAtMost(n int) (undo func()) {
	was := listedMost
	listedMost = n
	return func() { listedMost = was }
}
