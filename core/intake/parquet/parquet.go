// Package parquet reads Apache Parquet. Members of groups become columns by their dotted
// path, as in JSON; repeated values stand in one cell as a JSON array. Dates and times
// are written as ISO 8601 has them, decimals with their scale, bytes that are no text
// in hexadecimal.
package parquet

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"math/big"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/format"

	"proudsieve/core/intake/content"
	"proudsieve/core/intake/delimited"
	"proudsieve/core/table"
)

// reader reads Apache Parquet.
type reader struct {
	open  content.Opening
	names []string
}

func init() {
	content.Register(content.Format{
		Name: "parquet", Title: "Parquet", Because: "it starts with the four bytes of the format", Place: 40,
		Sure:       true,
		Recognises: func(head []byte) bool { return bytes.HasPrefix(head, []byte("PAR1")) },
		Converter:  func(c *content.Content, _ string) content.Converter { return &reader{open: c.Places} },
	})
}

// Streams implements content.Streaming.
func (*reader) Streams() {}

// ErrParquet says that a Parquet file is damaged.
var ErrParquet = errors.New("the Parquet file is damaged or cut off; ask its provider to send it again")

func (p *reader) file(ctx context.Context, f func(*parquet.File) error) (err error) {
	at, size, done, err := content.RandomAccess(ctx, p.open)
	if err != nil {
		return err
	}
	defer done()
	defer func() { // the library trusts what a damaged file says of itself
		if broken := recover(); broken != nil {
			err = fmt.Errorf("%w (%v)", ErrParquet, broken)
		}
	}()
	if err := soundFooter(at, size); err != nil {
		return fmt.Errorf("%w (%w)", ErrParquet, err)
	}
	file, err := parquet.OpenFile(at, size, parquet.SkipBloomFilters(true), parquet.SkipPageIndex(true))
	if err != nil {
		return fmt.Errorf("%w (%w)", ErrParquet, err)
	}
	if err := soundPages(at, file); err != nil {
		return fmt.Errorf("%w (a page: %w)", ErrParquet, err)
	}
	return f(file)
}

// Columns implements content.Columned.
func (p *reader) Columns(ctx context.Context) ([]string, error) {
	p.names = nil
	err := p.file(ctx, func(file *parquet.File) error {
		for _, path := range file.Schema().Columns() {
			p.names = append(p.names, strings.Join(path, "."))
		}
		if len(p.names) > content.ColumnLimit {
			return delimited.ErrTooMany
		}
		return nil
	})
	return p.names, err
}

// Convert implements content.Converter. Records are numbered from 1, since the file has no lines.
func (p *reader) Convert(ctx context.Context, to *content.Records) error {
	var (
		lines []byte
		room  [16]byte
	)
	return p.Blocks(ctx, func(b *delimited.Block) error {
		lines = lines[:0]
		for row := range b.Rows {
			for c := range b.Columns {
				lines = append(content.AppendCell(lines, b.Columns[c].Bytes(row, &room), len(b.Columns) == 1), ',')
			}
			lines[len(lines)-1] = '\n'
		}
		n := b.Rows
		b.Release()
		return to.WriteLines(lines, n)
	})
}

// Blocks implements content.Columnar.
func (p *reader) Blocks(ctx context.Context, take func(*delimited.Block) error) error {
	return p.file(ctx, func(file *parquet.File) error {
		r := blocks{rows: rowsFirst, take: take}
		for _, path := range file.Schema().Columns() {
			leaf, ok := file.Schema().Lookup(path...)
			if !ok {
				return fmt.Errorf("%w (it has no column %s)", ErrParquet, strings.Join(path, "."))
			}
			r.kinds = append(r.kinds, kindOf(leaf))
		}
		for _, group := range file.RowGroups() {
			if err := r.group(ctx, group); err != nil {
				return err
			}
		}
		return nil
	})
}

// kindOf returns how the cells of a column are written.
func kindOf(leaf parquet.LeafColumn) cellKind {
	bare, logical := leaf.Node.Type().Kind(), leaf.Node.Type().LogicalType()
	kind := cellKind{write: textOf(logical), text: bare == parquet.ByteArray || bare == parquet.FixedLenByteArray, plain: true, scale: -1,
		repeated: leaf.MaxRepetitionLevel > 0, present: byte(leaf.MaxDefinitionLevel)}
	if logical == nil {
		kind.scale = 0
		return kind
	}
	switch of := logical.Value.(type) {
	case *format.DecimalType:
		kind.plain, kind.scale = false, int(of.Scale)
	case *format.UUIDType:
		kind.plain = false
	case *format.DateType:
		kind.days = true
	case *format.IntType:
		if of.IsSigned {
			kind.scale = 0
		}
	}
	return kind
}

// textOf returns how the values of a logical type are written.
func textOf(t *format.LogicalType) func(to []byte, v parquet.Value) []byte {
	if t != nil {
		switch kind := t.Value.(type) {
		case *format.DateType:
			return func(to []byte, v parquet.Value) []byte { return table.AppendDate(to, int64(v.Int32())) }
		case *format.TimestampType:
			unit := kind.Unit.Value.Duration()
			return func(to []byte, v parquet.Value) []byte { return appendInstant(to, v.Int64(), unit) }
		case *format.DecimalType:
			return func(to []byte, v parquet.Value) []byte { return appendDecimal(to, v, int(kind.Scale)) }
		case *format.IntType:
			if !kind.IsSigned {
				return func(to []byte, v parquet.Value) []byte {
					if v.Kind() == parquet.Int32 {
						return strconv.AppendUint(to, uint64(v.Uint32()), 10)
					}
					return strconv.AppendUint(to, v.Uint64(), 10)
				}
			}
		case *format.UUIDType:
			return func(to []byte, v parquet.Value) []byte {
				h := hex.EncodeToString(v.ByteArray())
				if len(h) != 32 {
					return append(to, h...)
				}
				return append(to, h[:8]+"-"+h[8:12]+"-"+h[12:16]+"-"+h[16:20]+"-"+h[20:]...)
			}
		}
	}
	return func(to []byte, v parquet.Value) []byte {
		switch v.Kind() {
		case parquet.Int32:
			return strconv.AppendInt(to, int64(v.Int32()), 10)
		case parquet.Int64:
			return strconv.AppendInt(to, v.Int64(), 10)
		case parquet.Float:
			return strconv.AppendFloat(to, float64(v.Float()), 'f', -1, 32)
		case parquet.Double:
			return strconv.AppendFloat(to, v.Double(), 'f', -1, 64)
		case parquet.Int96:
			return appendInt96(to, v)
		case parquet.ByteArray, parquet.FixedLenByteArray:
			raw := v.ByteArray()
			if !utf8.Valid(raw) {
				return hex.AppendEncode(to, raw)
			}
			return append(to, raw...)
		}
		return append(to, v.String()...)
	}
}

// appendInstant writes a point in time given in units since 1970. What is finer than a microsecond keeps all of its digits.
func appendInstant(to []byte, n int64, unit time.Duration) []byte {
	per := int64(time.Second / unit)
	seconds, rest := n/per, n%per
	if rest < 0 {
		seconds, rest = seconds-1, rest+per
	}
	nanos := rest * int64(unit)
	if most := int64(1 << 40); nanos%1000 != 0 || seconds < -most || seconds > most {
		return time.Unix(seconds, nanos).UTC().AppendFormat(to, "2006-01-02 15:04:05.999999999")
	}
	return table.AppendInstant(to, seconds*1_000_000+nanos/1000)
}

// appendInt96 reads the old way to write points in time: nanoseconds of a day, and its Julian number.
func appendInt96(to []byte, v parquet.Value) []byte {
	raw := v.Int96()
	nanos := int64(raw[1])<<32 | int64(raw[0])
	const julianOf1970 = 2440588
	return appendInstant(to, (int64(raw[2])-julianOf1970)*86_400_000_000+nanos/1000, time.Microsecond)
}

func appendDecimal(to []byte, v parquet.Value, scale int) []byte {
	n := new(big.Int)
	switch v.Kind() {
	case parquet.Int32:
		return table.DecimalOf(int64(v.Int32()), scale).Append(to)
	case parquet.Int64:
		if c := v.Int64(); c > -1e18 && c < 1e18 && scale <= 18 {
			return table.DecimalOf(c, scale).Append(to)
		}
		n.SetInt64(v.Int64())
	default: // two's complement, the highest byte first
		raw := v.ByteArray()
		n.SetBytes(raw)
		if len(raw) > 0 && raw[0]&0x80 != 0 {
			n.Sub(n, new(big.Int).Lsh(big.NewInt(1), uint(8*len(raw))))
		}
	}
	return table.DecimalFromBig(n, scale).Append(to)
}
