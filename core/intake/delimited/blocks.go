package delimited

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"sync"

	"proudsieve/core/table"
)

// A format that is read by columns hands out its cells as it has them, in blocks of rows: put into records they would have to be
// taken out again. What comes of them is what comes of the text that it is turned into otherwise.

// Block is consecutive rows of a format that is read by columns.
type Block struct {
	Rows    int
	Columns []table.Cells // UTF-8; Clean where no cell has a NUL

	tokens [][]table.Token // their memory, and that of their Data
	data   [][]byte
}

var blockPool sync.Pool

// NewBlock returns a block of so many columns and rows, whose cells have to be set, all of them. Its memory may have been in use
// before.
func NewBlock(columns, rows int) *Block {
	b, ok := blockPool.Get().(*Block)
	if !ok || len(b.Columns) != columns {
		b = &Block{Columns: make([]table.Cells, columns), tokens: make([][]table.Token, columns), data: make([][]byte, columns)}
	}
	b.Rows = rows
	for c := range b.Columns {
		b.tokens[c] = slices.Grow(b.tokens[c][:0], rows)[:rows]
		b.Columns[c] = table.Cells{Tokens: b.tokens[c], Data: b.data[c][:0], Clean: true}
	}
	return b
}

// Release gives the memory of a block back, which is of no use any more.
func (b *Block) Release() {
	for c := range b.Columns {
		b.data[c] = b.Columns[c].Data
		b.Columns[c] = table.Cells{}
	}
	blockPool.Put(b)
}

// Blocks hands out the rows of a table in blocks.
type Blocks interface {
	// Next returns the next rows, or io.EOF; it is called by one goroutine.
	Next() (*Block, error)
	Close() error
}

// blockParts are the parts of a table that is read by columns.
type blockParts struct {
	ctx    context.Context
	text   *Text
	blocks Blocks
	at     Checkpoint
	sent   bool
}

func (t *Text) openBlocks(ctx context.Context) (table.Parts, error) {
	blocks, err := t.Blocks(ctx)
	if err != nil {
		return nil, err
	}
	return &blockParts{ctx: ctx, text: t, blocks: blocks, at: t.Body}, nil
}

// Close implements table.Parts.
func (p *blockParts) Close() error { return p.blocks.Close() }

// Next implements table.Parts.
func (p *blockParts) Next() (table.Part, error) {
	if err := p.ctx.Err(); err != nil {
		return nil, err
	}
	part := &blockPart{text: p.text, first: p.at}
	if !p.sent {
		part.header = slices.Clip(p.text.Defects)
	}
	block, err := p.blocks.Next()
	if errors.Is(err, io.EOF) && len(part.header) > 0 { // a header and nothing else still has its defects
		p.sent, part.block = true, &Block{Columns: make([]table.Cells, len(p.text.Names))}
		return part, nil
	}
	if err != nil {
		return nil, err
	}
	if len(block.Columns) != len(p.text.Names) {
		return nil, fmt.Errorf("a block has %d columns of %d", len(block.Columns), len(p.text.Names))
	}
	if uint64(p.at.Row)+uint64(block.Rows) > table.MaxRows {
		return nil, fmt.Errorf("line %d: %w", p.at.Line, ErrTooMany)
	}
	part.block, p.sent = block, true
	p.at.Row += uint32(block.Rows)
	p.at.Line += int64(block.Rows)
	if p.text.OnProgress != nil {
		p.text.OnProgress(0, int64(p.at.Row)-1)
	}
	return part, nil
}

// blockPart is a block as a table.Part.
type blockPart struct {
	text   *Text
	first  Checkpoint
	block  *Block
	header []table.Defect
}

// Span implements table.Part.
func (p *blockPart) Span() (uint32, int) { return p.first.Row, p.block.Rows }

// Batch implements table.Part.
func (p *blockPart) Batch(shared []*table.Dictionary) (*table.Batch, error) {
	rows := p.block.Rows
	b := &table.Batch{Defects: p.header, Columns: make([]table.Column, len(p.block.Columns)), Offset: -1}
	if rows == 0 {
		return b, nil
	}
	b.Rows, b.Lines = make([]uint32, rows), make([]int64, rows)
	for i := range b.Rows {
		b.Rows[i], b.Lines[i] = p.first.Row+uint32(i), p.first.Line+int64(i)
	}
	for c := range b.Columns {
		p.tooLong(b, c)
	}
	p.text.columns(b, shared, func(c int) table.Cells { return p.block.Columns[c] })
	if shared == nil {
		p.block.Release()
	} else {
		b.Done = p.block.Release // the batch and the dictionaries use it until then
	}
	return b, nil
}

// tooLong tells of the cells of a column that are longer than one may be.
func (p *blockPart) tooLong(b *table.Batch, c int) {
	cells := &p.block.Columns[c]
	if len(cells.Data) <= cellLimit && len(cells.Extra) <= cellLimit {
		return
	}
	for i := range cells.Tokens {
		if n := cells.Length(i); n > cellLimit {
			p.text.defect(b, i, table.CellTooLong, c, strconv.Itoa(n)+" bytes")
		}
	}
}
