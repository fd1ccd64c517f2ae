package parquet

import (
	"bytes"
	"unicode/utf8"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/encoding"

	"proudsieve/core/table"
)

// pageCells makes the cells of those values of a page that are there.
type pageCells interface {
	// left is how many values were not taken yet.
	left() int
	// next makes as many cells as there are tokens.
	next(tokens []table.Token, into *table.Cells) error
}

// cellsOf returns how the cells of a page are made that has its values in one piece; nil of others, whose values are taken one by one.
func (c *column) cellsOf(page parquet.Page) (pageCells, error) {
	values := page.Data()
	if d := page.Dictionary(); d != nil {
		known, err := c.known.of(d, &c.cellKind)
		return &indexes{known, values.Int32()}, err
	}
	switch values.Kind() {
	case encoding.Int32:
		return &numbers[int32]{values.Int32(), c, parquet.Int32Value}, nil
	case encoding.Int64:
		return &numbers[int64]{values.Int64(), c, parquet.Int64Value}, nil
	case encoding.ByteArray:
		if data, ends := values.ByteArray(); c.plain && len(ends) > 0 {
			return &texts{data, ends, c}, nil
		}
	}
	return nil, nil
}

// dictionary is the cells of the values of a dictionary.
type dictionary struct {
	values parquet.Dictionary
	cells  []table.Token // long ones stand in longer
	longer []byte
	nul    bool // a value has a NUL
}

// of makes the cells of a dictionary, unless they are those at hand.
func (k *dictionary) of(values parquet.Dictionary, kind *cellKind) (*dictionary, error) {
	if k.values == values {
		return k, nil
	}
	*k = dictionary{values: values, cells: make([]table.Token, values.Len())}
	for i := range k.cells {
		start := len(k.longer)
		k.longer = kind.write(k.longer, values.Index(int32(i)))
		if len(k.longer) >= table.ExtraBit {
			return k, errSize
		}
		k.nul = k.nul || kind.text && bytes.IndexByte(k.longer[start:], 0) >= 0
		k.longer, k.cells[i] = tokenOf(k.longer, start, table.ExtraBit)
	}
	return k, nil
}

// indexes are values by their places in a dictionary.
type indexes struct {
	*dictionary
	places []int32
}

func (p *indexes) left() int { return len(p.places) }

func (p *indexes) next(tokens []table.Token, into *table.Cells) error {
	for i, place := range p.places[:len(tokens)] {
		tokens[i] = p.cells[place]
	}
	p.places = p.places[len(tokens):]
	into.Extra, into.Clean = p.longer, into.Clean && !p.nul
	return nil
}

// numbers are whole numbers, and what is kept as such: dates, points in time, decimals.
type numbers[T int32 | int64] struct {
	values []T
	column *column
	value  func(T) parquet.Value
}

func (p *numbers[T]) left() int { return len(p.values) }

func (p *numbers[T]) next(tokens []table.Token, into *table.Cells) (err error) {
	for i, n := range p.values[:len(tokens)] {
		ok := false
		if p.column.scale >= 0 {
			tokens[i], ok = table.TokenOfNumber(int64(n), p.column.scale)
		} else if p.column.days {
			tokens[i], ok = table.TokenOfDay(int64(n))
		}
		if ok {
			continue
		}
		if tokens[i], err = p.column.meet(into, int64(n), p.value(n)); err != nil {
			return err
		}
	}
	p.values = p.values[len(tokens):]
	return nil
}

// meet makes the cell of a number, unless it was met not long ago.
func (c *column) meet(into *table.Cells, number int64, v parquet.Value) (table.Token, error) {
	if c.met == nil {
		c.met = make([]metNumber, 1<<metBits)
	}
	met := &c.met[uint64(number)*0x9E3779B97F4A7C15>>(64-metBits)]
	if met.cell == (table.Token{}) || met.number != number || met.block != c.block && !met.cell.Inline() {
		cell, err := c.put(into, v)
		if err != nil {
			return cell, err
		}
		*met = metNumber{number, cell, c.block}
	}
	return met.cell, nil
}

const metBits = 10

// metNumber is a number that was met, with its cell; where that is a long one it stands in the bytes of a block.
type metNumber struct {
	number int64
	cell   table.Token
	block  int32
}

// texts are bytes, one text after the other, that are written as they stand where they are UTF-8.
type texts struct {
	data   []byte
	ends   []uint32 // one more than there are texts: where each begins, and the last one ends
	column *column
}

func (p *texts) left() int { return len(p.ends) - 1 }

func (p *texts) next(tokens []table.Token, into *table.Cells) error {
	for i := range tokens {
		start, end := p.ends[i], p.ends[i+1]
		raw := p.data[start:end]
		if len(raw) <= table.InlineLength && len(p.data)-int(start) >= table.TokenSlack {
			t := table.InlineToken((*[16]byte)(p.data[start:]), uint32(len(raw)))
			if len(raw) == 0 || t.Plain() || utf8.Valid(raw) && bytes.IndexByte(raw, 0) < 0 {
				tokens[i] = t
				continue
			}
		}
		cell, err := p.column.put(into, parquet.ByteArrayValue(raw))
		if err != nil {
			return err
		}
		tokens[i] = cell
	}
	p.ends = p.ends[len(tokens):]
	return nil
}
