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
