package inplace

// ListAtMost lowers how many different texts are listed, and returns what undoes it.
func ListAtMost(n int) (undo func()) {
	was := listedMost
	listedMost = n
	return func() { listedMost = was }
}

// Quoted is a text as the SQL of an engine has it, and a name.
func Quoted(engineName, text string) (literal, name string, err error) {
	d := dialects[engineName]
	literal, err = d.quote(text)
	return literal, d.name(text), err
}
