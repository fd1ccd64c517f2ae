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

// HashRows is HashRow for all rows of a batch, a column after the other; the hashes may go to RecycleHashes.
func HashRows(b *Batch) []Hash {
	hashes := HashesRoom(b.Len())
	for c := range b.Columns {
		tokens := TokensRoom(len(b.Columns[c].Texts))
		for code, text := range b.Columns[c].Texts {
			tokens[code] = TokenOf(text)
		}
		HashColumn(hashes, tokens, b.Columns[c].Codes)
		RecycleTokens(tokens)
	}
	for i, cells := range b.Surplus {
		hashes[i] = WithTexts(hashes[i], cells)
	}
	return hashes
}

// HashColumn adds the cells of a column, given by the tokens of its codes, to the hashes of the rows.
func HashColumn(hashes []Hash, tokens []Token, codes []uint32) {
	for i, code := range codes[:len(hashes)] {
		hashes[i] = With(hashes[i], tokens[code])
	}
}
