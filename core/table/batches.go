package table

import (
	"context"
	"sync"

	"proudsieve/core/guard"
)

// batchParts is how many parts make the n-th batch of ScanBatches: few at first, so that the workers of a small table all
// have some.
func batchParts(columns int) func(n int) int {
	longest := max(32*usualColumns/max(columns, usualColumns), 1)
	return func(n int) int { return min(4<<min(n/2, 3), longest) }
}

// ScanBatches is Scan with parts put together to larger batches, whose columns have one dictionary each, so that what is
// done once for a text is done less often. Where batches begin depends on the bytes alone.
func ScanBatches[T any](ctx context.Context, source Source, workers int, work func(*Batch) (T, error),
	take func(T) error) error {
	columns := len(source.Columns())
	one := func(parts <-chan Part) (value T, err error) {
		g := gatheringOf(columns)
		for part := range parts {
			if err = g.add(ctx, part); err != nil {
				return value, err
			}
		}
		defer guard.Slot(ctx)()
		return work(g.whole())
	}
	return scan(ctx, source, batchParts(columns), workers, one, take)
}

// gathering puts the batches of parts together.
type gathering struct {
	dictionaries []*Dictionary
	batch        Batch
	columns      []gatheredColumn
	before       int // rows of the batch before, which tell how many there will be
}

// gatheredColumn is a column of the batches so far.
type gatheredColumn struct {
	texts []string // where nearly all of them are different: those of all parts; of others the dictionary has them
	codes []uint32
}

var gatherings sync.Pool

func gatheringOf(columns int) *gathering {
	if g, ok := gatherings.Get().(*gathering); ok && len(g.dictionaries) == columns {
		return g
	}
	g := &gathering{columns: make([]gatheredColumn, columns)}
	for range columns {
		g.dictionaries = append(g.dictionaries, NewDictionary())
	}
	return g
}

func (g *gathering) add(ctx context.Context, part Part) error {
	defer guard.Slot(ctx)()
	b, err := part.Batch(g.dictionaries)
	if err != nil {
		return err
	}
	first := len(g.batch.Rows)
	if first == 0 {
		g.batch.Rows, g.batch.Lines = make([]uint32, 0, g.before), make([]int64, 0, g.before)
	}
	for c := range b.Columns {
		d, into := g.dictionaries[c], &g.columns[c]
		column := b.Columns[c]
		if !sameTexts(column.Texts, d.Texts) {
			column = d.Adopt(column)
		}
		if first == 0 {
			into.codes = codesRooms.take(g.before)[:0]
		}
		if !d.Apart {
			into.codes = append(into.codes, column.Codes...)
			continue
		}
		offset := uint32(len(into.texts))
		into.texts = append(into.texts, column.Texts...)
		for _, code := range column.Codes {
			into.codes = append(into.codes, code+offset)
		}
	}
	g.batch.Rows, g.batch.Lines = append(g.batch.Rows, b.Rows...), append(g.batch.Lines, b.Lines...)
	for at, cells := range b.Surplus {
		if g.batch.Surplus == nil {
			g.batch.Surplus = map[int][]string{}
		}
		g.batch.Surplus[first+at] = cells
	}
	g.batch.Defects = append(g.batch.Defects, b.Defects...)
	g.batch.SetAside += b.SetAside
	g.batch.Closing = append(g.batch.Closing, b.Closing...)
	if first == 0 {
		g.batch.Offset = b.Offset
	}
	if b.Done != nil {
		b.Done()
	}
	for c, d := range g.dictionaries {
		if !d.Apart && MostlyNew(len(d.Texts), len(g.batch.Rows), len(g.columns)) {
			g.columns[c].texts, d.Apart = append(textsRooms.take(max(g.before, len(d.Texts)))[:0], d.Texts...), true
		}
	}
	return nil
}

// whole returns the batch, and gives the dictionaries back.
func (g *gathering) whole() *Batch {
	b := g.batch
	b.Columns = make([]Column, len(g.columns))
	for c, d := range g.dictionaries {
		texts := g.columns[c].texts
		if !d.Apart {
			texts = append(textsRooms.take(len(d.Texts))[:0], d.Texts...)
		}
		b.Columns[c] = Column{Texts: texts, Codes: g.columns[c].codes}
		d.Reset()
	}
	g.before = len(b.Rows)
	g.batch = Batch{}
	clear(g.columns)
	gatherings.Put(g)
	return &b
}

// rooms are pieces of memory that are used again: they are large, and would be cleared each time.
type rooms[T any] struct{ pool sync.Pool }

// take returns room for n, whatever stands there.
func (r *rooms[T]) take(n int) []T {
	if room, ok := r.pool.Get().(*[]T); ok && cap(*room) >= n {
		return (*room)[:n]
	}
	return make([]T, n, n+n/8)
}

func (r *rooms[T]) give(room []T) {
	if cap(room) > 0 {
		r.pool.Put(&room)
	}
}

var (
	codesRooms  rooms[uint32]
	textsRooms  rooms[string]
	tokensRooms rooms[Token]
	hashesRooms rooms[Hash]
	bytesRooms  rooms[byte]
)

// NewColumn returns a column of so many texts and rows, whose contents have to be set, all of them.
func NewColumn(texts, rows int) Column { return Column{textsRooms.take(texts), codesRooms.take(rows)} }

// Recycle gives back the memory of columns that came from ScanBatches or NewColumn, once nothing uses them any more; the
// texts themselves stay good.
func Recycle(columns []Column) {
	for c := range columns {
		textsRooms.give(columns[c].Texts)
		codesRooms.give(columns[c].Codes)
	}
}

// TokensRoom returns room for so many tokens, whatever stands there.
func TokensRoom(n int) []Token { return tokensRooms.take(n) }

// RecycleTokens gives back what came of TokensRoom, once nothing uses it any more.
func RecycleTokens(room []Token) { tokensRooms.give(room) }

// HashesRoom returns room for so many hashes, all of them zero: those of no texts.
func HashesRoom(n int) []Hash {
	room := hashesRooms.take(n)
	clear(room)
	return room
}

// RecycleHashes gives back what came of HashesRoom, once nothing uses it any more.
func RecycleHashes(room []Hash) { hashesRooms.give(room) }

// BytesRoom returns empty room for bytes.
func BytesRoom() []byte { return bytesRooms.take(0) }

// RecycleBytes gives back what came of BytesRoom, once nothing uses it any more.
func RecycleBytes(room []byte) { bytesRooms.give(room) }
