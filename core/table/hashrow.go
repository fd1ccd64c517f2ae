package table

// WithTexts adds texts to a hash.
func WithTexts(h Hash, texts []string) Hash {
	for _, text := range texts {
		h = With(h, TokenOf(text))
	}
	return h
}

// HashRow hashes all the cells of row i as they stand, those beyond the header's too.
func HashRow(b *Batch, i int) Hash {
	var h Hash
	for c := range b.Columns {
		h = With(h, TokenOf(b.Columns[c].At(i)))
	}
	return WithTexts(h, b.Surplus[i])
}

// RowHasher returns HashRow for the rows of a batch, which looks at each text once.
func RowHasher(b *Batch) func(i int) Hash {
	tokens := make([][]Token, len(b.Columns))
	for c := range b.Columns {
		tokens[c] = make([]Token, len(b.Columns[c].Texts))
		for code, text := range b.Columns[c].Texts {
			tokens[c][code] = TokenOf(text)
		}
	}
	return func(i int) Hash {
		var h Hash
		for c := range tokens {
			h = With(h, tokens[c][b.Columns[c].Codes[i]])
		}
		return WithTexts(h, b.Surplus[i])
	}
}
