package relation

import (
	"slices"

	"proudsieve/core/rulebook"
	"proudsieve/core/table"
)

// identities are what the cells of some columns are one thing with others by, each text worked out once for a stretch. Values are
// not read for it where the text itself says enough.
type identities struct {
	at     []int
	cells  []*rulebook.Cells
	levels func(cell *rulebook.Cell, text string) string // nil where they are what they are
	known  [][]identity                                  // per column, per code
	// of the rows of the batch that was hashed last
	hashes  []table.Hash
	lacking []bool
}

type identity struct {
	token   table.Token
	missing bool
}

// identities makes a reader; levels, where it is not nil, makes texts the same that differ in case, spaces, accents and punctuation
// alone.
func (t *Table) identities(at []int, levels func(cell *rulebook.Cell, text string) string) *identities {
	d := &identities{at: at, levels: levels, known: make([][]identity, len(at))}
	for _, c := range at {
		d.cells = append(d.cells, t.Book.Cells(t.Source.Columns()[c]))
	}
	return d
}

// read implements reader.
func (d *identities) read(b *table.Batch) {
	for i, c := range d.at {
		texts := b.Columns[c].Texts
		for code := len(d.known[i]); code < len(texts); code++ {
			d.known[i] = append(d.known[i], d.of(i, texts[code]))
		}
	}
}

func (d *identities) of(i int, text string) identity {
	if d.levels == nil {
		token, missing := d.cells[i].IdentityToken(text)
		return identity{token, missing}
	}
	cell := d.cells[i].Read(text)
	return identity{table.TokenOf(d.levels(&cell, text)), cell.Missing}
}

// foldedText is the identity of a cell, folded where that is a text.
func foldedText(cell *rulebook.Cell, text string) string {
	own := cell.Identity(text)
	if cell.Value.Kind == table.Text || cell.Value.Kind == table.Missing {
		if folded := table.Fold(own); folded != "" {
			return folded
		}
	}
	return own
}

// folded is the identity of a cell, folded whatever it is.
func folded(cell *rulebook.Cell, text string) string {
	own := cell.Identity(text)
	if folded := table.Fold(own); folded != "" {
		return folded
	}
	return own
}

// forget implements reader.
func (d *identities) forget(column int) {
	if i := slices.Index(d.at, column); i >= 0 {
		d.known[i] = d.known[i][:0]
	}
}

// hash hashes the identities of columns, which are some of at, for each row of a batch, and says which rows lack one of them; both are
// good until the next time.
func (d *identities) hash(b *table.Batch, columns []int) (hashes []table.Hash, lacking []bool) {
	d.hashes, d.lacking = slices.Grow(d.hashes[:0], b.Len())[:b.Len()], slices.Grow(d.lacking[:0], b.Len())[:b.Len()]
	clear(d.hashes)
	clear(d.lacking)
	for _, c := range columns {
		known := d.known[slices.Index(d.at, c)]
		for k, code := range b.Columns[c].Codes {
			one := &known[code]
			d.hashes[k] = table.With(d.hashes[k], one.token)
			d.lacking[k] = d.lacking[k] || one.missing
		}
	}
	return d.hashes, d.lacking
}
